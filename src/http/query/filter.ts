import { all, any, type Condition, not } from '../../condition/index.js'
import {
  childrenOf,
  childOf,
  type FieldData,
  isOrdered,
  type ModelData,
  parentsOf,
  type Relation,
  type Shape,
  tableOf,
  type Value,
} from '../../model/index.js'
import { HTTP_LIMITS } from '../limits.js'
import { readLiteral } from './literal.js'
import { Scanner } from './scanner.js'

/** A row as conditions are built from it; what is asked of it was looked up in the model before. */
export type AnyRow = Readonly<Record<string, never>>

/** What a filter is, once read: the condition on a row. */
export type Filter = (row: AnyRow) => Condition

/** The words that compare, with the name of what they ask of a term. */
const COMPARING = { eq: 'is', ne: 'isNot', lt: 'below', le: 'atMost', gt: 'above', ge: 'atLeast' } as const

type Word = keyof typeof COMPARING

/**
 * Reads a filter: a part of the `$filter` of OData 4.01, which docs/http.md describes. Whatever it says becomes a
 * condition of `where`, in which what is hidden from the caller is not there.
 *
 * @throws {RequestError} 400, with the place, where it cannot be read
 * @see https://docs.oasis-open.org/odata/odata/v4.01/odata-v4.01-part2-url-conventions.html
 */
export function readFilter(model: ModelData, table: string, text: string): Filter {
  const scanner = new Scanner('$filter', text)
  const filter = new Reader(model, scanner).either({ table, row: (row) => row }, 0)
  scanner.end()
  return filter
}

/** The record that names are looked up in. */
interface Place {
  readonly table: string
  /** Its name, where it has one, as in `some(r: r/body eq 'x')`. */
  readonly name?: string
  row(row: AnyRow): AnyRow
}

/** A field, and how to come to its term. */
interface Field {
  readonly name: string
  readonly data: FieldData
  term(row: AnyRow): Asked
}

/** What a term can be asked, by name; which of it it can, the model says. */
type Asked = Readonly<Record<Question, (other?: unknown) => Condition>>

type Question = (typeof COMPARING)[Word] | 'isMissing' | 'isSet' | 'oneOf' | 'startsWith' | 'includes'

class Reader {
  #comparisons = 0

  constructor(
    private readonly model: ModelData,
    private readonly scanner: Scanner,
  ) {}

  /** `a or b` */
  either(place: Place, depth: number): Filter {
    const parts = this.#several(/or\b/, () => this.#both(place, depth))
    return parts.length === 1 ? (parts[0] as Filter) : (row) => any(...parts.map((part) => part(row)))
  }

