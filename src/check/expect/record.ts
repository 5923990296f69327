import { type Document, isScalar, isSeq, type Node, parseDocument, Scalar, visit } from 'yaml'
import type { Access } from '../../decide/index.js'
import { tableOf } from '../../model/index.js'
import { rulesOf } from '../../rules/index.js'
import { bothWays, byKey } from '../look/by-key.js'
import { type Look, lookAt } from '../look/look.js'
import { areNumbers, inRanges } from '../bench/keys.js'
import type { Workbench } from '../bench/workbench.js'
import type { Expectation } from './expectation.js'
import { fold, unfold } from './fold.js'
import { OTHERS, readExpectations } from './read.js'
import { runExpectations } from './run.js'

/** Of a caller who sees more records of a table than this, they are counted instead of listed. */
const LISTED = 200

/** The same where keys are texts, such as uuids, which do not stand together in ranges. */
const LISTED_TEXTS = 20

/** So wide a line may be. */
const WIDTH = 110

const HEAD = ` What each caller sees and may do, as it was recorded: read it before you believe it.
 The words are explained in docs/checking.md.`

type Statements = Readonly<Record<string, unknown>>

/**
 * Writes down what is true now, for a person to review. What a file states already and is still true stays as it
 * stands, with its comments; what is no longer true is replaced; what it did not state is added. Tries stay.
 *
 * @param text the file as it is; none for a new one
 * @param file what it is called in messages
 * @throws {ExpectationFileError} where the file as it is cannot be read
 */
export async function recordExpectations(opened: Workbench, text: string | undefined, file: string): Promise<string> {
  const stated = text === undefined ? undefined : readExpectations(text, file, opened)
  const { at, furtherCallers = {}, all = [] } = stated ?? {}
  const bench = opened.instead({ furtherCallers, ...(at && { clock: () => at }) })
  const document = text === undefined ? newDocument(bench) : parseDocument(text)
  const stale = await staleStatements(bench, all)
  const shared = unfold(document)
  const fresh = new Set<unknown>()
  for (const caller of opened.names) {
    for (const table of Object.keys(bench.rulebook.model.tables)) {
      const isNew = !document.hasIn(['callers', caller, table])
      for (const [name, statement] of Object.entries(await truthAbout(bench, caller, table))) {
        const path = ['callers', caller, table, name]
        if (document.hasIn(path) && !stale.has(JSON.stringify(path))) continue
        const node = document.createNode(statement)
        inLines(node)
        document.setIn(path, node)
      }
      if (isNew) fresh.add(document.getIn(['callers', caller, table]))
    }
  }
  fold(document, (statement) => fresh.has(statement) || shared.has(statement))
  return document.toString({ lineWidth: WIDTH, flowCollectionPadding: false })
}

function newDocument({ clock }: Workbench): Document {
  const document = parseDocument('{}')
  document.contents = document.createNode({ at: clock().toISOString(), callers: {} }) as never
  document.commentBefore = HEAD
  return document
}

/** The paths of what is stated and not true. */
async function staleStatements(bench: Workbench, all: readonly Expectation[]): Promise<ReadonlySet<string>> {
  const stale = new Set<string>()
  for (const { expectation, failures } of await runExpectations(bench, all)) {
    if (failures.length === 0 || expectation.kind === 'try') continue
    stale.add(JSON.stringify(['callers', expectation.caller, expectation.table, expectation.about.what]))
  }
  return stale
}

async function truthAbout(bench: Workbench, caller: string, table: string): Promise<Statements> {
  const listed = await sightOf(bench, caller, table)
  const apart = byKey(bench, table)
  const single = apart && (await sightOf(apart, caller, table))
  const sights = { sees: listed.statement, ...(single && { gets: single.statement }) }
  const areListed = listed.records && single?.records
  const records = single ? areListed && bothWays(listed.records, single.records) : listed.records
  if (!records || records.size === 0) return sights
  const { fields, key } = tableOf(bench.rulebook.model, table)
  const settable = Object.keys(fields).filter((name) => !key.includes(name))
  const actions = ['update', 'delete', ...rulesOf(bench.rulebook, table).actions]
  return {
    ...sights,
    may: byName(records, actions, (access, action) => access.may[action] === true),
    ...(settable.length > 0 && {
      hidden: byName(records, settable, (access, field) => access.hidden.includes(field)),
      changes: byName(records, settable, (access, field) => access.changeable.includes(field)),
    }),
  }
}

/** What a caller sees of a table, as it is stated; and the records, where they are listed. */
async function sightOf(
  bench: Workbench,
  caller: string,
  table: string,
): Promise<{ readonly statement: unknown; readonly records?: Look['records'] }> {
  const counted = await lookAt(bench, caller, table, { whole: false, count: true, mentioned: [] })
  if (counted.refused) return { statement: { refused: counted.refused.status }, records: new Map() }
  if (counted.count === 0) return { statement: 'none', records: new Map() }
  if ((counted.count ?? 0) > LISTED) return { statement: counted.count }
  const { records } = await lookAt(bench, caller, table, { whole: true, count: true, mentioned: [] })
  const keys = [...records.keys()]
  return keys.length > LISTED_TEXTS && !areNumbers(keys)
    ? { statement: keys.length }
    : { statement: inRanges(keys), records }
}

/** For each name the keys it is true of, in a word where that are all; nothing is said of those true of none but that. */
function byName(
  records: Look['records'],
  names: readonly string[],
  isTrue: (access: Access, name: string) => boolean,
): unknown {
  const found = names.flatMap((name) => {
    const keys = [...records].filter(([, access]) => isTrue(access, name)).map(([key]) => key)
    if (keys.length === 0) return []
    return [[name, keys.length === records.size ? 'all' : inRanges(keys)] as const]
  })
  if (found.length === 0) return 'none'
  return { ...Object.fromEntries(found), ...(found.length < names.length && { [OTHERS]: 'none' }) }
}

/** Lists of keys stand on one line, and so do names that all have a word for a value. */
function inLines(statement: Node): void {
  visit(statement, {
    Seq: (_, node) => {
      const width = node.items.reduce<number>((sum, item) => sum + String((item as Scalar).value).length + 2, 20)
      if (node.items.every((item) => isScalar(item)) && width < WIDTH) node.flow = true
    },
    Map: (_, node) => {
      const isShort = node.items.every(({ value }) => isScalar(value) || (isSeq(value) && value.items.length < 3))
      if (isShort && node.items.length <= 4 && !node.items.some(({ value }) => hasText(value))) node.flow = true
    },
  })
}

const hasText = (value: unknown): boolean =>
  value instanceof Scalar && typeof value.value === 'string' && value.value.includes(' ')
