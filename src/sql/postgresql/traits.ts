import { type Fragment, sql } from '../fragment.js'

/** Tells of columns what a field does not say: see `Trait`. */
export const traits = (
  schemas: Fragment,
): Fragment => sql`SELECT n.nspname AS "schema", pg_table_is_visible(t.oid) AS "own", t.relname AS "table", a.attname AS "column", v.trait AS "trait", CASE v.trait WHEN 'short' THEN a.atttypmod - 4 END AS "size"
FROM pg_attribute a JOIN pg_class t ON t.oid = a.attrelid JOIN pg_namespace n ON n.oid = t.relnamespace
JOIN pg_type y ON y.oid = a.atttypid
LEFT JOIN pg_collation c ON c.oid = a.attcollation
CROSS JOIN LATERAL (VALUES
  ('loose', NOT c.collisdeterministic),
  ('fine', a.atttypid IN ('timestamptz'::regtype, 'timestamp'::regtype) AND (a.atttypmod < 0 OR a.atttypmod > 3)),
  ('fine', a.atttypid = 'time'::regtype AND a.atttypmod <> 0),
  ('zoneless', a.atttypid = 'timestamp'::regtype),
  ('padded', a.atttypid = 'bpchar'::regtype),
  ('textual', y.typname = 'citext'),
  ('words', y.typtype = 'e'),
  ('texts', a.atttypid = 'varchar[]'::regtype OR y.typname = '_citext'),
  ('numbers', a.atttypid IN ('int2[]'::regtype, 'int4[]'::regtype)),
  ('short', a.atttypid IN ('varchar'::regtype, 'bpchar'::regtype, 'varchar[]'::regtype) AND a.atttypmod > 4)
) AS v (trait, has)
WHERE v.has AND a.attnum > 0 AND NOT a.attisdropped AND t.relkind IN ('r', 'p', 'v', 'm', 'f')
AND (pg_table_is_visible(t.oid) OR n.nspname IN (${schemas}))
AND n.nspname <> 'pg_catalog' AND n.nspname <> 'information_schema'`
