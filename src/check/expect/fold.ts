import { type Document, isAlias, isMap, isNode, type Pair, visit, type YAMLMap } from 'yaml'

/** Shorter statements are read faster than what they refer to. */
const WORTH = 80

/** What is stated of one caller and one table. */
interface Stated {
  readonly caller: string
  readonly table: string
  readonly pair: Pair<unknown, unknown>
}

function* statements(document: Document): Generator<Stated> {
  const callers = document.get('callers')
  if (!isMap(callers)) return
  for (const { key: caller, value: tables } of callers.items) {
    if (!isMap(tables)) continue
    for (const pair of tables.items) yield { caller: String(caller), table: String(pair.key), pair }
  }
}

const anchorOf = ({ caller, table }: Stated): string => `${caller}_${table}`.replaceAll(/[^A-Za-z0-9_]/g, '_')

/**
 * Writes out what only refers to the statement of another caller, so that each can be changed on its own.
 *
 * @returns the statements that were written out, and those referred to
 */
export function unfold(document: Document): ReadonlySet<unknown> {
  const shared = new Set<unknown>()
  for (const { pair } of statements(document)) {
    if (!isAlias(pair.value)) continue
    const first = pair.value.resolve(document)
    if (!isMap(first)) continue
    const own = first.clone() as YAMLMap
    delete own.anchor
    pair.value = own
    shared.add(own).add(first)
  }
  for (const stated of statements(document)) {
    const { value } = stated.pair
    if (isMap(value) && shared.has(value) && value.anchor === anchorOf(stated)) delete value.anchor
  }
  return shared
}

/**
 * Has what is stated of several callers alike stand once: the others refer to it, as YAML can.
 *
 * @param may whether a statement may refer to another, or be referred to
 */
export function fold(document: Document, may: (statement: unknown) => boolean): void {
  const firsts = new Map<string, Stated>()
  for (const stated of statements(document)) {
    const { pair, table } = stated
    if (!isMap(pair.value) || !may(pair.value) || hasRemarks(pair.value)) continue
    const text = JSON.stringify([table, pair.value.toJS(document)])
    if (text.length < WORTH) continue
    const first = firsts.get(text)
    if (first) pair.value = document.createAlias(first.pair.value as YAMLMap, anchorOf(first))
    else firsts.set(text, stated)
  }
}

/** Whether somebody wrote something to it: a remark, or a try, which is that caller's alone. */
function hasRemarks(statement: YAMLMap): boolean {
  let found = statement.has('tries')
  visit(statement, (_, node) => {
    found ||= isNode(node) && Boolean(node.comment ?? node.commentBefore)
  })
  return found
}
