// The rules of docs/rules.md read a second time, in the plainest way: loops over arrays, nothing worked out beforehand,
// and no code shared with the library but the types of its data. What memory and every database answer is held to this.
import type { Condition, Data, Rulebook } from 'pachter'
import type { Operand } from 'pachter/condition'
import { type Grant, Possible, type Row, type Rules, type Scene, type Someone, type Who } from './oracle-possible.js'
import { filledIn } from './filled.js'
import { isAt } from './keys.js'
import { compare, gone, same } from './oracle-values.js'

export type { Someone } from './oracle-possible.js'

/** What comes of a try: the statuses that may be told, and the record as it then is, where it is written. */
export interface Foretold {
  readonly statuses: readonly number[]
  /** The first check that it fails, where that alone refuses it. */
  readonly check?: string
  readonly stored?: Row
}

export class Oracle extends Possible {
  constructor(
    readonly rulebook: Rulebook,
    readonly data: Data,
    readonly who: Someone,
    readonly now: Date,
  ) {
    super()
  }

  /** The fields a caller sees of a record, where the caller sees it. */
  sees(table: string, row: Row, how: 'list' | 'get'): readonly string[] | undefined {
    if (!this.may(table, how, { at: [row] })) return undefined
    return Object.keys(this.table(table).fields).filter((field) => this.seesField(table, row, field, how))
  }

  /** What comes of a try. */
  foretell(table: string, action: string, key: unknown, values: Row): Foretold {
    // A create without a value it needs is refused in any case: whether as forbidden, what is missing might have decided.
    if (action === 'create' && this.lacking(table, values).length > 0) return { statuses: [401, 403, 422] }
    const foretold = this.attempt(table, action, key, values)
    return 'refused' in foretold ? { statuses: this.softened(table, action, foretold.refused) } : foretold
  }

  /** The fields that need a value, for which a create has none. */
  private lacking(table: string, values: Row): readonly string[] {
    const stamps = this.rules(table).stamps['create'] ?? {}
    return Object.entries(this.table(table).fields).flatMap(([name, { optional, filled }]) =>
      !optional && !filled && gone(values[name]) && !(name in stamps) ? [name] : [],
    )
  }

  /** Which grants hold of a try, by place, and whether of what comes of it; and whether a deny strikes, whatever is lacking. */
  holding(table: string, action: string, key: unknown, values: Row): readonly (readonly [number, boolean])[] {
    const rules = this.rules(table)
    const isHere = (each: Row) => isAt(this.rulebook.model, table, each, key)
    const row = action === 'create' ? undefined : (this.data[table] ?? []).find(isHere)
    const next = { ...row, ...values, ...this.stamps(rules, action) }
    const untold = row ? this.untold(table, row, values) : []
    const lacking = action === 'create' ? this.lacking(table, values) : []
    const record = action === 'create' ? next : row
    if (!record) return []
    const scene: Scene = { at: [record], next, sent: { ...next, ...values }, untold, lacking }
    const granted = this.grants(table, action).flatMap((grant, at) =>
      this.holds(rules, grant, scene)
        ? [[at, row === undefined || this.stays(rules, grant, row, next, values, untold)] as const]
        : [],
    )
    return lacking.length > 0 ? [...granted, [-1, this.denied(table, action, scene)]] : granted
  }

  /** Whoever has not signed in is sent to do so where that could help; where it could, the rest of the tests say. */
  softened(table: string, action: string, status: number): readonly number[] {
    const statuses = status === 404 && !this.isOpen(table, action) ? [403] : [status]
    return this.who.anonymous && status !== 422 ? [...statuses, 401] : statuses
  }

