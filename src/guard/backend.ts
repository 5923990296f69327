import type { Condition } from '../condition/index.js'
import type { Access, Facts, Question } from '../decide/index.js'
import type { Relation } from '../model/index.js'
import type { Caller, Rulebook, Stamps } from '../rules/index.js'

/** A record as it comes back. */
export type ReadRecord = Record<string, unknown>

/** The values of one request, by the names that conditions and plans know them by. */
export type Given = Readonly<Record<string, unknown>>

/** What a plan is run with. */
export interface Bindings {
  readonly caller: Caller
  /** The moment of the request; asked only where it is needed. */
  readonly clock: () => Date
  readonly given: Given
  /** Ends the work early; what was done by then is done. */
  readonly signal?: AbortSignal
}

/** Where plans are run: in the store as it is, or in a transaction. */
export interface Place {
  /** Whether this is inside a transaction. */
  readonly isInside: boolean
  /** Runs work all or nothing: in a transaction, or where this is one already, in a part of it that can be taken back alone. */
  transaction<T>(work: (inside: Place) => Promise<T>): Promise<T>
}

/** Something a backend is ready to do, for callers of one shape, with whatever values. */
export interface Plan<T> {
  /** How many bytes it takes to keep it, about. */
  readonly bytes: number
  run(at: Place, bindings: Bindings): T | Promise<T>
}

/** How a list is found: three ways, of which a backend may know one only. */
export const FORMS = ['walk', 'scan', 'gather'] as const

/**
 * How a filter finds its records.
 * - `walk`: goes through the table in the order asked for and looks each record up on its own: best where many
 *   pass and few are wanted, and for a record that is known by its key
 * - `scan`: goes through the table, with what subqueries select computed once for all
 * - `gather`: collects, through the index of each branch of an OR, the keys the caller reaches
 */
export type Form = (typeof FORMS)[number]

/** How a list is going to be run. */
export interface ListPlan {
  readonly form: Form
  /** About how many records the table has, and how many of them the caller reaches, where that was looked at. */
  readonly rows?: number
  readonly reach?: number
  /** The fields, as `items.ownerId`, on which an index is missing, so that more has to be gone through than the caller reaches. */
  readonly missing?: readonly string[]
  readonly text: string
  readonly values: readonly unknown[]
}

/** A list that can be run, or told of. */
export interface Listing extends Plan<readonly ReadRecord[]> {
  explain(at: Place, bindings: Bindings): Promise<ListPlan>
}

/** One field to sort by. */
export interface Order {
  readonly field: string
  readonly descending: boolean
  /** When the caller sees the field, where that is not always: elsewhere it counts as missing. */
  readonly sight?: Condition
}

/** What to read of each record of a table: all of it decided, so that it only has to be written. */
export interface RecordRequest {
  readonly table: string
  /** The fields to read besides the key; left out, all. */
  readonly fields?: readonly string[]
  /** When the caller sees each field that is not seen in all of the records. */
  readonly masks: ReadonlyMap<string, Condition>
  /** What adds, as `$access`, what the caller may do. */
  readonly access?: { readonly questions: readonly Question[]; readonly read: (facts: Facts) => Access }
  readonly related: readonly RelatedRequest[]
  /** When the caller sees the record at all, where that is not yet sure; of others, only the key is read. */
  readonly sight?: Condition
}

/** Records that a record refers to, or that refer to it, to be read along with it. */
export interface RelatedRequest extends RecordRequest {
  readonly relation: Relation
  /** Which of them the caller sees. */
  readonly filter: Condition
  /** When the caller sees the field of the outer record that relates the two, where that is not always. */
  readonly from?: Condition
  /** The same for the field of the related record. */
  readonly to?: Condition
  readonly order: readonly Order[]
  /** How many at most; a whole number, 0 or more. */
  readonly limit?: number
}

/** Which records to list, in which order, and what of each. */
export interface ListRequest extends RecordRequest {
  readonly filter: Condition
  readonly order: readonly Order[]
  /** Only what comes after the record whose values are given; those named are missing there. */
  readonly after?: readonly string[]
  /** At most as many as given under {@link LIMIT}. */
  readonly limited: boolean
  /** Without as many, from the start, as given under {@link OFFSET}. */
  readonly skipping: boolean
  /** How to find them, where somebody knows better. */
  readonly form?: Form
}

/** Records whose keys are given. */
export interface GetRequest extends RecordRequest {
  readonly filter: Condition
  readonly records: number
}

/** Which records to count. */
export interface CountRequest {
  readonly table: string
  readonly filter: Condition
  readonly form?: Form
}

/** New records: their values are given by field, see {@link valueSlot}. */
export interface CreateRequest {
  readonly table: string
  /** The fields that get a value. */
  readonly stored: readonly string[]
  readonly condition: Condition
  /** What to give back; left out, the key. */
  readonly returned?: RecordRequest
  readonly records: number
}

