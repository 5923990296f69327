import {
  accepts,
  type FieldData,
  type FieldType,
  isMissing,
  PachterError,
  readTyped,
  type Value,
} from '../model/index.js'

/** What every input of a form takes. */
interface InputProps {
  readonly name: string
  readonly disabled: boolean
  readonly 'aria-invalid': true | undefined
  /** Takes the event of an input, what was typed as text, or a value. */
  onChange(given: unknown): void
}

/** For an `input`, a `textarea` or a `select`, or a component that looks like one. */
export interface TextInputProps extends InputProps {
  /** What was typed or is stored; an empty text where there is nothing. */
  readonly value: string
  /** Left out for texts and references, which any input shows. */
  readonly type?: 'number' | 'date' | 'time' | 'datetime-local'
  readonly step?: string
}

/** For an `input` that is ticked. */
export interface TickInputProps extends InputProps {
  readonly type: 'checkbox'
  readonly checked: boolean
}

/** For a `select` of several. */
export interface ListInputProps extends InputProps {
  readonly multiple: true
  readonly value: readonly string[]
}

/** What an input for a field with such values takes; nothing where no input writes them. */
export type InputPropsOf<V> = [V] extends [boolean]
  ? TickInputProps
  : [V] extends [readonly (string | number | bigint)[]]
    ? ListInputProps
    : [V] extends [string | number | bigint | Date]
      ? TextInputProps
      : never

/** A form was asked for an input that there is none for. */
export class FormError extends PachterError {
  readonly code = 'form-invalid'
}

/** How inputs show the values of a type: a text, a tick, several texts, or not at all. */
type Kind =
  | {
      readonly as: 'text'
      readonly type?: TextInputProps['type']
      step?(field: FieldData): string
      write?(value: Value): string
      read?(typed: string): unknown
    }
  | { readonly as: 'tick' }
  | { readonly as: 'list' }
  | { readonly as: 'nothing' }

const text: Kind = { as: 'text' }
const whole: Kind = { as: 'text', type: 'number' }
const second = () => '1'

/** Every type there is, with how inputs show it. One that is not here does not compile. */
const KINDS: Readonly<Record<FieldType, Kind>> = {
  text,
  uuid: text,
  choice: text,
  integer: whole,
  bigInteger: whole,
  decimal: { ...whole, step: ({ scale = 1 }) => `0.${'1'.padStart(scale, '0')}` },
  float: { ...whole, step: () => 'any' },
  date: { as: 'text', type: 'date' },
  time: { as: 'text', type: 'time', step: second },
  // An input has the time of the reader's zone, to the second.
  timestamp: {
    as: 'text',
    type: 'datetime-local',
    step: second,
    write: (value) => localTime(value as Date),
    read: fromLocalTime,
  },
  boolean: { as: 'tick' },
  list: { as: 'list' },
  bytes: { as: 'nothing' },
  json: { as: 'nothing' },
}

/**
 * What an input for a field takes.
 *
 * @param value what is typed or stored
 * @param typed the text that was typed, as it was typed
 * @throws {FormError} where no input writes such values
 */
export function inputProps(
  field: FieldData,
  value: unknown,
  typed: string | undefined,
  props: InputProps,
): TextInputProps | TickInputProps | ListInputProps {
  const kind = KINDS[field.type]
  if (kind.as === 'tick') return { ...props, type: 'checkbox', checked: value === true }
  if (kind.as === 'list') return { ...props, multiple: true, value: Array.isArray(value) ? value.map(String) : [] }
  if (kind.as === 'nothing') {
    throw new FormError(
      `No input writes ${props.name}, which is ${field.type}; take its value from \`values\`, and give it to \`set\`.`,
    )
  }
  const { type, step, write = String } = kind
  const shown = typed ?? (isMissing(value) ? '' : accepts(field, value) ? write(value) : String(value))
  // What is referred to is chosen rather than counted.
  if (type === undefined || field.references !== undefined) return { ...props, value: shown }
  return { ...props, value: shown, type, ...(step && { step: step(field) }) }
}

/**
 * What somebody gave to a field: by the event of an input, as text, or as a value. A text is read as the value it stands for;
 * where it is none, it stays as it is, for whoever takes the values to refuse.
 *
 * @returns the value, and the text that it was read from
 */
export function readGiven(field: FieldData, given: unknown): { readonly value: unknown; readonly typed?: string } {
  const target = (given as { readonly currentTarget?: Target | null } | null | undefined)?.currentTarget
  const told = isMissing(target) ? given : toldBy(target)
  if (typeof told === 'string') return { value: valueOf(field, told), typed: told }
  if (field.type !== 'list' || !Array.isArray(told)) return { value: told }
  const item: FieldData = { type: field.item ?? 'text' }
  return { value: told.map((each: unknown) => (typeof each === 'string' ? valueOf(item, each) : each)) }
}

function valueOf(field: FieldData, typed: string): unknown {
  if (typed === '' && (field.optional || !accepts(field, typed))) return null
  const kind = KINDS[field.type]
  const value = kind.as === 'text' && kind.read ? kind.read(typed) : readTyped(field, typed)
  return accepts(field, value) ? value : typed
}

/** What is read of an input, a textarea or a select. */
interface Target {
  readonly type?: string
  readonly checked?: boolean
  readonly value: unknown
  readonly selectedOptions: Iterable<{ readonly value: string }>
}

function toldBy({ type, checked, value, selectedOptions }: Target): unknown {
  if (type === 'checkbox') return checked
  return type === 'select-multiple' ? Array.from(selectedOptions, (option) => option.value) : value
}

const localTime = (moment: Date): string => {
  const two = (part: number) => String(part).padStart(2, '0')
  const day = [moment.getFullYear(), two(moment.getMonth() + 1), two(moment.getDate())].join('-')
  return `${day}T${[moment.getHours(), moment.getMinutes(), moment.getSeconds()].map(two).join(':')}`
}

/** The moment of a time in the reader's zone, where there is such a time; or one that is written with its zone. */
function fromLocalTime(typed: string): unknown {
  const moment = new Date(typed)
  const isThere = /^.{16}(?::.{2}(?:[.]\d+)?)?$/.test(typed) && localTime(moment).startsWith(typed.slice(0, 19))
  return isThere ? moment : readTyped({ type: 'timestamp' }, typed)
}
