import { RuleError } from '../condition/index.js'
import { inFull, PachterError } from '../model/index.js'

/** Runs what looks at rules; what is wrong with them is told with their place, and with all that would be right. */
export function at<T>(place: string, work: () => T): T {
  try {
    return work()
  } catch (error) {
    if (!(error instanceof PachterError)) throw error
    throw new RuleError(`In the rules of ${place}: ${inFull(error)}`, { cause: error })
  }
}
