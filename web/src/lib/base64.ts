import { t } from '@lingui/core/macro'

/** The content of a file as the service takes it. */
export function base64(file: File): Promise<string> {
  return new Promise((done, failed) => {
    const reader = new FileReader()
    reader.onload = () => done(String(reader.result).replace(/^data:[^,]*,/, ''))
    reader.onerror = () => failed(reader.error ?? new Error(t`${file.name} cannot be read`))
    reader.readAsDataURL(file)
  })
}
