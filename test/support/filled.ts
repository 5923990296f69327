import type fc from 'fast-check'
import { integer, readRulebook, type Rulebook, RulebookError } from 'pachter'
import { type ModelData, tableOf } from 'pachter/model'
import { columnNamed, type SqlStore, tableNamed } from 'pachter/sql'

type Row = Readonly<Record<string, unknown>>

/** Fields of which the database fills one in where it is not given, and computes another: it is what `base` is. */
export const FILLED = {
  base: integer().optional(),
  copy: integer().optional().computed(),
  filling: integer().defaulted(),
}

/** What the database fills in. */
const DEFAULT = 2

/** A record as the database has it, with what that gives. */
export function filledIn(model: ModelData, table: string, row: Row): Row {
  const { copy, filling } = tableOf(model, table).fields
  return {
    ...row,
    ...(filling && { filling: row['filling'] ?? DEFAULT }),
    ...(copy && { copy: row['base'] ?? null }),
  }
}

/** What can be given of a record. */
export const givable = <R extends Row>(model: ModelData, table: string, row: R): R =>
  Object.fromEntries(
    Object.entries(row).filter(([name]) => tableOf(model, table).fields[name]?.filled !== 'computed'),
  ) as R

/** Drawn rulebooks as they are read; without those of which a rule looks at what only the database will know. */
export const foreseen = <W extends { readonly rulebook: Rulebook }>(drawn: fc.Arbitrary<W>): fc.Arbitrary<W> =>
  drawn
    .map((each) => ({ ...each, rulebook: readIfForeseen(each.rulebook) }))
    .filter(({ rulebook }) => rulebook !== undefined)
    .map((each) => each as W)

function readIfForeseen(rulebook: Rulebook): Rulebook | undefined {
  try {
    return readRulebook(rulebook)
  } catch (error) {
    if (error instanceof RulebookError && /the database/.test(error.message)) return undefined
    throw error
  }
}

/** Has the database fill in and compute what the model says that it does. */
export async function letFillIn({ dialect, query }: SqlStore, model: ModelData): Promise<void> {
  const names = { dialect, rulebook: { model } }
  for (const [table, { fields }] of Object.entries(model.tables)) {
    const called = (name: string) => columnNamed(names, table, name)
    for (const [name, field] of Object.entries(fields)) {
      if (!field.filled) continue
      const kept = dialect.name === 'sqlite' ? 'VIRTUAL' : 'STORED'
      const how =
        field.filled === 'computed' ? `GENERATED ALWAYS AS (${called('base')}) ${kept}` : `DEFAULT ${DEFAULT} NOT NULL`
      await query(`ALTER TABLE ${tableNamed(names, table)} DROP COLUMN ${called(name)}`, [])
      const type = dialect.types[field.type].column(field)
      await query(`ALTER TABLE ${tableNamed(names, table)} ADD COLUMN ${called(name)} ${type} ${how}`, [])
    }
  }
}
