import fc from 'fast-check'

/** The start of the keys of the records that are asked for. */
export const UUID = '5f3a2b1c-0000-4000-8000-00000000000'

/** Stands in what is hidden, and nowhere else. */
export const HIDDEN = 'mistletoe'

/** The fields that are asked for, of all types. */
export const FIELDS = [
  'id',
  'ownerId',
  'name',
  'size',
  'serial',
  'ratio',
  'open',
  'sown',
  'day',
  'hour',
  'kind',
  'tags',
  'plan',
  'photo',
  'secret',
] as const

const VALUES = [
  "'x'",
  "'it''s'",
  '1',
  '-1',
  '1.5',
  '12.50',
  'true',
  'null',
  '2026-03-01',
  '2026-03-01T09:00:00Z',
  '09:00:00',
  `${UUID}1`,
  "'flat'",
  '9223372036854775807',
  '1e400',
  `'${HIDDEN}'`,
]
const WORDS = [
  'eq',
  'ne',
  'lt',
  'ge',
  'in',
  'and',
  'or',
  'not',
  '(',
  ')',
  ',',
  '/',
  ':',
  'any',
  'all',
  'startswith',
  'owner',
  'notes',
  'n',
  'bed',
  ...FIELDS,
  ...VALUES,
]

const field = fc.constantFrom(...FIELDS)
const value = fc.constantFrom(...VALUES)
/** Filters that can mostly be read, and heaps of words that mostly cannot. */
const filter = fc.oneof(
  fc.tuple(field, fc.constantFrom('eq', 'ne', 'lt', 'le', 'gt', 'ge'), value).map((parts) => parts.join(' ')),
  fc.tuple(field, value).map(([name, each]) => `startswith(${name},${each})`),
  fc.tuple(field, fc.array(value, { maxLength: 3 })).map(([name, all]) => `${name} in (${all.join(',')})`),
  value.map((each) => `notes/any(n: n/body eq ${each}) or tags/any(t: t eq ${each})`),
  fc.array(fc.constantFrom(...WORDS), { maxLength: 12 }).map((words) => words.join(' ')),
  fc.string({ maxLength: 20 }),
)
const query = fc.array(
  fc.oneof(
    filter.map((each) => `$filter=${encodeURIComponent(each)}`),
    fc.tuple(field, fc.constantFrom('', ' desc', ' up')).map((parts) => `$orderby=${parts.join('')}`),
    fc.array(field, { maxLength: 3 }).map((names) => `$select=${names.join(',')}`),
    // What is sorted by is not always selected.
    fc
      .tuple(fc.array(field, { minLength: 1, maxLength: 2 }), field)
      .map(([names, by]) => `$select=${names.join(',')}&$orderby=${by}`),
    fc
      .constantFrom(
        'owner',
        'notes',
        'notes($top=1)',
        'notes(access=true)',
        'paths',
        'paths(by=toId)',
        'paths(by=from;$expand=to)',
        'owner($expand=beds($select=secret;access=true))',
        'notes($filter=no eq 7)',
        'x(',
        'notes($top=1;$top=2)',
      )
      .map((each) => `$expand=${each}`),
    fc.constantFrom('1', '3', '0', 'x').map((each) => `$top=${each}`),
    fc
      .oneof(
        fc.base64String(),
        fc
          .array(fc.jsonValue(), { maxLength: 2 })
          .map((each) => Buffer.from(JSON.stringify(each)).toString('base64url')),
      )
      .map((each) => `$skiptoken=${encodeURIComponent(each)}`),
    fc.constantFrom('access=true', 'access=x', '%', '&&', '$filter'),
  ),
  { maxLength: 2 },
)
const key = fc.oneof(
  fc.constantFrom(
    `${UUID}1`,
    `${UUID}2`,
    `${UUID}9`,
    `${UUID}1,7`,
    `${UUID}2,7`,
    '1',
    '$bulk',
    'x,y,z',
    '%00',
    '..',
    'É',
  ),
  fc.string({ maxLength: 5 }).map(encodeURIComponent),
)
/** Mostly where there is something, by a method that there is. */
const line = fc.oneof(
  {
    weight: 6,
    arbitrary: fc.constantFrom('GET /beds', 'GET /beds', 'GET /notes', 'HEAD /beds', 'POST /beds', 'POST /notes'),
  },
  {
    weight: 5,
    arbitrary: fc
      .tuple(
        fc.constantFrom('GET', 'PATCH', 'DELETE'),
        fc.constantFrom('beds', 'notes'),
        fc.constantFrom('1', '2', '4', '1,7', '2,7'),
      )
      .map(([method, table, no]) => `${method} /${table}/${UUID}${no}`),
  },
  {
    weight: 1,
    arbitrary: fc.constantFrom(
      'POST /beds/$bulk',
      `POST /beds/${UUID}2/dig`,
      'GET /openapi.json',
      'OPTIONS /beds',
      'GET /x',
    ),
  },
  {
    weight: 2,
    arbitrary: fc
      .tuple(
        fc.constantFrom('GET', 'PATCH', 'PUT', 'DELETE'),
        fc.constantFrom('beds', 'notes', 'people', '__proto__'),
        key,
      )
      .map(([method, ...parts]) => `${method} /${parts.join('/')}`),
  },
)
const body = fc.oneof(
  fc
    .dictionary(
      fc.oneof(
        field,
        fc.constantFrom('action', 'keys', 'values', 'records', 'partly', '__proto__', 'no', 'body', 'bedId'),
      ),
      fc.oneof(
        fc.jsonValue(),
        fc.constantFrom<unknown>(...VALUES, `${UUID}2`, 'delete', 'create', [`${UUID}1`], [{}], 2),
      ),
      { maxKeys: 5 },
    )
    .map((each) => JSON.stringify(each)),
  fc.string({ maxLength: 10 }),
)
const headers = fc.dictionary(
  fc.constantFrom(
    'if-match',
    'if-none-match',
    'prefer',
    'idempotency-key',
    'accept',
    'content-type',
    'content-length',
    'x-http-method-override',
  ),
  fc.constantFrom(
    '*',
    '"x"',
    'return=minimal',
    'text/html',
    'application/json',
    'application/merge-patch+json',
    'DELETE',
    '5',
    'k',
  ),
  { maxKeys: 3 },
)
/** A request for records of this table, with those named, and anything else. */
export const drawnRequest = fc.record({
  line: line.map((each) => each.split(' ')),
  query: fc.oneof(fc.constant([]), query),
  body,
  headers,
})
