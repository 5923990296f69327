// What could come out for a caller whatever stands in records, in the plainest way: see oracle.ts.
import type { Condition, Rulebook } from 'pachter'
import type { Operand } from 'pachter/condition'
import { gone } from './oracle-values.js'

export type Row = Readonly<Record<string, unknown>>
export type Rules = Rulebook['tables'][string]
export type Grant = Rules['grants'][string][number]
export type Who = Grant['to'][number]

/** Somebody who asks, as the application hands them over. */
export interface Someone {
  readonly anonymous?: true
  readonly id?: unknown
  readonly roles?: readonly string[]
  readonly channel?: string
}

/** What a condition is looked at with: the records by level, and the record before and after a change. */
export interface Scene {
  readonly at: readonly (Row | undefined)[]
  readonly old?: Row
  readonly next?: Row
  /** The record with the values that were sent, before the server sets its own. */
  readonly sent?: Row
  /** Fields that are hidden and sent: whether they stay as they are, nobody learns. */
  readonly untold?: readonly string[]
  /** Fields that need a value and have none. */
  readonly lacking?: readonly string[]
}

/** Whether anything at all could be open to a caller. */
export abstract class Possible {
  abstract readonly rulebook: Rulebook
  abstract readonly who: Someone
  abstract is(condition: Condition, scene: Scene): boolean
  protected abstract grants(table: string, action: string): readonly Grant[]
  protected abstract rules(table: string): Rules

  /** Whether there is any record that could be open to this caller: if not, that is said at once. */
  isOpen(table: string, action: string, stands = false): boolean {
    const rules = this.rules(table)
    const asked = action === 'read' ? 'get' : action
    const could = (condition: Condition, wanted: boolean) => this.could(condition, wanted, stands)
    const whoCould = (who: Who, wanted: boolean) =>
      could(typeof who === 'string' ? (rules.ties[who] as Condition) : who, wanted)
    const granted = this.grants(table, asked).some(
      ({ to, when }) => to.some((who) => whoCould(who, true)) && (!when || could(when, true)),
    )
    const undenied = Object.values(rules.denies).every(({ on, when, except }) => {
      const bears = on.includes(asked) || (['list', 'get'].includes(asked) && on.includes('read'))
      return !bears || could(when, false) || except.some((who) => whoCould(who, true))
    })
    if (rules.fence && !could(rules.fence, true)) return false
    return granted && undenied && (['list', 'get', 'create'].includes(asked) || this.isOpen(table, 'get'))
  }

  /** Whether a condition could come out so for some record, by what is known of the caller alone. */
  private could(condition: Condition, wanted: boolean, stands: boolean): boolean {
    switch (condition.kind) {
      case 'always':
        return wanted
      case 'never':
        return !wanted
      case 'all':
      case 'any': {
        const each = condition.of.map((part) => this.could(part, wanted, stands))
        return (condition.kind === 'all') === wanted ? each.every(Boolean) : each.some(Boolean)
      }
      case 'not':
        return this.could(condition.of, !wanted, stands)
      case 'after':
        return this.could(condition.of, wanted, stands)
      case 'signedIn':
      case 'channel':
        return this.is(condition, { at: [] }) === wanted
      case 'role': {
        const { record, implies } = this.rulebook.caller
        const has = (this.who.roles ?? []).some((role) =>
          condition.anyOf.some((wants) => wants === role || (implies[role] ?? []).includes(wants)),
        )
        // A role in the caller's own record is looked up each time, for whoever has one.
        return has ? wanted : !wanted || (record !== undefined && !this.who.anonymous)
      }
      case 'unchanged':
        // What may be done to another record is asked of it as it stands.
        return wanted || !stands
      case 'may':
        return wanted ? this.isOpen(condition.table, condition.action, true) : true
      case 'some':
        return this.lacks(condition.from) ? !wanted : !wanted || this.couldReach(condition)
      case 'isSet':
        return this.lacks(condition.operand) ? !wanted : true
      case 'compare':
        return this.lacks(condition.left) || this.lacks(condition.right) ? !wanted : true
    }
  }

  private couldReach({ table, where, through }: Condition & { kind: 'some' }): boolean {
    return [where, through, this.rules(table).fence].every((each) => !each || this.could(each, true, true))
  }

  private lacks(operand: Operand): boolean {
    if (operand.kind !== 'caller') return false
    return operand.name === 'roles' ? this.who.anonymous === true : gone((this.who as Row)[operand.name])
  }
}
