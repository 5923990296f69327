/**
 * Marks what functions of this library made, so that nothing from outside can pass for it: data that was parsed has no
 * symbols. They are registered ones, since a configuration may load this library a second time.
 */
export const brandOf = (kind: string): symbol => Symbol.for(`pachter ${kind}`)

/** Whether something carries a brand of its own. */
export const isBranded = (given: unknown, brand: symbol): boolean =>
  typeof given === 'object' && given !== null && Object.hasOwn(given, brand)