  /** `a and b` */
  #both(place: Place, depth: number): Filter {
    const parts = this.#several(/and\b/, () => this.#one(place, depth))
    return parts.length === 1 ? (parts[0] as Filter) : (row) => all(...parts.map((part) => part(row)))
  }

  #several(word: RegExp, read: () => Filter): readonly Filter[] {
    const parts = [read()]
    while (this.scanner.take(word) !== undefined) parts.push(read())
    return parts
  }

  #one(place: Place, depth: number): Filter {
    if (depth > HTTP_LIMITS.filterDepth) this.scanner.fail(`at most ${HTTP_LIMITS.filterDepth} levels are allowed`)
    if (this.scanner.take(/not\b/) !== undefined) {
      const part = this.#one(place, depth + 1)
      return (row) => not(part(row))
    }
    if (this.scanner.take(/[(]/) !== undefined) {
      const part = this.either(place, depth + 1)
      this.scanner.expect(/[)]/, ')')
      return part
    }
    this.#comparisons += 1
    if (this.#comparisons > HTTP_LIMITS.filterComparisons) {
      this.scanner.fail(`at most ${HTTP_LIMITS.filterComparisons} comparisons are allowed`)
    }
    if (this.scanner.take(/startswith\s*[(]/) !== undefined) return this.#startsWith(place)
    return this.#compared(place, depth)
  }

  /** `startswith(title,'L')` */
  #startsWith(place: Place): Filter {
    const field = this.#fieldAt(place, this.#path())
    if (field.data.type !== 'text' && field.data.type !== 'choice') this.scanner.fail(`${field.name} is no text`)
    this.scanner.expect(/,/, ',')
    const prefix = readLiteral(this.scanner, { type: 'text' })
    this.scanner.expect(/[)]/, ')')
    return (row) => field.term(row).startsWith(prefix)
  }

  /** `title eq 'Leeks'`, `audience in ('public','members')`, `remarks/any(r: …)` */
  #compared(place: Place, depth: number): Filter {
    const path = this.#path()
    const quantifier = path.at(-1)
    if ((quantifier === 'any' || quantifier === 'all') && this.scanner.take(/[(]/) !== undefined) {
      return this.#quantified(place, path.slice(0, -1), quantifier, depth)
    }
    if (this.scanner.take(/[(]/) !== undefined) this.scanner.fail(`the only function is startswith(field,'…')`)
    const field = this.#fieldAt(place, path)
    const word = this.scanner.expect(/(?:eq|ne|lt|le|gt|ge|in)\b/, 'eq, ne, lt, le, gt, ge or in')
    if (word === 'in') return this.#among(field)
    return this.#against(field, word as Word)
  }

  #against(field: Field, word: Word): Filter {
    const isEqual = word === 'eq' || word === 'ne'
    if (isEqual && this.scanner.take(/null\b/) !== undefined) {
      return (row) => field.term(row)[word === 'eq' ? 'isMissing' : 'isSet']()
    }
    this.#assertComparable(field, isEqual)
    const value = readLiteral(this.scanner, field.data)
    return (row) => field.term(row)[COMPARING[word]](value)
  }

  #assertComparable({ name, data }: Field, isEqual: boolean): void {
    if (data.type === 'list') this.scanner.fail(`${name} is a list; ask ${name}/any(each: each eq …)`)
    if (data.type === 'json') this.scanner.fail(`${name} is a document, which can only be eq null or ne null`)
    if (!isEqual && !isOrdered(data)) this.scanner.fail(`${name} has no order; ask eq, ne or in`)
  }

  #among(field: Field): Filter {
    this.#assertComparable(field, true)
    const values: Value[] = []
    this.scanner.expect(/[(]/, '(')
    do {
      values.push(readLiteral(this.scanner, field.data))
      if (values.length > HTTP_LIMITS.filterValues) this.scanner.fail(`at most ${HTTP_LIMITS.filterValues} are allowed`)
    } while (this.scanner.take(/,/) !== undefined)
    this.scanner.expect(/[)]/, ') or ,')
    return (row) => field.term(row).oneOf(values)
  }

  /** `remarks/any()`, `remarks/all(r: r/body ne 'x')`, `duties/any(d: d eq 'treasurer')` */
  #quantified(place: Place, path: readonly string[], quantifier: 'any' | 'all', depth: number): Filter {
    const at = this.#placeAt(place, path.slice(0, -1))
    const last = path.at(-1) ?? this.scanner.fail('what may be many is expected before any')
    const { fields } = tableOf(this.model, at.table)
    if (Object.hasOwn(fields, last)) return this.#item(at, last, fields[last] as FieldData, quantifier)
    const relation = this.#children(at.table, last)
    const many = (row: AnyRow) => at.row(row)[last] as unknown as Many
    if (quantifier === 'any' && this.scanner.take(/[)]/) !== undefined) return (row) => many(row).some()
    const name = this.scanner.expect(/\w+(?=\s*:)/, 'a name for each, such as r: r/…')
    this.scanner.expect(/:/, ':')
    const part = this.either({ table: relation.table, name, row: (row) => row }, depth + 1)
    this.scanner.expect(/[)]/, ')')
    return (row) => (quantifier === 'any' ? many(row).some(part) : many(row).every(part))
  }

  #item(at: Place, name: string, data: FieldData, quantifier: 'any' | 'all'): Filter {
    if (data.type !== 'list' || quantifier === 'all') this.scanner.fail(`${name} cannot be asked for ${quantifier}`)
    const each = this.scanner.expect(/\w+(?=\s*:)/, 'a name for each, such as d: d eq …')
    this.scanner.expect(/:/, ':')
    if (this.scanner.expect(/\w+/, each) !== each) this.scanner.fail(`${each} eq and a value is expected`)
    this.scanner.expect(/eq\b/, 'eq')
    const value = readLiteral(this.scanner, { type: data.item ?? 'text' } as Shape)
    this.scanner.expect(/[)]/, ')')
    return (row) => (at.row(row)[name] as unknown as Asked).includes(value)
  }

  #path(): readonly string[] {
    const names = [this.scanner.expect(/[A-Za-z_]\w*/, 'the name of a field')]
    while (this.scanner.take(/[/]/) !== undefined) names.push(this.scanner.expect(/[A-Za-z_]\w*/, 'a name'))
    return names
  }

  #fieldAt(place: Place, path: readonly string[]): Field {
    const at = this.#placeAt(place, path.slice(0, -1))
    const name = path.at(-1) as string
    const { fields } = tableOf(this.model, at.table)
    if (!Object.hasOwn(fields, name)) this.scanner.fail(`there is no field ${name} in ${at.table}`)
    return { name, data: fields[name] as FieldData, term: (row) => at.row(row)[name] as unknown as Asked }
  }

  /** The record that a path leads to, along references. */
  #placeAt(place: Place, path: readonly string[]): Place {
    // The name of each of many stands for the record itself.
    const steps = place.name !== undefined && path[0] === place.name ? path.slice(1) : path
    return steps.reduce<Place>((from, step) => {
      const parent = parentsOf(this.model, from.table).find(({ name }) => name === step)
      if (!parent) this.scanner.fail(`nothing leads from ${from.table} by ${step}`)
      return { table: parent.table, row: (row) => from.row(row)[step] as unknown as AnyRow }
    }, place)
  }

  #children(table: string, name: string): Relation {
    const known = childrenOf(this.model, table).filter((each) => each.name === name)
    if (known.length === 1) return childOf(this.model, table, name)
    const many = `several fields of ${name} lead to ${table}, which a filter cannot tell apart`
    return this.scanner.fail(known.length > 1 ? many : `nothing leads from ${table} to ${name}`)
  }
}

/** The records that refer to one. */
interface Many {
  some(where?: Filter): Condition
  every(where: Filter): Condition
}