  private attempt(table: string, action: string, key: unknown, values: Row): Foretold | { refused: number } {
    const rules = this.rules(table)
    const own = action !== 'update' && action !== 'delete'
    if (action === 'create') return this.create(table, values)
    const row = (this.data[table] ?? []).find((each) => isAt(this.rulebook.model, table, each, key))
    if (!row || !this.may(table, 'get', { at: [row] })) return { refused: 404 }
    const stamps = this.stamps(rules, action)
    const next = { ...row, ...values, ...stamps }
    const sent = { ...next, ...values }
    const untold = this.untold(table, row, values)
    const changes = action === 'delete' ? {} : { next, sent, untold }
    const grants = this.grants(table, action).filter((grant) => this.holds(rules, grant, { at: [row], ...changes }))
    if (grants.length === 0) return { refused: 403 }
    if (this.denied(table, action, { at: [row], ...changes })) return { refused: 403 }
    if (action === 'delete') {
      const { onDelete } = rules.gone ?? {}
      return {
        statuses: [200],
        ...(onDelete && { stored: filledIn(this.rulebook.model, table, { ...row, ...this.set(onDelete) }) }),
      }
    }
    for (const field of Object.keys(values)) {
      const stamped = field in (rules.stamps[action] ?? {})
      const stays = same(row[field] ?? null, values[field] ?? null) && this.seesField(table, row, field, 'get')
      if (stays && !(own && stamped)) continue
      const fixed = rules.checks.fields[field]?.onUpdate === 'forbidden'
      if (stamped || fixed || this.table(table).key.includes(field)) return { refused: 403 }
      const covering = grants.filter((grant) => !grant.fields || grant.fields.includes(field))
      if (!covering.some((grant) => this.stays(rules, grant, row, next, values, untold))) return { refused: 403 }
    }
    const check = this.failing(rules, { at: [next], old: row, next, sent, untold })
    if (check !== undefined) return { statuses: [422], check }
    // An update that changes nothing writes nothing; an action of the table's own is done all the same.
    const isLeft = (field: string) => !untold.includes(field) && same(row[field] ?? null, values[field] ?? null)
    const changed = own || !Object.keys(values).every(isLeft)
    return { statuses: [200], stored: changed ? filledIn(this.rulebook.model, table, next) : row }
  }

  /** What is sent for fields that are hidden counts as changed: whether it is, nobody is told. */
  private untold(table: string, row: Row, values: Row): readonly string[] {
    return Object.keys(values).filter((field) => !this.seesField(table, row, field, 'get'))
  }

  /** Whether a grant holds of a record as a change makes it. */
  private stays(rules: Rules, grant: Grant, row: Row, next: Row, values: Row, untold: readonly string[] = []): boolean {
    const scene: Scene = { at: [next], old: row, next, sent: { ...next, ...values } }
    if (rules.fence && !this.is(rules.fence, scene)) return false
    // That a change makes the record count as gone is for whoever may change it.
    if (!grant.after) return this.holds({ ...rules, gone: undefined } as unknown as Rules, grant, scene)
    return this.is(grant.after, { ...scene, untold })
  }

  private create(table: string, values: Row): Foretold | { refused: number } {
    const rules = this.rules(table)
    const row: Row = { ...values, ...this.stamps(rules, 'create') }
    // Nothing changes where there was nothing.
    const scene: Scene = { at: [row], old: row, next: row }
    const grants = this.grants(table, 'create').filter((grant) => this.holds(rules, grant, scene))
    if (grants.length === 0 || this.denied(table, 'create', scene)) return { refused: 403 }
    for (const field of Object.keys(values)) {
      if (field in (rules.stamps['create'] ?? {})) return { refused: 403 }
      if (!grants.some((grant) => !grant.fields || grant.fields.includes(field))) return { refused: 403 }
    }
    const check = this.failing(rules, scene)
    if (check !== undefined) return { statuses: [422], check }
    return { statuses: [200], stored: filledIn(this.rulebook.model, table, row) }
  }

  private failing({ checks }: Rules, scene: Scene): string | undefined {
    return Object.entries(checks.records).find(([, { that }]) => !this.is(that, scene))?.[0]
  }

  private stamps(rules: Rules, action: string): Row {
    return this.set(rules.stamps[action] ?? {})
  }

  private set(stamps: Rules['stamps'][string]): Row {
    const given: Record<string, unknown> = {}
    for (const [field, operand] of Object.entries(stamps)) {
      given[field] = this.value(operand, { at: [] }) ?? null
    }
    return given
  }

