import { AssertionError } from 'chai'

/** A value as a text that can be read back: what JSON has no words for is written with its type. */
export const shown = (value: unknown): string =>
  JSON.stringify(value, (_, each: unknown) => (typeof each === 'bigint' ? `${each}n` : each), 1)

/** Holds something, and says what it is about only where it fails: a whole world takes long to write down. */
export function about(place: () => string, hold: () => void): void {
  try {
    hold()
  } catch (error) {
    if (error instanceof AssertionError) error.message = `${place()}: ${error.message}`
    throw error
  }
}
