import { h } from 'preact'
import { renderToString } from 'preact-render-to-string'
import { stringify } from 'yaml'
import { type CheckResult, expectationText, type Failure, type Outcome } from '../check/index.js'

/** A failure in one line: the record, and what is wrong with it. */
export const failureText = ({ key, why, text }: Failure): string =>
  [...(key === undefined ? [] : [`${key}${why?.title ? ` “${why.title}”` : ''}`]), text].join(' ')

/** Where an expectation stands: `expectations.yaml:12:7`. */
export function placeText(file: string, { expectation: { place } }: Outcome): string {
  return place ? `${file}:${place.line}:${place.column}` : file
}

/**
 * Writes what came of a check in the Test Anything Protocol, version 14.
 * @see https://testanything.org/tap-version-14-specification.html
 */
export function tapOf({ file, outcomes }: CheckResult): string {
  const escape = (text: string) => text.replaceAll('\\', '\\\\').replaceAll('#', '\\#')
  const lines = outcomes.flatMap((outcome, at) => {
    const { failures, expectation } = outcome
    const line = `${failures.length > 0 ? 'not ok' : 'ok'} ${at + 1} - ${escape(expectationText(expectation))}`
    if (failures.length === 0) return [line]
    const details = stringify(
      { at: placeText(file, outcome), differences: failures.map(failureText) },
      { lineWidth: 0 },
    )
    return [
      line,
      '  ---',
      ...details
        .trimEnd()
        .split('\n')
        .map((each) => `  ${each}`),
      '  ...',
    ]
  })
  return ['TAP version 14', `1..${outcomes.length}`, ...lines].join('\n')
}

/** What XML cannot hold. */
// eslint-disable-next-line no-control-regex
const NOT_IN_XML = /[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]/g

/** Writes what came of a check as JUnit XML, a suite for each caller. */
export function junitOf({ file, outcomes, failed, at }: CheckResult): string {
  const clean = (text: string) => text.replaceAll(NOT_IN_XML, '�')
  const callers = [...new Set(outcomes.map(({ expectation }) => expectation.caller))]
  const suites = callers.map((caller) => {
    const own = outcomes.filter(({ expectation }) => expectation.caller === caller)
    const cases = own.map((outcome) => {
      const { expectation, failures } = outcome
      const texts = failures.map(failureText).map(clean)
      const failure = h('failure', { message: texts[0] }, texts.join('\n'))
      const name = clean(expectationText(expectation))
      const line = expectation.place?.line
      const attributes = { name, classname: `${caller}.${expectation.table}`, file, line }
      return h('testcase', attributes, failures.length > 0 ? failure : undefined)
    })
    const bad = own.filter(({ failures }) => failures.length > 0).length
    return h('testsuite', { name: caller, tests: own.length, failures: bad, timestamp: at.toISOString() }, cases)
  })
  const all = h('testsuites', { name: file, tests: outcomes.length, failures: failed }, suites)
  return `<?xml version="1.0" encoding="UTF-8"?>\n${renderToString(all)}`
}
