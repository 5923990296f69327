import { allOf, always, type Condition, normalise } from '../condition/index.js'
import {
  accessQuestions,
  accessReader,
  closedVerdict,
  fieldMasks,
  type Inquiry,
  isClosed,
  refusal,
} from '../decide/index.js'
import { tableOf } from '../model/index.js'
import { type Action, asSeen, checkAsked, expand, permission, specialise } from '../rules/index.js'
import { asInput, type Asked } from './ask.js'
import type { Form, ListRequest, Order, RecordRequest, RelatedRequest } from './backend.js'
import { planned, type Session } from './session.js'

/** What the caller may do this to, decided for this caller. */
export const decidedPermission = ({ rulebook, caller }: Session, table: string, action: Action): Condition =>
  specialise(permission(rulebook, table, action), caller)

/** The condition on what the caller may read of what was asked, decided for this caller. */
export function filterOf(session: Session, table: string, action: 'list' | 'get', where?: Condition): Condition {
  const { rulebook, caller } = session
  tableOf(rulebook.model, table)
  if (!where) return decidedPermission(session, table, action)
  asInput(table, () => checkAsked(rulebook, table, where))
  // From trusted code nothing is hidden, and it may do everything.
  if (caller.trusted !== undefined) return normalise(where, (leaf) => (leaf.kind === 'may' ? always : leaf))
  const permitted = permission(rulebook, table, action)
  return specialise(allOf(permitted, expand(rulebook, asSeen(rulebook, where, [table]))), caller)
}

/** A list, with all decided that the rules decide for this caller. */
export function listRequest(session: Session, asked: Asked, filter: Condition, form: Form | undefined): ListRequest {
  const record = recordRequest(session, asked, 'list', filter)
  return {
    ...record,
    filter,
    order: ordersOf(asked, record),
    ...(asked.after && { after: asked.after }),
    limited: asked.limited === true,
    skipping: asked.skipping === true,
    ...(form && { form }),
  }
}

/**
 * What to read of each record of a table, and of those related to it.
 *
 * @param filter what all of the records meet
 */
export function recordRequest(
  session: Session,
  { table, fields, access, related }: Pick<Asked, 'table' | 'fields' | 'access' | 'related'>,
  action: 'list' | 'get',
  filter?: Condition,
): RecordRequest {
  const { rulebook, caller } = session
  const masks = fieldMasks(rulebook, table, caller, action, filter)
  return {
    table,
    ...(fields && { fields }),
    masks,
    ...(access && {
      access: {
        questions: accessQuestions(rulebook, table, caller, action),
        read: accessReader(rulebook, table, caller, action),
      },
    }),
    related: related.map((each) => relatedRequest(session, each, masks)),
  }
}

/** A reference tells of both its ends: who does not see the field that holds it does not see where it leads either. */
function relatedRequest(
  session: Session,
  { relation, asked }: Asked['related'][number],
  outer: RecordRequest['masks'],
): RelatedRequest {
  const filter = filterOf(session, relation.table, 'list', asked.where)
  const record = recordRequest(session, asked, 'list', filter)
  const [from, to] = [outer.get(relation.from), record.masks.get(relation.to)]
  return {
    ...record,
    relation,
    filter,
    ...(from && { from }),
    ...(to && { to }),
    order: ordersOf(asked, record),
    ...(asked.most !== undefined && { limit: asked.most }),
  }
}

/** Where a field is seen in all records that can come, its index serves. */
function ordersOf({ order }: Asked, { masks }: RecordRequest): readonly Order[] {
  return order.map((each) => {
    const sight = masks.get(each.field)
    return sight ? { ...each, sight } : each
  })
}

/** Refuses, without asking the database, what no record could be open to. */
export function refuseClosed(session: Session, inquiry: Inquiry): void {
  if (isShut(session, inquiry)) throw refusal(closedVerdict(inquiry))
}

/** Whether no record at all could be open to this caller. */
export const isShut = (session: Session, inquiry: Inquiry): boolean =>
  planned(session, 'closed', [inquiry.table, inquiry.action], () => ({ is: isClosed(inquiry) })).is
