import type { ScopedStore } from '../../guard/index.js'
import type { TableName } from '../../model/index.js'
import { databaseOf } from './database.js'
import { Names, type PrismaNaming } from './naming.js'
import { Place } from './place.js'
import { whereOf } from './where.js'

export { NotInWhereError } from './errors.js'
export type { PrismaNaming } from './naming.js'

/** The part of a scoped store that says what a caller may read. */
type Decider<M> = Pick<ScopedStore<M, never>, 'decided'>

/** What the client calls a table's records. */
type ModelFor<N, T> = N extends { readonly models: infer Names } ? (T extends keyof Names ? Names[T] : T) : T

/** The `where` of a model of the client. */
export type PrismaWhere<C, Name> = Name extends keyof C
  ? C[Name] extends { count(args?: infer Args): unknown }
    ? NonNullable<Extract<Args, { where?: unknown }>['where']>
    : never
  : never

/**
 * The condition on what a caller may read, for the `where` of a Prisma query. It masks no fields. Put it beside conditions of
 * your own: `where: { AND: [await prismaFilter(…), { title: 'Leeks' }] }`.
 *
 * It says exactly what the rules say, on PostgreSQL and SQLite, or nothing at all: what Prisma cannot say, or not exactly, is an
 * error. Relations are taken for those of the same name in Prisma's schema.
 *
 * @param prisma the generated client
 * @param scoped the store as the caller may use it
 * @param table what the model calls it
 * @param naming what Prisma calls things, where that is something else
 * @returns a `where` that is never empty, so that it cannot be taken for none
 * @throws {NotInWhereError} where the rules follow a chain, compare fields of two records, or compare what Prisma or the database
 *   compares otherwise
 * @throws {UnknownNameError} where the client has no such model or field
 * @example await prisma.entries.findMany({ where: await prismaFilter(prisma, guard.as(ana), 'entries') })
 */
export async function prismaFilter<
  C extends object,
  M,
  T extends TableName<M>,
  const N extends PrismaNaming<C, M> = Record<never, never>,
>(prisma: C, scoped: Decider<M>, table: T, naming?: N): Promise<PrismaWhere<C, ModelFor<N, T>>> {
  const { rulebook, condition } = await scoped.decided(table, 'read')
  const names = new Names(rulebook.model, prisma, (naming ?? {}) as never)
  const place = new Place(names, await databaseOf(prisma, rulebook, table), table)
  return { AND: [place.worded(whereOf(place, condition))] } as unknown as PrismaWhere<C, ModelFor<N, T>>
}
