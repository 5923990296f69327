import type { CheckReport } from '../expect/check.js'
import { expectationText, type Failure, type Outcome } from '../expect/index.js'
import type { Explanation } from '../explain/why.js'

/** What was expected of each caller: what failed with its reasons, and the rest in a line. */
export function Expectations({ report: { outcomes } }: { readonly report: CheckReport }) {
  const failing = outcomes.filter(({ failures }) => failures.length > 0)
  const callers = [...new Set(outcomes.map(({ expectation }) => expectation.caller))]
  return (
    <section>
      <h2>What was expected</h2>
      {failing.map((outcome) => (
        <Failing outcome={outcome} />
      ))}
      <table class="narrow">
        <thead>
          <tr>
            <th>caller</th>
            <th class="number">stated</th>
            <th class="number">holds</th>
            <th class="number">does not</th>
          </tr>
        </thead>
        <tbody>
          {callers.map((caller) => {
            const own = outcomes.filter(({ expectation }) => expectation.caller === caller)
            const bad = own.filter(({ failures }) => failures.length > 0).length
            return (
              <tr>
                <th>{caller}</th>
                <td class="number">{own.length}</td>
                <td class="number">{own.length - bad}</td>
                <td class={bad > 0 ? 'number bad' : 'number quiet'}>{bad}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </section>
  )
}

function Failing({ outcome: { expectation, failures } }: { readonly outcome: Outcome }) {
  return (
    <article class="failure">
      <h3>{expectationText(expectation)}</h3>
      <ul>
        {failures.map((failure) => (
          <li>
            <strong>{[failure.key, failure.why?.title && `“${failure.why.title}”`].filter(Boolean).join(' ')}</strong>{' '}
            {failure.text}
            <Reasons failure={failure} />
          </li>
        ))}
      </ul>
    </article>
  )
}

function Reasons({ failure: { why } }: { readonly failure: Failure }) {
  if (!why) return null
  return (
    <ul class="quiet">
      {reasonsFor(why).map((reason) => (
        <li>{reason}</li>
      ))}
    </ul>
  )
}

/** What decided, in sentences: what holds, or what stopped it, or what came closest. */
function reasonsFor({ allowed, action, table, grants, denies, sight }: Explanation): readonly string[] {
  const struck = denies.filter(({ holds }) => holds).map(({ name, condition }) => `${name} stops it: ${condition}`)
  if (!allowed && struck.length > 0) return struck
  if (grants.length === 0) return [`nobody was granted to ${action} ${table}`]
  return (sight?.grants ?? grants)
    .filter((grant) => (allowed ? grant.holds && grant.covers : grant.closest))
    .flatMap((grant) =>
      [...grant.to, ...(grant.when ? [grant.when] : [])]
        .filter(({ holds }) => holds === allowed)
        .map(({ who, condition, evidence }) => {
          const asked = who === condition ? who : `${who} (${condition})`
          const because = evidence.length > 0 ? `, ${allowed ? 'since' : 'but'} ${evidence.join('; ')}` : ''
          return `${allowed ? '' : 'not '}${asked}${because}`
        }),
    )
}