/** What a change makes of a record: its values are given by field. */
export interface Changes {
  /** The fields that a value was sent for. */
  readonly given: readonly string[]
  readonly stamps: Stamps
  /** Whether it is an action of the table's own, which is more than what it sets. */
  readonly acts: boolean
}

/** A change to records whose keys are given. */
export interface ChangeRequest {
  readonly table: string
  readonly changes: Changes
  /** The fields given that can be set at all; the others only take part in the condition. */
  readonly settable: readonly string[]
  readonly condition: Condition
  readonly returned?: RecordRequest
  readonly records: number
}

/** The removal of records whose keys are given. */
export interface RemoveRequest {
  readonly table: string
  readonly condition: Condition
  readonly records: number
  /** What is set instead of removing them; left out, they are removed. */
  readonly leaving?: Stamps
}

/** What came of a write. */
export interface Written {
  /** How many records were written. */
  readonly touched: number
  /** Reads what was written, as the caller sees it, where that was asked for and the backend can tell. */
  records?(): readonly ReadRecord[]
  /** Reads the keys of new records, in their order, as far as the backend numbered them. */
  keys?(): readonly Given[]
}

/** A write that is ready to be done. */
export type WritePlan = Plan<Written>

/** The answers about one record. */
export interface Answers {
  readonly facts: Facts
  /** Reads the record as it is stored, whoever may see it. */
  record(): ReadRecord
}

/** Finds what is wrong with values by field, for those that cannot be stored as they are. */
export type Misfits = (values: Given) => readonly (readonly [field: string, problem: string])[]

/** A piece of a query of one's own. */
export interface PieceRequest extends RecordRequest {
  /** The condition alone, or a query that stands for the table. */
  readonly kind: 'filter' | 'view'
  readonly filter: Condition
  readonly form: Form
  /** What the table is called in that query. */
  readonly alias?: string
  /** How to write a placeholder, by its number from 1; left out, as the database's driver has it. */
  readonly placeholder?: (number: number) => string
}

/** A piece of SQL and the values for its placeholders, in their order. */
export interface SqlPiece {
  readonly text: string
  readonly values: readonly unknown[]
}

/** The piece for whichever caller of a shape. */
export interface Piece {
  readonly bytes: number
  for(bindings: Bindings): SqlPiece
}

/**
 * What a guard needs of whatever stores the records. All that the rules say is decided before it gets here: a backend
 * finds records under conditions, and writes under conditions.
 */
export interface Backend {
  /** The store as it is. */
  readonly place: Place
  /** Whether a write that looks at other records has to lock first, and look in a statement of its own. */
  readonly locks: boolean
  /** Whether an error in a transaction makes the whole of it fail, unless it happened in a part of its own. */
  readonly failsWhole: boolean
  /** Whether all is known that has to be before anything is planned. */
  readonly isReady: boolean
  /** Finds that out. */
  getReady(at: Place): Promise<void>
  list(request: ListRequest): Listing
  /** Those of the records whose keys are given that the filter lets through. */
  get(request: GetRequest): Plan<readonly ReadRecord[]>
  count(request: CountRequest): Plan<number>
  exists(request: CountRequest): Plan<boolean>
  /** Stores those of the records of which the condition holds; what is given back is in their order. */
  create(request: CreateRequest): WritePlan
  /** Changes those of the records of which the condition holds. */
  change(request: ChangeRequest): WritePlan
  /** Removes those of the records of which the condition holds. */
  remove(request: RemoveRequest): WritePlan
  /** Locks records by the keys given, as far as the condition holds, until the transaction ends; says whether there is one. */
  lock(request: RemoveRequest): Plan<boolean>
  /** Locks the record that a reference given by field leads to: it then stays there. */
  refer(table: string, relation: Relation): Plan<void>
  /** Answers questions about the record whose key is given, and about what the changes would make of it. */
  ask(table: string, questions: readonly Question[], changes: Changes): Plan<Answers | undefined>
  /** Answers questions about a record that is not stored, from the values given. */
  askNew(table: string, questions: readonly Question[]): Plan<Facts>
  /** What finds the values that would be stored otherwise than they are given; left out where all are stored as they are. */
  misfits(table: string): Misfits | undefined
  /** A piece of a query of one's own that keeps to the rules. */
  piece(request: PieceRequest): Piece
}

/** A database that a guard can work with: what a connector makes. */
export interface Store {
  /** Gets it ready for the rules of a guard. */
  backend(rulebook: Rulebook): Backend
  /** Closes the database, where whoever made the store wants that done for them, as the command line does. */
  close?(): Promise<void>
}

/** The names of given values. */
export const LIMIT = '$limit'
export const OFFSET = '$offset'

/** The name of the given value of a field of a new record; of the first, or of one further on. */
export const valueSlot = (field: string, at = 0): string => (at === 0 ? field : `${field} ${at}`)

/** The name of the given value that a page starts after. */
export const afterSlot = (field: string): string => `after ${field}`

/** The name of the given value for a part of a key; of the first key, or of one further on. */
export const keySlot = (field: string, at = 0): string => (at === 0 ? `key ${field}` : `key ${field} ${at}`)
