import { useNavigate, useParams } from 'react-router'
import { Head } from '../parts/Head.js'
import { Failed, Waiting } from '../parts/States.js'
import { useForm, useRecord } from '../records.js'
import { EntryForm } from './EntryForm.js'

export function EntryEditPage() {
  const id = Number(useParams()['id'])
  const go = useNavigate()
  const { record, isLoading, error, retry } = useRecord('entries', id, { access: true })
  const form = useForm('entries', { record, onSaved: () => go(`/journal/${id}`) })
  if (isLoading) return <Waiting />
  if (!record) return <Failed text={error?.message ?? 'It is not there.'} onRetry={retry} />
  return (
    <>
      <Head title="Edit an entry" />
      <EntryForm form={form} back={`/journal/${id}`} />
    </>
  )
}
