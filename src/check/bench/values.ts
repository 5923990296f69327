import type { MemoryRecord } from '../../decide/index.js'
import { accepts, fieldOf, fromPlain, type ModelData, type PlainValue, tableOf } from '../../model/index.js'
import { type Action, changesRecord, type TableRules } from '../../rules/index.js'

/**
 * Values as YAML or JSON hold them, in the types of the model as far as they fit. What does not fit stays as it is:
 * what comes of sending it may be just what is asked.
 */
export function valuesFrom(model: ModelData, table: string, given: MemoryRecord): MemoryRecord {
  const { fields } = tableOf(model, table)
  return Object.fromEntries(
    Object.entries(given).map(([name, plain]) => {
      if (!Object.hasOwn(fields, name)) return [name, plain]
      const field = fieldOf(model, table, name)
      const read = fromPlain(field, plain as PlainValue)
      return [name, accepts(field, read) ? read : plain]
    }),
  )
}

/** Whether an action can be sent values. */
export function takesValues(rules: TableRules, action: Action): boolean {
  return action === 'create' || changesRecord(rules, action)
}
