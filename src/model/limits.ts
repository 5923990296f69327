/**
 * How much anybody can ask for, all in one place. Past a limit comes an error before anything runs. They are far above
 * what people write; docs/limits.md says what each is for.
 */
export const LIMITS = Object.freeze({
  /** How deep conditions nest, in rules and in a `where`. */
  conditionDepth: 64,
  /** How many parts a `where` has. */
  whereParts: 1_000,
  /** How many parts a condition of the rules has, with the rules of other tables that it refers to put in place. */
  ruleParts: 2_000,
  /** How many values `oneOf` compares with, and how many items a list in a condition has. */
  listItems: 10_000,
  /** The same for types that have no lists, where each value is a comparison of its own. */
  comparedValues: 500,
  /** How deep `with` nests. */
  withDepth: 4,
  /** How many relations one `with` reads, counted through all its depths. */
  withRelations: 16,
  /** How many fields `orderBy` names. */
  orderFields: 16,
  /** How many records one bulk call writes. */
  bulkRecords: 10_000,
  /** How many bytes of related records one record carries, where the database puts them together itself. */
  relatedBytes: 8 * 2 ** 20,
  /** How many states the pattern of a check has; each character of a text takes as many steps at most. */
  patternStates: 1_000,
  /** How many characters of a text a pattern is matched against. */
  patternText: 10_000,
  /** How many seconds `now` is moved by: some three hundred years. */
  momentSeconds: 1e10,
  /** How deep a document nests. */
  jsonDepth: 64,
  /** How many bytes of plans a guard keeps, about. */
  planBytes: 32 * 2 ** 20,
  /** How many parts of conditions are kept compiled to decide in memory, for one rulebook. */
  keptParts: 100_000,
  /** How large a rulebook file is, in characters. */
  rulebookCharacters: 5_000_000,
})
