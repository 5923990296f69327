import type { Rulebook } from '../rules/index.js'

/** What of a table can be served. */
export const PARTS = ['list', 'get', 'create', 'update', 'delete', 'act', 'bulk'] as const

/** A part of a table that is served: `act` its own actions, `bulk` writes of many records at a time. */
export type Part = (typeof PARTS)[number]

/** Every table that has rules, whole. */
export const wholeTables = ({ tables }: Rulebook): ReadonlyMap<string, ReadonlySet<Part>> =>
  new Map(Object.keys(tables).map((table) => [table, new Set(PARTS)]))
