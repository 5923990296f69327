import { isMap, isScalar, isSeq, LineCounter, type Node, parseDocument } from 'yaml'
import { inFull, PachterError, tableOf, UnknownNameError } from '../../model/index.js'
import { type Action, anonymous, checkCaller, type Rulebook, rulesOf } from '../../rules/index.js'
import { takesValues } from '../bench/values.js'
import { ExpectationFileError, type ExpectationProblem } from '../bench/errors.js'
import {
  type AcceptedChange,
  type Aspect,
  type Expectation,
  type Expectations,
  isSight,
  type KeysExpected,
  type TryExpectation,
} from './expectation.js'
import { type Owner, ValueReader } from './value-reader.js'
import type { Item } from './yaml-reader.js'

/**
 * Reads a file of expectations.
 *
 * @param text YAML, see docs/checking.md
 * @param file what the file is called in messages
 * @param known the rules, and the names of the callers
 * @throws {ExpectationFileError} naming everything that is wrong in it, with line and column
 * @example readExpectations('callers: { ben: { entries: { sees: [1, 3] } } }', 'ben.yaml', { rulebook, names: ['ben'] })
 */
export function readExpectations(
  text: string,
  file: string,
  known: { readonly rulebook: Rulebook; readonly names: readonly string[] },
): Expectations {
  const lines = new LineCounter()
  const document = parseDocument(text, { lineCounter: lines })
  const reader = new Reader(document, lines, known)
  for (const { pos, message } of document.errors) {
    const [sentence = ''] = message.split(/ at line \d+/)
    reader.complainAt(pos[0], `the YAML is wrong: ${sentence}.`)
  }
  const read = document.errors.length > 0 ? undefined : reader.file(document.contents)
  const inOrder = [...reader.problems].sort((left, right) => left.line - right.line || left.column - right.column)
  const [first, ...more] = inOrder
  if (first || !read) throw new ExpectationFileError(file, [first as ExpectationProblem, ...more])
  return read
}

/** Stands for every action or field that is not named beside it. */
export const OTHERS = 'others'

/** Reads what the nodes of a document say of callers and tables. */
class Reader extends ValueReader {
  /** The callers there are, with those of the file. */
  private names: readonly string[] = []

  file(root: Node | null): Expectations {
    const parts = this.items(root, 'the file', ['at', 'furtherCallers', 'callers', 'accepted'])
    const of = (name: string) => parts.find((part) => part.name === name)
    const moment = this.moment(of('at'))
    const furtherCallers = this.furtherCallers(of('furtherCallers'))
    this.names = [...this.known.names, ...Object.keys(furtherCallers)]
    return {
      ...(moment && { at: moment }),
      furtherCallers,
      all: this.items(of('callers')?.value ?? null, 'callers').flatMap((each) => this.caller(each)),
      accepted: this.list(of('accepted')).flatMap((each) => this.accepted(each)),
    }
  }

  private furtherCallers(item: Item | undefined): Readonly<Record<string, unknown>> {
    const { rulebook, names } = this.known
    return Object.fromEntries(
      (item ? this.items(item.value, 'furtherCallers') : []).map(({ name, at, value }) => {
        const given = callerIn(value?.toJS(this.document))
        try {
          if (names.includes(name)) this.complain(at, `there is a caller ${name} already.`)
          checkCaller(rulebook.caller, given)
        } catch (error) {
          if (!(error instanceof PachterError)) throw error
          this.complain(at, inFull(error))
        }
        return [name, given]
      }),
    )
  }

  private caller({ name, at, value }: Item): Expectation[] {
    const { rulebook } = this.known
    const { names } = this
    if (!names.includes(name)) this.complain(at, inFull(new UnknownNameError('caller', name, names)))
    const tables = Object.keys(rulebook.model.tables)
    return this.items(value, `what ${name} sees`).flatMap((item) => {
      if (tables.includes(item.name)) return this.table({ caller: name, table: item.name }, item)
      this.complain(item.at, inFull(new UnknownNameError('table', item.name, tables)))
      return []
    })
  }

  private table(owner: Owner, { value }: Item): Expectation[] {
    const { rulebook } = this.known
    const { actions } = rulesOf(rulebook, owner.table)
    const { fields: all, key } = tableOf(rulebook.model, owner.table)
    const fields = Object.keys(all).filter((name) => !key.includes(name))
    return this.items(value, `${owner.caller} ${owner.table}`, [
      'sees',
      'gets',
      'may',
      'hidden',
      'changes',
      'tries',
    ]).flatMap((item) => {
      switch (item.name) {
        case 'sees':
        case 'gets':
          return this.set(owner, { what: item.name }, item)
        case 'may':
          return this.sets(owner, item, ['update', 'delete', ...actions], (action) => ({ what: 'may', action }))
        case 'tries':
          return this.list(item).flatMap((each) => this.try(owner, each))
        default: {
          const what = item.name as 'hidden' | 'changes'
          return this.sets(owner, item, fields, (field) => ({ what, field }))
        }
      }
    })
  }

  /** An expectation for each name; `others`, or a word alone, is expected of every name that is not there. */
  private sets(owner: Owner, item: Item, known: readonly string[], aspectOf: (name: string) => Aspect) {
    const isWord = isScalar(this.resolved(item.value)) && this.scalar(item.value) !== null
    const given = isWord ? [{ ...item, name: OTHERS }] : this.items(item.value, item.name, [...known, OTHERS])
    const isOthers = ({ name }: Item) => name === OTHERS && !known.includes(OTHERS)
    const others = known.filter((each) => !given.some((item) => item.name === each))
    return given.flatMap((each) =>
      (isOthers(each) ? others : [each.name]).flatMap((name) => this.set(owner, aspectOf(name), each)),
    )
  }

