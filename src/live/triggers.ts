import { type ModelData, parentsOf, storedField, storedTable, tableOf } from '../model/index.js'
import { postgresql, tableNamed } from '../sql/index.js'

/** What triggers notify on. */
export const CHANNEL = 'pachter_changes'
/** What the triggers and their function are called. */
const NAME = 'pachter_changed'
const TRUNCATED = 'pachter_truncated'

/** The longest payload that PostgreSQL takes has 8,000 bytes; of what is longer, only the table is told. */
const LONGEST = 7900

/**
 * Tells of one row, with its key, its references, and which columns changed; no other value leaves the table. Arguments:
 * the table's name in the model, and the columns.
 */
const FUNCTION = `CREATE OR REPLACE FUNCTION ${NAME}() RETURNS trigger LANGUAGE plpgsql SET search_path = pg_catalog AS $pachter$
DECLARE
  was jsonb;
  is_now jsonb;
  told jsonb := jsonb_build_object('table', TG_ARGV[0]);
  rows jsonb := '[]';
BEGIN
  IF TG_LEVEL = 'ROW' THEN
    IF TG_OP <> 'INSERT' THEN was := to_jsonb(OLD); END IF;
    IF TG_OP <> 'DELETE' THEN is_now := to_jsonb(NEW); END IF;
    IF was = is_now THEN RETURN NULL; END IF;
    IF was IS NOT NULL THEN
      rows := rows || (SELECT jsonb_object_agg(name, was ->> name) FROM unnest(TG_ARGV[1:]) AS name);
    END IF;
    IF is_now IS NOT NULL THEN
      rows := rows || (SELECT jsonb_object_agg(name, is_now ->> name) FROM unnest(TG_ARGV[1:]) AS name);
    END IF;
    told := told || jsonb_build_object('rows', rows);
    IF TG_OP = 'UPDATE' THEN
      told := told || jsonb_build_object('columns',
        (SELECT jsonb_agg(key) FROM jsonb_each(is_now) WHERE value IS DISTINCT FROM was -> key));
    END IF;
    IF octet_length(told::text) > ${LONGEST} THEN told := jsonb_build_object('table', TG_ARGV[0]); END IF;
  END IF;
  PERFORM pg_notify('${CHANNEL}', told::text);
  RETURN NULL;
END $pachter$`

/** The fields that say which row it is, and to which it leads. */
export function toldFields(model: ModelData, table: string): readonly string[] {
  const referring = parentsOf(model, table).map(({ from }) => from)
  return [...new Set([...tableOf(model, table).key, ...referring])]
}

/** The statements that put triggers on the tables of a model, or put them there anew. */
export function installTriggers(model: ModelData): readonly string[] {
  const tables = Object.keys(model.tables).flatMap((table) => {
    const place = placeOf(model, table)
    const columns = toldFields(model, table).map((field) => storedField(model, table, field))
    const given = [table, ...columns].map(literal).join(', ')
    return [
      `CREATE OR REPLACE TRIGGER ${NAME} AFTER INSERT OR UPDATE OR DELETE ON ${place} FOR EACH ROW EXECUTE FUNCTION ${NAME}(${given})`,
      `CREATE OR REPLACE TRIGGER ${TRUNCATED} AFTER TRUNCATE ON ${place} FOR EACH STATEMENT EXECUTE FUNCTION ${NAME}(${literal(table)})`,
    ]
  })
  return [FUNCTION, ...tables]
}

/** The statements that take the triggers away again. */
export function removeTriggers(model: ModelData): readonly string[] {
  const tables = Object.keys(model.tables).flatMap((table) =>
    [NAME, TRUNCATED].map((name) => `DROP TRIGGER IF EXISTS ${name} ON ${placeOf(model, table)}`),
  )
  return [...tables, `DROP FUNCTION IF EXISTS ${NAME}()`]
}

/** The query for the tables that have the triggers, as the database calls them, with what each tells. */
export const TRIGGERS_THERE = `SELECT n.nspname AS "schema", c.relname AS "name", t.tgname AS "trigger", t.tgargs AS "given",
  n.nspname = current_schema() AS "here", t.tgenabled IN ('O', 'A') AS "works"
  FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
  WHERE t.tgname IN ('${NAME}', '${TRUNCATED}')`

/**
 * The query for the columns whose values are not told as they are read: padded, or equal to others that are written otherwise.
 */
export const ODD_COLUMNS = `SELECT c.relname AS "table", a.attname AS "column" FROM pg_attribute a
  JOIN pg_class c ON c.oid = a.attrelid JOIN pg_type t ON t.oid = a.atttypid
  LEFT JOIN pg_collation l ON l.oid = a.attcollation
  WHERE c.relkind IN ('r', 'p') AND a.attnum > 0 AND NOT a.attisdropped
  AND (t.typname IN ('bpchar', 'citext') OR NOT coalesce(l.collisdeterministic, true))`

/** A table, and whether its triggers tell what is needed. */
export interface TriggerState {
  readonly table: string
  readonly state: 'there' | 'missing' | 'outdated'
}

/** Which tables of a model have the triggers, by what {@link TRIGGERS_THERE} found. */
export function triggerStates(
  model: ModelData,
  found: readonly Readonly<Record<string, unknown>>[],
): readonly TriggerState[] {
  return Object.keys(model.tables).map((table) => {
    const { schema, name } = storedTable(model, table)
    const own = found.filter(
      (row) => row['name'] === name && (schema === undefined ? row['here'] : row['schema'] === schema),
    )
    const byName = (trigger: string) => own.find((row) => row['trigger'] === trigger && row['works'] === true)
    const row = byName(NAME)
    if (!row || !byName(TRUNCATED)) return { table, state: 'missing' }
    const columns = toldFields(model, table).map((field) => storedField(model, table, field))
    const given = Buffer.from(row['given'] as Uint8Array).toString('utf8')
    return { table, state: given === [table, ...columns, ''].join('\0') ? 'there' : 'outdated' }
  })
}

const placeOf = (model: ModelData, table: string): string =>
  tableNamed({ dialect: postgresql, rulebook: { model } }, table)

const literal = (text: string): string => `'${text.replaceAll("'", "''")}'`
