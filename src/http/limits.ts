/** How much a request can ask for. Past a limit comes an error before anything runs. */
export const HTTP_LIMITS = Object.freeze({
  /** How many records a page has where nothing is said, and at most. */
  pageRecords: 50,
  mostPageRecords: 200,
  /** How many related records of one relation each record carries at most. */
  relatedRecords: 50,
  /** How many records an answer could have in all, related ones among them, as far as what is asked says. */
  allRecords: 20_000,
  /** How many bytes a body has. */
  bodyBytes: 1024 * 1024,
  /** How deep a body nests. */
  bodyDepth: 80,
  /** How many names an object in a body has: each that fits nothing is told. */
  bodyNames: 1_000,
  /** How many characters path and query have together. */
  addressCharacters: 8_000,
  /** How many comparisons a filter has. */
  filterComparisons: 50,
  /** How deep a filter nests. */
  filterDepth: 16,
  /** How many values stand in one list of a filter. */
  filterValues: 100,
  /** How many characters an `Idempotency-Key` has. */
  repeatKeyCharacters: 255,
})
