import { NativeSelect, Textarea, TextInput } from '@mantine/core'
import type { Form, TextInputProps } from 'pachter/react'
import { endOfDay } from '../words.js'

/** A form, whatever it is for. */
export type AnyForm = Pick<Form, 'field' | 'errors' | 'mayChange' | 'shows'>

export interface FieldProps {
  readonly form: AnyForm
  readonly name: string
  readonly label: string
  readonly required?: boolean
}

function textInput({ form, name }: Pick<FieldProps, 'form' | 'name'>): TextInputProps {
  const input = form.field(name)
  if ('checked' in input || 'multiple' in input) throw new TypeError(`${name} is not typed as a text.`)
  return input
}

const about = ({ form, name, label, required = false }: FieldProps) => ({
  ...textInput({ form, name }),
  label,
  required: required && form.mayChange(name),
  error: form.errors[name],
  description: form.mayChange(name) ? undefined : 'Not yours to change.',
})

/** A text, a number, a time: what is typed, the form reads. */
export function TextField({ lines, type, ...props }: FieldProps & { readonly lines?: number; readonly type?: string }) {
  if (!props.form.shows(props.name)) return null
  const { type: own, ...input } = about(props)
  if (lines) return <Textarea {...input} autosize minRows={lines} />
  return <TextInput {...input} type={type ?? own ?? 'text'} />
}

interface Choice {
  readonly value: string
  readonly label: string
}

/** One of several. */
export function ChoiceField({
  choices,
  empty,
  ...props
}: FieldProps & { readonly choices: readonly Choice[]; readonly empty?: string }) {
  if (!props.form.shows(props.name)) return null
  const none = empty === undefined ? [] : [{ value: '', label: empty }]
  return <NativeSelect {...about(props)} data={[...none, ...choices]} />
}

/** The end of a day. */
export function DayField(props: FieldProps) {
  if (!props.form.shows(props.name)) return null
  const { value, onChange, ...rest } = about(props)
  return (
    <TextInput
      {...rest}
      type="date"
      value={value.slice(0, 10)}
      onChange={({ currentTarget }) => onChange(endOfDay(currentTarget.value))}
    />
  )
}
