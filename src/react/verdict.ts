import type { QueryClient } from '@tanstack/react-query'
import type { SessionState } from '../client/index.js'
import { decide, type Verdict } from '../decide/index.js'
import { anonymous, type Caller, checkCaller, type Rulebook } from '../rules/index.js'
import { type AnyClient, type AnyRecord, knownData, SESSION } from './context.js'

/** What is to be decided. */
export interface Asked {
  readonly table: string
  readonly action: string
  readonly record?: AnyRecord
  readonly values?: AnyRecord
}

/**
 * What the rules say in memory, by what this page has of the records: a courtesy, since it has not all of them. Nothing where
 * the page does not know the rules, or they cannot be asked.
 */
export function verdictHere(
  { rules, model }: AnyClient,
  queries: QueryClient,
  { table, action, record, values }: Asked,
): Verdict | undefined {
  if (!rules) return undefined
  const session = queries.getQueryData<SessionState>(SESSION)
  if (!session) return undefined
  const { fields } = model.tables[table] ?? { fields: {} }
  const plain = record && Object.fromEntries(Object.keys(fields).map((name) => [name, record[name] ?? null]))
  try {
    return decide(rules, {
      caller: givenBy(session),
      action,
      table,
      data: knownData(queries, model),
      ...(plain && { record: plain }),
      ...(values && { values }),
    })
  } catch {
    // The server says what is wrong with it.
    return undefined
  }
}

/** Who has signed in, as rules take callers. */
const givenBy = ({ signedIn, caller, roles }: SessionState): unknown => (signedIn ? { ...caller, roles } : anonymous)

/** Who has signed in, as rules have callers; nothing where the page knows too little of them. */
export function callerOf(rules: Rulebook, session: SessionState): Caller | undefined {
  try {
    return checkCaller(rules.caller, givenBy(session))
  } catch {
    return undefined
  }
}
