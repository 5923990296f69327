/** @jsxImportSource react */
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { createClient } from 'pachter/client'
import { forReact } from 'pachter/react'
import { createRoot } from 'react-dom/client'
import { model, rules } from './rules.js'

const { useRecord, useForm } = forReact(createClient({ model, rules, signIn: null }))
const TYPED = [
  'text',
  'choice',
  'integer',
  'bigInteger',
  'decimal',
  'float',
  'timestamp',
  'date',
  'time',
  'uuid',
] as const
const CHOSEN = ['texts', 'bigIntegers'] as const
const asked = new URLSearchParams(location.search)
/** Inputs that let everything be typed. */
const plain = asked.has('plain') && { type: 'text' }

/** A form with an input for every field that one can write: the record that the address names, or a new one. */
function Sample() {
  const id = asked.get('id')
  const { record } = useRecord('samples', id === null ? undefined : BigInt(id), { access: true })
  const form = useForm('samples', id === null ? { values: { id: 99n } } : { record })
  return (
    <form onSubmit={(event) => void form.save(event)}>
      {TYPED.map((name) => (
        <input key={name} {...form.field(name)} {...plain} />
      ))}
      <input {...form.field('boolean')} />
      {CHOSEN.map((name) => (
        <select key={name} {...form.field(name)}>
          {asked.getAll(name).map((each) => (
            <option key={each} value={each} />
          ))}
        </select>
      ))}
      <button disabled={form.isSaving}>Save</button>
      <output>{form.isChanged ? 'changed' : 'as stored'}</output>
      <p>{JSON.stringify(form.errors) + (form.problem?.message ?? '')}</p>
    </form>
  )
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <QueryClientProvider client={new QueryClient()}>
    <Sample />
  </QueryClientProvider>,
)
