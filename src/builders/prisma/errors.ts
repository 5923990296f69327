import { PachterError } from '../../model/index.js'

/**
 * The rules say something that a `where` of Prisma's cannot say, or cannot say exactly. There is no filter, and so nothing was read by one.
 * `guard.as(caller)` reads by these rules all the same, and so does its `filter` in a raw query.
 */
export class NotInWhereError extends PachterError {
  readonly code = 'not-in-where'

  /** @param what what cannot be said, after the table's name */
  constructor(table: string, what: string) {
    super(
      `Prisma's where cannot say what the rules say of ${table}: ${what}. Read by guard.as(caller), or by its filter().`,
    )
  }
}
