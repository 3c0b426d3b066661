// What was chosen on somebody's machine; it may be moved or changed before it is read.
import { t } from '@lingui/core/macro'

export const unreadable = (file: File) => t`${file.name} cannot be read any more. Choose it again.`

/** The text of a file. */
export const textOf = (file: File): Promise<string> => file.text().catch(() => { throw new Error(unreadable(file)) })

/** The content of a file as the service takes it. */
export function base64(file: File): Promise<string> {
  return new Promise((done, failed) => {
    const reader = new FileReader()
    reader.onload = () => done(String(reader.result).replace(/^data:[^,]*,/, ''))
    reader.onerror = () => failed(new Error(unreadable(file)))
    reader.readAsDataURL(file)
  })
}

/** Puts files into an input that has none, as if they had been chosen there. */
export function choose(input: HTMLInputElement, files: File[]) {
  if (files.length === 0 || input.files?.length) return
  const chosen = new DataTransfer()
  for (const f of files) chosen.items.add(f)
  input.files = chosen.files
}
