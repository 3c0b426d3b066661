import { t } from '@lingui/core/macro'
import { useEffect, useRef, useState } from 'react'
import { useNavigate } from 'react-router'
import { Problem, type Schemas } from '../../api/client'
import { useAddClient, useAddClientFile, useMakeTable } from '../../api/hooks'
import { base64 } from '../../lib/files'
import { withFilesSent, type Given } from './cellFiles'

/** Makes the sites of a table, once the clients have the files that its cells name. When the page is left before, nothing is made. */
export function useMaking(onBegun: () => void) {
  const make = useMakeTable()
  const addFile = useAddClientFile()
  const addClient = useAddClient()
  const go = useNavigate()
  const [says, say] = useState('')
  const [error, setError] = useState<Error | null>(null)
  const left = useRef(false)
  useEffect(() => {
    left.current = false
    return () => { left.current = true }
  }, [])
  const send = async (client: string, file: File) => {
    const content = await base64(file)
    const add = () => addFile.mutateAsync({ client, name: file.name, content })
    try {
      return (await add()).value
    } catch (e) {
      if (!(e instanceof Problem) || e.status !== 404) throw new Error(`${client}, ${file.name}: ${(e as Error).message}`)
      await addClient.mutateAsync({ name: client, settings: {} })
      return (await add()).value
    }
  }
  return {
    says, error, busy: says !== '',
    make: async (table: Schemas['NewTable'], fields: Schemas['Field'][], given: Given) => {
      setError(null)
      say(t`Beginning`)
      try {
        const rows = await withFilesSent(table.rows, fields, given, send, () => left.current, (sent, all) => say(t`Sending file ${sent + 1} of ${all}`))
        if (left.current) return
        const run = await make.mutateAsync({ ...table, rows })
        onBegun()
        if (!left.current) void go(`/runs/${run.id}`)
      } catch (e) {
        setError(e as Error)
      } finally {
        say('')
      }
    },
  }
}
