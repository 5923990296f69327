import { type Document, isScalar, isSeq, type LineCounter, type Node } from 'yaml'
import {
  fromPlain,
  inFull,
  InputError,
  parseKey,
  PachterError,
  type PlainValue,
  printKey,
  tableOf,
} from '../../model/index.js'
import type { Rulebook } from '../../rules/index.js'
import type { MemoryRecord } from '../../decide/index.js'
import { valuesFrom } from '../bench/values.js'
import { type Item, YamlReader } from './yaml-reader.js'

const MOMENT = { type: 'timestamp' } as const

/** So many keys may stand in one range. */
const MOST_IN_RANGE = 100_000

/** The whole numbers from one to another, such as `4..9`. */
function rangeIn(written: string) {
  const [, from, to] = /^(\d+)\.\.(\d+)$/.exec(written) ?? []
  if (from === undefined || to === undefined) return undefined
  const size = Math.max(0, Number(to) - Number(from) + 1)
  return { size, keys: () => Array.from({ length: size }, (_, at) => String(Number(from) + at)) }
}

/** Of whom, and of which table, something is stated. */
export interface Owner {
  readonly caller: string
  readonly table: string
}

/** Reads the keys, values and moments of a document, as the model has them. */
export class ValueReader extends YamlReader {
  constructor(
    document: Document,
    lines: LineCounter,
    protected readonly known: { readonly rulebook: Rulebook; readonly names: readonly string[] },
  ) {
    super(document, lines)
  }

  protected keys({ table }: Owner, value: Node | null): readonly string[] {
    const seq = this.resolved(value)
    if (!isSeq(seq)) {
      this.complain(value, 'expected a list of keys, such as [1, 2].')
      return []
    }
    return seq.items.flatMap((item) => this.key(table, item as Node))
  }

  protected key(table: string, item: Node): string[] {
    const { model } = this.known.rulebook
    const node = this.resolved(item)
    const written = isScalar(node) ? (node.source ?? String(node.value)) : undefined
    const range = written === undefined ? undefined : rangeIn(written)
    if (range && range.size > 0 && range.size <= MOST_IN_RANGE) return range.keys()
    try {
      if (range?.size === 0) throw new InputError(table, { key: 'begins behind where it ends' })
      if (written === undefined) throw new InputError(table, { key: 'must be one value, such as 3 or "4, 7"' })
      return [printKey(model, table, parseKey(model, table, written))]
    } catch (error) {
      if (!(error instanceof PachterError)) throw error
      this.complain(item, `${JSON.stringify(written ?? null)} is not a key of ${table}: ${inFull(error)}`)
      return []
    }
  }

  /** Values by field, in the types of the model as far as YAML has none for them. */
  protected values({ table }: Owner, item: Item | undefined): Readonly<Record<string, unknown>> | undefined {
    if (!item) return undefined
    const { model } = this.known.rulebook
    const { fields } = tableOf(model, table)
    const given = this.items(item.value, item.name, item.name === 'stored' ? Object.keys(fields) : undefined)
    const plain = given.map(({ name, value }) => [name, (value?.toJS(this.document) ?? null) as unknown])
    return valuesFrom(model, table, Object.fromEntries(plain) as MemoryRecord)
  }

  protected moment(item: Item | undefined): Date | undefined {
    if (!item) return undefined
    const { value } = item
    const moment = fromPlain(MOMENT, this.scalar(value) as PlainValue)
    if (moment instanceof Date) return moment
    this.complain(value, 'at takes a moment with its zone, such as 2026-11-23T09:00:00Z.')
    return undefined
  }
}
