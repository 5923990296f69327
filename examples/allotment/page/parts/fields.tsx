import { NativeSelect, Textarea, TextInput } from '@mantine/core'
import type { Form } from 'pachter/react'
import { dayOf, endOfDay } from '../words.js'

/** A form, whatever it is for. */
export type AnyForm = Pick<Form, 'field' | 'errors' | 'mayChange' | 'shows'>

export interface FieldProps {
  readonly form: AnyForm
  readonly name: string
  readonly label: string
  readonly required?: boolean
}

const about = ({ form, name, label, required = false }: FieldProps) => ({
  ...form.field(name),
  label,
  required: required && form.mayChange(name),
  error: form.errors[name],
  description: form.mayChange(name) ? undefined : 'Not yours to change.',
})

export function TextField({ lines, type, ...props }: FieldProps & { readonly lines?: number; readonly type?: string }) {
  if (!props.form.shows(props.name)) return null
  const { value, ...rest } = about(props)
  const shown = typeof value === 'string' ? value : String(value)
  return lines ? (
    <Textarea {...rest} value={shown} autosize minRows={lines} />
  ) : (
    <TextInput {...rest} value={shown} {...(type && { type })} />
  )
}

export function NumberField(props: FieldProps) {
  if (!props.form.shows(props.name)) return null
  const { value, onChange, ...rest } = about(props)
  return (
    <TextInput
      {...rest}
      type="number"
      value={String(value)}
      onChange={({ currentTarget }) => onChange(currentTarget.value === '' ? null : Number(currentTarget.value))}
    />
  )
}

interface Choice {
  readonly value: string
  readonly label: string
}

/** One of several; where they are numbered, as what they stand for is. */
export function ChoiceField({
  choices,
  numbered = false,
  empty,
  ...props
}: FieldProps & { readonly choices: readonly Choice[]; readonly numbered?: boolean; readonly empty?: string }) {
  if (!props.form.shows(props.name)) return null
  const { value, onChange, ...rest } = about(props)
  const none = empty === undefined ? [] : [{ value: '', label: empty }]
  return (
    <NativeSelect
      {...rest}
      value={String(value)}
      data={[...none, ...choices]}
      onChange={({ currentTarget: { value: chosen } }) =>
        onChange(chosen === '' ? null : numbered ? Number(chosen) : chosen)
      }
    />
  )
}

export function DayField(props: FieldProps) {
  if (!props.form.shows(props.name)) return null
  const { value, onChange, ...rest } = about(props)
  return (
    <TextInput
      {...rest}
      type="date"
      value={dayOf(value instanceof Date ? value : null)}
      onChange={({ currentTarget }) => onChange(endOfDay(currentTarget.value))}
    />
  )
}
