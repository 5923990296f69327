import type { Catalogue } from '../catalogue/catalogue.js'
import { quoted } from '../draft/model-text.js'
import type { Proposal } from '../propose/proposal.js'
import { WORDS } from '../words.js'
import type { Sample } from './people.js'

/** How the configuration opens the database: with an address from the environment, or a file. */
export interface Opening {
  readonly dialect: Catalogue['dialect']
  /** The file of an SQLite database, from the folder of the configuration. */
  readonly file?: string
}

interface Opened {
  readonly imports: readonly string[]
  readonly open: readonly string[]
}

/** Without an address, drivers try one of their own. */
const ADDRESS = [
  "    const address = process.env['DATABASE_URL']",
  "    if (!address) throw new Error('Set DATABASE_URL to the address of the database.')",
]

const OPENED: Readonly<Record<Catalogue['dialect'], (opening: Opening) => Opened>> = {
  postgresql: () => ({
    imports: ["import { postgresqlStore } from 'pachter/connect/postgresql'", "import pg from 'pg'"],
    open: [
      ...ADDRESS,
      '    const pool = new pg.Pool({ connectionString: address })',
      '    return { ...postgresqlStore(pool), close: () => pool.end() }',
    ],
  }),
  mariadb: () => ({
    imports: ["import mysql from 'mysql2/promise'", "import { mariadbStore } from 'pachter/connect/mariadb'"],
    open: [
      ...ADDRESS,
      '    const pool = mysql.createPool({ uri: address })',
      '    return { ...mariadbStore(pool), close: () => pool.end() }',
    ],
  }),
  sqlite: ({ file = 'database.db' }) => ({
    imports: [
      "import Database from 'better-sqlite3'",
      "import { fileURLToPath } from 'node:url'",
      "import { sqliteStore } from 'pachter/connect/sqlite'",
    ],
    open: [
      `    const database = new Database(fileURLToPath(new URL(${quoted(file)}, import.meta.url)))`,
      '    return { ...sqliteStore(database), close: async () => void database.close() }',
    ],
  }),
}

/** The configuration as TypeScript: whom to look through, and at what. */
export function configText(
  opening: Opening,
  folder: string,
  samples: readonly Sample[],
  { tables, people }: Proposal,
): string {
  const { imports, open } = OPENED[opening.dialect](opening)
  const titles = tables.flatMap(({ table }) => {
    const title = table.fields.find(({ name, data }) => data.type === 'text' && WORDS.title.test(name))
    return title ? [`    ${table.name}: ${quoted(title.name)},`] : []
  })
  return [
    ...imports,
    "import { anonymous } from 'pachter'",
    "import { defineConfig } from 'pachter/cli'",
    `import { rules } from './${folder}/rules.js'`,
    '',
    'export default defineConfig({',
    '  rules,',
    '  // Whom to look through: name some whose work you know.',
    '  callers: {',
    '    nobody: anonymous,',
    ...samples.map(({ name, written }) => `    ${name}: { ${written} },`),
    '  },',
    ...(titles.length > 0 ? ['  // What a person knows a record by.', '  titles: {', ...titles, '  },'] : []),
    '  store: async () => {',
    ...open,
    '  },',
    ...(people ? [`  everyone: { table: ${quoted(people.name)} },`] : []),
    '})',
    '',
  ].join('\n')
}