  /** Whether a caller may do this to a record, values aside. */
  may(table: string, action: string, scene: Scene): boolean {
    const rules = this.rules(table)
    const asked = action === 'read' ? 'get' : action
    if (!this.grants(table, asked).some((grant) => this.holds(rules, grant, scene))) return false
    if (this.denied(table, asked, scene)) return false
    const isRead = asked === 'list' || asked === 'get'
    return isRead || asked === 'create' || this.may(table, 'get', scene)
  }

  private seesField(table: string, row: Row, field: string, how: 'list' | 'get'): boolean {
    if (this.table(table).key.includes(field)) return true
    return this.grants(table, how).some(
      (grant) => (!grant.fields || grant.fields.includes(field)) && this.holds(this.rules(table), grant, { at: [row] }),
    )
  }

  /** `list` and `get` are also opened by `read`; an own action takes no values but those its grants list. */
  protected grants(table: string, action: string): readonly Grant[] {
    const { grants, actions } = this.rules(table)
    const own = grants[action] ?? []
    if (action === 'list' || action === 'get') return [...(grants['read'] ?? []), ...own]
    return actions.includes(action) ? own.map((grant) => ({ fields: [], ...grant })) : own
  }

  private holds(rules: Rules, { to, when, gone: forGone }: Grant, scene: Scene): boolean {
    const lets = (condition: Condition) => this.lets(condition, scene)
    if (rules.fence && !lets(rules.fence)) return false
    if (rules.gone && !forGone && !lets({ kind: 'not', of: rules.gone.when })) return false
    return (
      to.some((who) => lets(typeof who === 'string' ? (rules.ties[who] as Condition) : who)) && (!when || lets(when))
    )
  }

  /** Whether it is so, what hangs on a value that is lacking left aside: that is not held against the caller. */
  private lets(condition: Condition, scene: Scene, isNot = false): boolean {
    if (condition.kind === 'not') return this.lets(condition.of, scene, !isNot)
    if (condition.kind === 'all' || condition.kind === 'any') {
      const lets = (part: Condition) => this.lets(part, scene, isNot)
      return (condition.kind === 'all') !== isNot ? condition.of.every(lets) : condition.of.some(lets)
    }
    return this.hangs(condition, scene.lacking ?? []) || this.is(condition, scene) !== isNot
  }

  /** Whether anything in it asks for one of these fields of the record it is about. */
  private hangs(part: unknown, fields: readonly string[]): boolean {
    if (fields.length === 0 || typeof part !== 'object' || part === null) return false
    const { kind, level, name } = part as Partial<Operand & { kind: 'field' }>
    if (kind === 'field' && level === 0 && fields.includes(name as string)) return true
    return Object.values(part).some((each) => this.hangs(each, fields))
  }

  /** Whether a step finds a record: beyond a fence, and when it counts as gone, it is not there. */
  protected isThere(table: string, row: Row): boolean {
    const { fence, gone: rule } = this.rules(table)
    return (!fence || this.is(fence, { at: [row] })) && (!rule || !this.is(rule.when, { at: [row] }))
  }

  private isWho(rules: Rules, who: Who, scene: Scene): boolean {
    return this.is(typeof who === 'string' ? (rules.ties[who] as Condition) : who, scene)
  }

  private denied(table: string, action: string, scene: Scene): boolean {
    const rules = this.rules(table)
    return Object.values(rules.denies).some(({ on, when, except }) => {
      const bears = on.includes(action) || (['list', 'get'].includes(action) && on.includes('read'))
      if (!bears || this.lets({ kind: 'not', of: when }, scene)) return false
      return !except.some((who) => this.isWho(rules, who, scene))
    })
  }

