import { filter } from 'pachter/client'
import { useNavigate, useSearchParams } from 'react-router'
import { Head } from '../parts/Head.js'
import { useForm, useList, useSession } from '../records.js'
import { EntryForm } from './EntryForm.js'

export function NewEntryPage() {
  const { caller } = useSession()
  const go = useNavigate()
  const [parameters] = useSearchParams()
  const me = Number(caller['id'] ?? 0)
  const own = useList('plots', { filter: filter`holderId eq ${me}`, fields: ['number'] })
  const given = Number(parameters.get('plot')) || own.records[0]?.id
  const form = useForm('entries', {
    values: { audience: 'members', ...(given !== undefined && { plotId: given }) },
    onSaved: ({ id }) => go(`/journal/${id}`),
  })
  return (
    <>
      <Head title="Write an entry" lead="You can share it with single members once it is there." />
      <EntryForm form={form} isNew back="/" />
    </>
  )
}
