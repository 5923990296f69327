import { bigIntAsText } from '../model/index.js'
import type { Decision } from './decision.js'

/** The part of a Pino logger that is used. */
export interface PinoLogger {
  info(fields: object, message: string): void
  warn(fields: object, message: string): void
  error(fields: object, message: string): void
}

/**
 * Writes a guard's decisions to a Pino logger: what was allowed as `info`, refusals and what trusted code does as
 * `warn`, errors while deciding as `error`.
 *
 * @param logger a Pino logger, or a child of one
 * @example createGuard({ rules, store, onDecision: pinoDecisions(pino()) })
 */
export function pinoDecisions(logger: PinoLogger): (decision: Decision) => void {
  return (decision) => {
    const { outcome, trusted, action, table } = decision
    const level = outcome === 'failed' ? 'error' : outcome === 'refused' || trusted !== undefined ? 'warn' : 'info'
    const fields = JSON.parse(JSON.stringify(decision, bigIntAsText)) as object
    logger[level]({ decision: fields }, `${action} ${table} ${outcome}`)
  }
}
