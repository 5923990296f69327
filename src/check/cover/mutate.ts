import { type AcceptedChange, type Expectation, type Expectations, runExpectations } from '../expect/index.js'
import { fails } from './fails.js'
import { mutantsOf } from './mutants.js'
import { suggester } from './suggest.js'
import type { Workbench } from '../bench/workbench.js'

/** A change to the rules that no expectation noticed. */
export interface Survivor {
  readonly change: string
  /** Why nobody has to notice it, where the file says so. */
  readonly reason?: string
  /** An expectation that would notice it, as it could stand in the file; or what it takes, in words. */
  readonly suggestion: string
}

/** What came of changing one thing in the rulebook at a time. */
export interface Mutation {
  readonly tried: number
  readonly noticed: number
  /** Changes that nobody noticed and that nothing in the file accepts. */
  readonly survivors: readonly Survivor[]
  /** Changes that nobody noticed, and that the file says why. */
  readonly accepted: readonly Survivor[]
  /** What the file accepts although it was noticed, or is no change to these rules. */
  readonly idle: readonly AcceptedChange[]
}

/**
 * Changes one thing in the rulebook at a time, and looks whether any expectation notices.
 *
 * @param onProgress told after each change how many were tried
 * @example (await mutate(bench, expectations)).survivors.map(({ change }) => change)
 */
export async function mutate(
  bench: Workbench,
  { all, accepted }: Expectations,
  onProgress: (done: number) => void = () => undefined,
): Promise<Mutation> {
  const mutants = mutantsOf(bench.rulebook)
  const suggest = suggester(bench)
  const unnoticed: Survivor[] = []
  for (const [at, mutant] of mutants.entries()) {
    const changed = bench.instead({ rules: mutant.rulebook })
    // The table's own expectations come first: they are the likeliest to notice. What is seen of a table tells on others, too.
    const isOwn = ({ table }: Expectation) => table === mutant.table
    const inOrder = [...all.filter(isOwn), ...all.filter((each) => !isOwn(each))]
    if (!(await isNoticed(bench, changed, inOrder))) {
      const reason = accepted.find(({ change }) => change === mutant.change)?.reason
      const suggestion = reason === undefined ? await suggest(mutant) : ''
      unnoticed.push({
        change: mutant.change,
        suggestion,
        ...(reason !== undefined && { reason }),
      })
    }
    onProgress(at + 1)
  }
  return {
    tried: mutants.length,
    noticed: mutants.length - unnoticed.length,
    survivors: unnoticed.filter(({ reason }) => reason === undefined),
    accepted: unnoticed.filter(({ reason }) => reason !== undefined),
    idle: accepted.filter(({ change }) => !unnoticed.some((each) => each.change === change)),
  }
}

async function isNoticed(bench: Workbench, changed: Workbench, expectations: Expectations['all']): Promise<boolean> {
  try {
    return await fails(changed, expectations)
  } catch {
    // Rules that cannot even be asked do not go unnoticed; a store that cannot be asked notices nothing.
    await runExpectations(bench, expectations, { stopsEarly: true })
    return true
  }
}
