// Brings in the types of the global namespace that plugins extend.
import type {} from 'chai'
import {
  type AnyStore,
  assertAllowed,
  assertHidden,
  assertRefused,
  assertSees,
  assertSeesNone,
  ExpectationFailedError,
  type KeyGiven,
  type RefusalExpected,
} from './assert.js'

declare global {
  // eslint-disable-next-line @typescript-eslint/no-namespace
  namespace Chai {
    interface Assertion {
      /** Exactly these records, by key; with `not`, none of these. Await it. */
      see(table: string, keys?: readonly KeyGiven[]): Promise<void>
      /** That the caller may do this. What is written is taken back. Await it. */
      allowed(action: string, table: string, key?: KeyGiven, values?: Readonly<Record<string, unknown>>): Promise<void>
      /** That the caller is refused, with this status and message where given. Await it. */
      refused(action: string, table: string, key?: KeyGiven, expected?: RefusalExpected): Promise<void>
      /** That these fields of a record are hidden from the caller, and no others. Await it. */
      hidden(table: string, key: KeyGiven, fields: readonly string[]): Promise<void>
    }
  }
}

/**
 * A plugin for Chai: what a scoped store sees and may do, as assertions.
 *
 * @example
 * use(pachterChai)
 * await expect(guard.as(ana)).to.see('rents', [1, 25])
 * await expect(guard.as(ben)).not.to.see('entries', [45])
 * await expect(guard.as(ben)).to.be.refused('update', 'entries', 2, { values: { title: 'Mine' }, status: 403 })
 * await expect(guard.as(ben)).to.have.hidden('members', 3, ['email', 'phone', 'duties'])
 */
export const pachterChai = ({ Assertion }: Chai.ChaiStatic, utils: Chai.ChaiUtils): void => {
  const storeOf = (assertion: object) => utils.flag(assertion, 'object') as AnyStore
  const isNegated = (assertion: object) => utils.flag(assertion, 'negate') === true
  const plain = (assertion: object, name: string, instead: string): void => {
    if (isNegated(assertion)) throw new ExpectationFailedError(`There is no \`not\` with ${name}: ${instead}.`)
  }
  Assertion.addMethod('see', function (this: object, table: string, keys?: readonly KeyGiven[]) {
    if (isNegated(this)) return assertSeesNone(storeOf(this), table, keys)
    if (keys) return assertSees(storeOf(this), table, keys)
    throw new ExpectationFailedError(`Name the keys of ${table} that should be seen.`)
  })
  Assertion.addMethod('allowed', function (this: object, action: string, table: string, key?: KeyGiven, values = {}) {
    plain(this, 'allowed', 'use refused')
    return assertAllowed(storeOf(this), action, table, key, values as Readonly<Record<string, unknown>>)
  })
  Assertion.addMethod(
    'refused',
    function (this: object, action: string, table: string, key?: KeyGiven, expected: RefusalExpected = {}) {
      plain(this, 'refused', 'use allowed')
      return assertRefused(storeOf(this), action, table, key, expected)
    },
  )
  Assertion.addMethod('hidden', function (this: object, table: string, key: KeyGiven, fields: readonly string[]) {
    plain(this, 'hidden', 'name the fields that are hidden, if any')
    return assertHidden(storeOf(this), table, key, fields)
  })
}
