import { type Condition, type Operand, operandsOf, partsOf } from '../condition/index.js'
import type { ListRequest, RecordRequest } from '../guard/index.js'
import { type ModelData, tableOf } from '../model/index.js'

/** One step from a record to others: those whose field `to` has the value of the field `from`. */
export interface Step {
  readonly relation: string
  readonly table: string
  readonly from: string
  readonly to: string
  readonly one: boolean
  /** Whether it goes on from there, over any number of records. */
  readonly chain: boolean
}

/** How a list comes to look at the records of some table: from the records it lists, or from the caller. */
export interface Trail {
  /** A name of its own for each way. */
  readonly name: string
  readonly steps: readonly Step[]
  /** The table that it ends in. */
  readonly table: string
  /** The attribute of the caller that the first step starts from; left out, it starts from a record of the list. */
  readonly caller?: string
  /** The fields that say what is in the list. */
  readonly decisive: ReadonlySet<string>
  /** The fields that show in what is in it. */
  readonly shown: ReadonlySet<string>
}

/** All that a list looks at. */
export interface Basis {
  readonly trails: readonly Trail[]
  /** Whether it can be another without any change, as time goes by. */
  readonly isTimed: boolean
}

/** What a list rests on: whatever its request asks of the database, the rules' part and what was asked by whoever lists. */
export function basisOf(model: ModelData, request: ListRequest): Basis {
  const trails = new Trails(model)
  const root = trails.start(request.table)
  followRecord(trails, request, root)
  trails.follow(request.filter, [root], true)
  for (const { field, sight } of request.order) {
    root.decisive.add(field)
    if (sight) trails.follow(sight, [root], true)
  }
  return trails.found
}

/** What a condition about the records of a table rests on. */
export function basisOfCondition(model: ModelData, table: string, condition: Condition): Basis {
  const trails = new Trails(model)
  trails.follow(condition, [trails.start(table)], true)
  return trails.found
}

function followRecord(trails: Trails, { masks, access, related }: RecordRequest, at: Place): void {
  for (const mask of masks.values()) trails.follow(mask, [at])
  for (const { condition } of access?.questions ?? []) trails.follow(condition, [at])
  for (const each of related) {
    const { relation, filter, from, to, order } = each
    const { name, ...way } = relation
    const there = trails.step(at, { ...way, relation: name, chain: false }, true)
    followRecord(trails, each, there)
    for (const condition of [filter, to]) if (condition) trails.follow(condition, [there])
    for (const { sight } of order) if (sight) trails.follow(sight, [there])
    if (from) trails.follow(from, [at])
  }
}

/** Where a condition is at: the records that one way leads to. */
interface Place extends Trail {
  readonly decisive: Set<string>
  readonly shown: Set<string>
}

/** Gathers trails, each way once. */
class Trails {
  readonly #places = new Map<string, Place>()
  #isTimed = false

  constructor(private readonly model: ModelData) {}

  get found(): Basis {
    return { trails: [...this.#places.values()], isTimed: this.#isTimed }
  }

  /** The records of the list: all of their fields count. */
  start(table: string): Place {
    return this.#at({ name: '', steps: [], table }, true)
  }

  step(from: Place, step: Step, isWhole: boolean, decides = false): Place {
    see(from, step.from, decides)
    const name = `${from.name}/${JSON.stringify([step.from, step.table, step.to, step.chain])}`
    const next = this.#at({ ...from, name, steps: [...from.steps, step], table: step.table }, isWhole)
    see(next, step.to, decides)
    return next
  }

  /**
   * Follows a condition to all it looks at.
   *
   * @param places where each level of it is
   * @param decides whether it says what is in the list
   */
  follow(condition: Condition, places: readonly Place[], decides = false): void {
    for (const operand of operandsOf(condition)) this.#see(operand, places, decides)
    if (condition.kind === 'unchanged') see(places[0], condition.field, decides)
    // Rules of other tables were put in place of each; one that is left could hide a trail.
    if (condition.kind === 'may') throw new TypeError(`A list looks at what may be done to ${condition.table}.`)
    if (condition.kind !== 'some') {
      for (const part of partsOf(condition)) this.follow(part, places, decides)
      return
    }
    const { relation, table, from, to, one, chain } = condition
    const next = { relation, table, to: to.field, one, chain: chain !== undefined }
    const there =
      from.kind === 'field'
        ? this.step(places[from.level] as Place, { ...next, from: from.name }, false, decides)
        : this.step(this.#fromCaller(from), { ...next, from: '' }, false, decides)
    if (chain !== undefined) see(there, chain, decides)
    const deeper = [...places.slice(0, to.level)]
    deeper[to.level] = there
    for (const part of partsOf(condition)) this.follow(part, deeper, decides)
  }

  #see(operand: Operand, places: readonly Place[], decides: boolean): void {
    if (operand.kind === 'field') see(places[operand.level], operand.name, decides)
    if (operand.kind === 'old') see(places[0], operand.name, decides)
    if (operand.kind === 'now') this.#isTimed = true
  }

  /** Where steps start that start from the caller, or from a value that is no record's. */
  #fromCaller(from: Operand): Place {
    const caller = from.kind === 'caller' ? from.name : ''
    return {
      name: `caller ${JSON.stringify(from)}`,
      steps: [],
      table: '',
      caller,
      shown: new Set(),
      decisive: new Set(),
    }
  }

  #at(way: Omit<Trail, 'decisive' | 'shown'>, isWhole: boolean): Place {
    const known = this.#places.get(way.name)
    const place = known ?? { ...way, decisive: new Set<string>(), shown: new Set<string>() }
    if (!known) this.#places.set(way.name, place)
    if (isWhole) for (const name of Object.keys(tableOf(this.model, way.table).fields)) place.shown.add(name)
    return place
  }
}

function see(place: Place | undefined, field: string, decides: boolean): void {
  if (decides) place?.decisive.add(field)
  else place?.shown.add(field)
}
