import type { Access } from '../../decide/index.js'
import type { Look, Wanted } from '../look/look.js'
import { type Aspect, isSight, type KeysExpected, type SetExpectation } from './expectation.js'

/** What differs from an expectation: of one record, or of how many there are. */
export interface Difference {
  readonly key?: string
  /** Whether the record is among those it should not be among, or missing among those it should be. */
  readonly how: 'unexpected' | 'missing' | 'amount' | 'refused'
  readonly text: string
}

/** What has to be looked at for several expectations about one caller and one table. */
export function wantedFor(expectations: readonly SetExpectation[]): Wanted {
  const keys = expectations.flatMap(({ expected: { atLeast, noneOf } }) => [
    ...(typeof atLeast === 'object' ? atLeast : []),
    ...(noneOf ?? []),
  ])
  const isCount = ({ exactly, atLeast }: KeysExpected) => typeof exactly === 'number' || typeof atLeast === 'number'
  const isWhole = ({ about, expected }: SetExpectation) =>
    isSight(about)
      ? typeof expected.exactly === 'object' || expected.exactly === 'all'
      : expected.exactly !== undefined || isCount(expected)
  return {
    whole: expectations.some(isWhole),
    count: expectations.some(
      ({ about, expected }) => isSight(about) && (isCount(expected) || expected.refused !== undefined),
    ),
    mentioned: [...new Set(keys)],
  }
}

/** The keys of the records looked at that an aspect is true of. */
export function keysThat(about: Aspect, { records }: Look): ReadonlySet<string> {
  return new Set([...records].filter(([, access]) => isTrueOf(about, access)).map(([key]) => key))
}

export function isTrueOf(about: Aspect, access: Access | undefined): boolean {
  if (!access) return false
  switch (about.what) {
    case 'sees':
    case 'gets':
      return true
    case 'may':
      return access.may[about.action] === true
    case 'hidden':
      return access.hidden.includes(about.field)
    case 'changes':
      return access.changeable.includes(about.field)
  }
}

/**
 * Holds what a caller gets against what was expected.
 *
 * @param all every key of the table; asked for only where `all` are expected to be seen
 */
export async function differences(
  { about, expected }: SetExpectation,
  look: Look,
  all: () => Promise<readonly string[]>,
): Promise<readonly Difference[]> {
  const { exactly, atLeast, noneOf = [], refused } = expected
  const actual = keysThat(about, look)
  const size = isSight(about) ? (look.count ?? actual.size) : actual.size
  const unexpected = (keys: Iterable<string>) =>
    [...keys].map((key): Difference => ({ key, how: 'unexpected', text: unexpectedText(about) }))
  const missing = (keys: Iterable<string>) =>
    [...keys].filter((key) => !actual.has(key)).map((key): Difference => missingFrom(about, key, look))
  const amount = (text: string): Difference[] => [{ how: 'amount', text: `${text}, but it is ${size}` }]
  // In pieces: as many arguments as there may be records are more than a call takes.
  const found: (readonly Difference[])[] = []
  if (refused !== undefined && look.refused?.status !== refused) {
    const instead = look.refused ? `refused with ${look.refused.status}` : `open, with ${size} seen`
    found.push([{ how: 'refused', text: `the table should be refused with ${refused}, but it is ${instead}` }])
  }
  if (typeof exactly === 'object') {
    const wanted = new Set(exactly)
    found.push(unexpected([...actual].filter((key) => !wanted.has(key))), missing(exactly))
  } else if (exactly === 'all') {
    found.push(missing(isSight(about) ? await all() : look.records.keys()))
  } else if (exactly !== undefined && size !== exactly) found.push(amount(`it should be ${exactly}`))
  if (typeof atLeast === 'object') found.push(missing(atLeast))
  else if (atLeast !== undefined && size < atLeast) found.push(amount(`it should be at least ${atLeast}`))
  found.push(unexpected(noneOf.filter((key) => actual.has(key))))
  return found.flat()
}

const UNEXPECTED: Readonly<Record<Aspect['what'], (name: string) => string>> = {
  sees: () => 'is seen, and should not be',
  gets: () => 'can be read by its key, and should not be',
  may: (action) => `may ${action}, and should not`,
  hidden: (field) => `does not see ${field}, and should`,
  changes: (field) => `may change ${field}, and should not`,
}

const MISSING: Readonly<Record<Aspect['what'], (name: string) => string>> = {
  sees: () => 'is not seen, and should be',
  gets: () => 'cannot be read by its key, and should be',
  may: (action) => `may not ${action}, and should`,
  hidden: (field) => `sees ${field}, and should not`,
  changes: (field) => `may not change ${field}, and should`,
}

const nameIn = (about: Aspect): string => ('action' in about ? about.action : 'field' in about ? about.field : '')

const unexpectedText = (about: Aspect): string => UNEXPECTED[about.what](nameIn(about))

function missingFrom(about: Aspect, key: string, look: Look): Difference {
  const unseen = !isSight(about) && !look.records.has(key)
  return { key, how: 'missing', text: unseen ? 'is not seen at all' : MISSING[about.what](nameIn(about)) }
}