  private set(owner: Owner, about: Aspect, { at, value }: Item): Expectation[] {
    const expected = isMap(this.resolved(value))
      ? this.conditions(owner, about, value)
      : this.amount(owner, value, (exactly) => ({ exactly }))
    return expected ? [{ kind: 'set', ...owner, about, expected, place: this.placeOf(at) }] : []
  }

  private conditions(owner: Owner, about: Aspect, value: Node | null): KeysExpected {
    const known = this.problems.length
    const names = ['atLeast', 'noneOf', ...(isSight(about) ? ['refused'] : [])]
    const parts = this.items(value, 'what is expected', names).map((each): KeysExpected | undefined => {
      if (each.name === 'refused') return this.refused(each)
      if (each.name === 'noneOf') return { noneOf: this.keys(owner, each.value) }
      return this.amount(owner, each.value, (atLeast) => ({ atLeast: atLeast as readonly string[] | number }), 'none')
    })
    const expected = Object.assign({}, ...parts) as KeysExpected
    const says = (amount: KeysExpected['atLeast']) => (typeof amount === 'object' ? amount.length > 0 : Boolean(amount))
    const saysNothing = expected.refused === undefined && !says(expected.atLeast) && !says(expected.noneOf)
    if (saysNothing && this.problems.length === known)
      this.complain(value, 'this is so whatever is seen: name a key, or how many.')
    return expected
  }

  private refused({ value }: Item): KeysExpected | undefined {
    const status = this.scalar(value)
    if (status === 401 || status === 403) return { refused: status }
    this.complain(value, 'refused takes 401 (sign in) or 403 (forbidden).')
    return undefined
  }

  /** A list of keys, a number, or a word for either. */
  private amount(
    owner: Owner,
    value: Node | null,
    make: (amount: readonly string[] | number | 'all') => KeysExpected,
    except?: 'none',
  ): KeysExpected | undefined {
    if (isSeq(this.resolved(value))) return make(this.keys(owner, value))
    const given = this.scalar(value)
    if (given === 'none' && !except) return make([])
    if (given === 'all' && !except) return make('all')
    if (Number.isSafeInteger(given) && (given as number) >= 0) return make(given as number)
    const words = except ? 'a list of keys or how many' : 'a list of keys, how many, `all` or `none`'
    this.complain(value, `expected ${words}, not ${JSON.stringify(given ?? null)}.`)
    return undefined
  }

  private try(owner: Owner, item: Node): TryExpectation[] {
    const { rulebook } = this.known
    const rules = rulesOf(rulebook, owner.table)
    const actions = ['create', 'update', 'delete', ...rules.actions]
    const parts = this.items(item, 'a try', [...actions, 'with', 'status', 'message', 'stored', 'at'])
    const acting = parts.filter(({ name }) => actions.includes(name))
    const [act] = acting
    const of = (name: string) => parts.find((part) => part.name === name)
    const status = this.scalar(of('status')?.value ?? null)
    const message = this.scalar(of('message')?.value ?? null)
    if (!act || acting.length > 1) this.complain(item, `a try does one thing: ${actions.join(', ')}.`)
    if (![200, 401, 403, 404, 409, 422].includes(status as number)) {
      this.complain(of('status')?.value ?? item, 'a try has a status: 200 (done), 401, 403, 404, 409 or 422.')
    }
    if (!act) return []
    const at = this.moment(of('at'))
    const [stored, values] = ['stored', 'with'].map((name) => this.values(owner, of(name)))
    const isCreate = act.name === 'create'
    const key = isCreate ? undefined : this.key(owner.table, act.value ?? act.at)[0]
    if (isCreate && act.value !== null && this.scalar(act.value) !== null) {
      this.complain(act.value, 'a create has no key; its values stand under `with`.')
    }
    this.assertTakesValues(owner, act.name, of('with'))
    return [
      {
        kind: 'try',
        ...owner,
        action: act.name,
        ...(key !== undefined && { key }),
        values: values ?? {},
        status: status as number,
        ...(message !== null && { message: String(message) }),
        ...(stored && { stored }),
        ...(at && { at }),
        place: this.placeOf(item),
      },
    ]
  }

  private assertTakesValues({ table }: Owner, action: Action, given: Item | undefined): void {
    if (given && !takesValues(rulesOf(this.known.rulebook, table), action))
      this.complain(given.at, `${action} takes no values.`)
  }

  private accepted(item: Node): AcceptedChange[] {
    const parts = this.items(item, 'an accepted change', ['change', 'reason'])
    const [change, reason] = ['change', 'reason'].map((name) =>
      this.scalar(parts.find((part) => part.name === name)?.value ?? null),
    )
    if (typeof change === 'string' && typeof reason === 'string') return [{ change, reason }]
    this.complain(item, 'an accepted change has a `change`, as `check --mutate` names it, and a `reason`.')
    return []
  }
}

/** A caller as the file has it: the file is the developer's own, where nobody can be written down. */
const callerIn = (written: unknown): unknown =>
  typeof written === 'object' && written !== null && 'anonymous' in written ? { ...written, ...anonymous } : written
