import { type Document, isAlias, isMap, isScalar, isSeq, type LineCounter, type Node } from 'yaml'
import type { ExpectationProblem } from '../bench/errors.js'
import type { Place } from './expectation.js'

/** One name of a mapping, and its value. */
export interface Item {
  readonly name: string
  readonly at: Node
  readonly value: Node | null
}

/** Goes through a YAML document, and takes down what is wrong instead of stopping at it. */
export class YamlReader {
  readonly problems: ExpectationProblem[] = []

  constructor(
    protected readonly document: Document,
    private readonly lines: LineCounter,
  ) {}

  complainAt(offset: number, reason: string): void {
    const { line, col } = this.lines.linePos(offset)
    this.problems.push({ line, column: Math.max(col, 1), reason })
  }

  protected complain(at: Node | null, reason: string): void {
    this.complainAt(at?.range?.[0] ?? 0, reason)
  }

  protected placeOf(at: Node): Place {
    const { line, col } = this.lines.linePos(at.range?.[0] ?? 0)
    return { line, column: col }
  }

  /** The names and values of a mapping. */
  protected items(value: Node | null, what: string, known?: readonly string[]): Item[] {
    const node = this.resolved(value)
    if (!isMap(node)) {
      this.complain(value, `${what} takes names with values${known ? `: ${known.join(', ')}` : ''}.`)
      return []
    }
    return node.items.flatMap(({ key, value: of }) => {
      const name = isScalar(key) ? String(key.value) : ''
      const item = { name, at: key as Node, value: of as Node | null }
      if (!known || known.includes(name)) return [item]
      this.complain(item.at, `${what} has no ${JSON.stringify(name)}; it has ${known.join(', ')}.`)
      return []
    })
  }

  protected list(item: Item | undefined): Node[] {
    const node = this.resolved(item?.value ?? null)
    if (node === null) return []
    if (isSeq(node)) return node.items as Node[]
    this.complain(item?.value ?? null, `${item?.name} takes a list.`)
    return []
  }

  protected scalar(value: Node | null): unknown {
    const node = this.resolved(value)
    return isScalar(node) ? node.value : node === null ? null : undefined
  }

  protected resolved(value: Node | null): Node | null {
    return isAlias(value) ? (value.resolve(this.document) ?? null) : value
  }
}
