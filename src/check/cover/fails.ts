import { type Expectation, runExpectations } from '../expect/index.js'
import type { Workbench } from '../bench/workbench.js'

/** Whether expectations do not hold; looked at no further than that takes. */
export async function fails(bench: Workbench, expectations: readonly Expectation[]): Promise<boolean> {
  const outcomes = await runExpectations(bench, expectations, { stopsEarly: true })
  return outcomes.some(({ failures }) => failures.length > 0)
}
