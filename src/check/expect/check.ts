import type { Covered } from '../cover/coverage.js'
import { ExpectationFileError, type ExpectationProblem } from '../bench/errors.js'
import {
  type Expectations,
  type Outcome,
  readExpectations,
  runExpectations,
  type RunOptions,
  unknownKeys,
} from './index.js'
import type { Mutation } from '../cover/mutate.js'
import type { Workbench } from '../bench/workbench.js'

/** A file of expectations that was read and fits the data. */
export interface ReadFile {
  readonly file: string
  readonly expectations: Expectations
  /** The workbench at the moment the file states. */
  readonly bench: Workbench
}

/**
 * Reads a file of expectations and makes sure that every record it names is there.
 *
 * @param text what the file holds
 * @param file what it is called in messages
 * @throws {ExpectationFileError} naming everything that is wrong, with line and column
 * @example
 * const bench = openWorkbench({ rules, callers, store })
 * const file = await openExpectations(bench, await readFile('expectations.yaml', 'utf8'), 'expectations.yaml')
 */
export async function openExpectations(opened: Workbench, text: string, file: string): Promise<ReadFile> {
  const expectations = readExpectations(text, file, opened)
  const { at, all, furtherCallers } = expectations
  const bench = opened.instead({ furtherCallers, ...(at && { clock: () => at }) })
  const problems = (await unknownKeys(bench, expectations)).map(({ expectation, key }): ExpectationProblem => ({
    line: expectation.place?.line ?? 1,
    column: expectation.place?.column ?? 1,
    reason: `there is no record ${key} in ${expectation.table}.`,
  }))
  if (all.length === 0) problems.push({ line: 1, column: 1, reason: 'nothing is expected, so nothing can be checked.' })
  const [first, ...more] = problems
  if (first) throw new ExpectationFileError(file, [first, ...more])
  return { file, expectations, bench }
}

/** What came of a check. */
export interface CheckResult {
  readonly file: string
  /** The moment it was checked for. */
  readonly at: Date
  readonly outcomes: readonly Outcome[]
  readonly failed: number
}

/** The same, with what else was found out. */
export interface CheckReport extends CheckResult {
  readonly coverage?: readonly Covered[]
  readonly mutation?: Mutation
}

/**
 * Runs a file's expectations; failures are explained. Nothing stays written.
 * @example expect((await runFile(file)).failed).to.equal(0)
 */
export async function runFile({ file, expectations, bench }: ReadFile, options: RunOptions = {}): Promise<CheckResult> {
  const outcomes = await runExpectations(bench, expectations.all, { explains: true, ...options })
  return { file, at: bench.clock(), outcomes, failed: outcomes.filter(({ failures }) => failures.length > 0).length }
}
