import type { Rulebook } from './rulebook.js'

const rulebooks = new WeakSet<Rulebook>()

/** Notes that a rulebook was checked, or is to be taken as it is, and stays so. */
export function noteChecked<R extends Rulebook>(rulebook: R): R {
  rulebooks.add(rulebook)
  return rulebook
}

/** Whether a rulebook was checked; data that looks like one was not. */
export const isChecked = (rulebook: Rulebook): boolean => rulebooks.has(rulebook)
