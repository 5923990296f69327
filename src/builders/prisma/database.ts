import type { Rulebook } from '../../rules/index.js'
import { compilationOn, hasTrait, postgresql, type Trait } from '../../sql/index.js'
import { NotInWhereError } from './errors.js'
import type { Database } from './place.js'

/** What is asked of a Prisma client besides its models. */
interface Client {
  readonly _activeProvider?: string
  $queryRawUnsafe(text: string, ...values: unknown[]): Promise<unknown>
}

type Read = (client: Client, rulebook: Rulebook) => Promise<Database>

/** Columns in which the database takes different texts for equal. */
const INEXACT: readonly Trait[] = ['loose', 'padded', 'textual', 'other']

const READERS: Readonly<Record<string, Read>> = {
  postgresql: async (client, rulebook) => {
    const query = async (text: string, values: readonly unknown[]) => ({
      rows: (await client.$queryRawUnsafe(text, ...values)) as readonly Record<string, unknown>[],
      touched: 0,
    })
    const known = await compilationOn({ dialect: postgresql, query }, rulebook)
    return {
      provider: 'postgresql',
      isExact: (table, field) => !INEXACT.some((trait) => hasTrait(known, table, field, trait)),
    }
  },
  sqlite: async (client) => {
    // Which column it is of, SQLite does not tell.
    const loose = await client.$queryRawUnsafe(`SELECT 1 FROM sqlite_schema WHERE sql LIKE '%COLLATE%' LIMIT 1`)
    const isExact = (loose as readonly unknown[]).length === 0
    return { provider: 'sqlite', isExact: () => isExact }
  },
}

const known = new WeakMap<object, WeakMap<Rulebook, Promise<Database>>>()

/** What is known of the database that a client speaks to; read once. */
export function databaseOf(prisma: object, rulebook: Rulebook, table: string): Promise<Database> {
  const client = prisma as Client
  const provider = client._activeProvider ?? 'an unknown database'
  const read = Object.hasOwn(READERS, provider) ? READERS[provider] : undefined
  if (!read) throw new NotInWhereError(table, `on ${provider}, Prisma compares texts as the database's collation does`)
  const ofClient = known.get(prisma) ?? new WeakMap<Rulebook, Promise<Database>>()
  known.set(prisma, ofClient)
  const found = ofClient.get(rulebook)
  if (found) return found
  const reading = read(client, rulebook)
  ofClient.set(rulebook, reading)
  // What failed once may go well the next time.
  reading.catch(() => ofClient.delete(rulebook))
  return reading
}