  is(condition: Condition, scene: Scene): boolean {
    switch (condition.kind) {
      case 'always':
        return true
      case 'never':
        return false
      case 'all':
        return condition.of.every((part) => this.is(part, scene))
      case 'any':
        return condition.of.some((part) => this.is(part, scene))
      case 'not':
        return !this.is(condition.of, scene)
      case 'signedIn':
        return !this.who.anonymous
      case 'role':
        return condition.anyOf.some((role) => this.roles().has(role))
      case 'channel':
        return condition.anyOf.some((channel) => channel === this.who.channel)
      case 'isSet':
        return !gone(this.value(condition.operand, scene))
      case 'compare':
        return compare(condition.how, this.value(condition.left, scene), this.value(condition.right, scene))
      case 'some': {
        if (condition.chain !== undefined) return this.inChain(condition, condition.chain, scene)
        const from = this.value(condition.from, scene)
        for (const row of this.data[condition.table] ?? []) {
          if (gone(from) || !same(row[condition.to.field], from) || !this.isThere(condition.table, row)) continue
          const at = [...scene.at]
          at[condition.to.level] = row
          if (this.is(condition.where, { ...scene, at })) return true
        }
        return false
      }
      case 'may':
        return this.may(condition.table, condition.action, { at: [scene.at[condition.level]] })
      case 'after':
        return this.is(condition.of, { ...scene, at: [scene.next, ...scene.at.slice(1)], old: scene.at[0] as Row })
      case 'unchanged': {
        if (scene.untold?.includes(condition.field)) return false
        const [before, after] = [scene.old ?? scene.at[0], scene.sent ?? scene.next ?? scene.at[0]]
        return same(before?.[condition.field] ?? null, after?.[condition.field] ?? null)
      }
    }
  }

  /** Up from record to record, until one is met again. */
  private inChain({ from, table, to, where, through }: Condition & { kind: 'some' }, chain: string, scene: Scene) {
    const passed: Row[] = []
    for (let link = this.value(from, scene); ;) {
      const row = (this.data[table] ?? []).find((each) => !gone(link) && same(each[to.field], link))
      if (!row || passed.includes(row) || !this.isThere(table, row) || !this.shows(row, chain)) return false
      passed.push(row)
      const at = [...scene.at]
      at[to.level] = row
      if (through && !this.is(through, { ...scene, at })) return false
      if (this.is(where, { ...scene, at })) return true
      link = row[chain]
    }
  }

  /** Whether it shows where a chain goes on; of what is hidden nothing does. */
  private shows(row: Row, field: string): boolean {
    return row[field] !== undefined
  }

  private value(operand: Operand, scene: Scene): unknown {
    switch (operand.kind) {
      case 'field':
        return scene.at[operand.level]?.[operand.name]
      case 'old':
        return scene.old?.[operand.name]
      case 'caller':
        if (this.who.anonymous) return undefined
        return operand.name === 'roles' ? (this.who.roles ?? []) : (this.who as Row)[operand.name]
      case 'now':
        return new Date(this.now.getTime() + operand.plusSeconds * 1000)
      case 'value': {
        const { type } = operand.shape
        if (type === 'timestamp') return new Date(operand.value as string)
        if (type === 'json') return JSON.parse(operand.value as string)
        if (type === 'bytes') return Uint8Array.from(Buffer.from(operand.value as string, 'hex'))
        if (operand.shape.item === 'bigInteger') return (operand.value as string[]).map(BigInt)
        return type === 'bigInteger' ? BigInt(operand.value as string) : operand.value
      }
      case 'given':
        throw new Error('The oracle is asked about rules only.')
    }
  }

  /** The roles a caller comes with, those in the caller's own record, and those that go with them. */
  roles(): ReadonlySet<string> {
    const { record, implies } = this.rulebook.caller
    const own = record && (this.data[record.table] ?? []).find((row) => row['id'] === this.who.id)
    const isGone =
      own &&
      record &&
      this.rules(record.table).gone &&
      this.is(this.rules(record.table).gone?.when as Condition, { at: [own] })
    const roles = new Set([
      ...(this.who.roles ?? []),
      ...((isGone ? [] : (own?.[record?.roles ?? ''] ?? [])) as string[]),
    ])
    for (const role of roles) for (const lower of implies[role] ?? []) roles.add(lower)
    return this.who.anonymous ? new Set() : roles
  }

  protected rules(table: string): Rules {
    const none: Rules = {
      actions: [],
      ties: {},
      grants: {},
      denies: {},
      stamps: {},
      checks: { fields: {}, records: {} },
    }
    return this.rulebook.tables[table] ?? none
  }

  private table(table: string) {
    return this.rulebook.model.tables[table] as Rulebook['model']['tables'][string]
  }
}
