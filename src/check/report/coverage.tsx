import type { Covered } from '../cover/coverage.js'
import type { Mutation } from '../cover/mutate.js'

/** What in the rules nothing that is stated hangs on. */
export function Coverage({ covered }: { readonly covered: readonly Covered[] }) {
  const partly = covered.filter(({ held, failed }) => held === 0 || failed === 0)
  return (
    <section>
      <h2>What was never decisive both ways</h2>
      <p>
        For each of these, nothing that is stated hangs on its holding, or nothing on its not holding. Some cannot be:
        what is open to anyone never fails to hold.
      </p>
      <table class="narrow">
        <thead>
          <tr>
            <th>table</th>
            <th>kind</th>
            <th>what</th>
            <th class="number">decided by holding</th>
            <th class="number">by not holding</th>
          </tr>
        </thead>
        <tbody>
          {partly.map(({ table, kind, name, held, failed }) => (
            <tr>
              <th>{table}</th>
              <td>{kind}</td>
              <td>{name}</td>
              <td class={held === 0 ? 'number bad' : 'number'}>{held === 0 ? 'never' : held}</td>
              <td class={failed === 0 ? 'number bad' : 'number'}>{failed === 0 ? 'never' : failed}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}

/** Which changes to the rules nobody would notice, and which nobody has to. */
export function Mutants({ mutation: { tried, noticed, survivors, accepted } }: { readonly mutation: Mutation }) {
  return (
    <section>
      <h2>Changes to the rules that go unnoticed</h2>
      <p>
        Of {tried} changes of one thing each, some expectation noticed {noticed}. {accepted.length} more make no
        difference, for the reasons below. {survivors.length} would go unnoticed.
      </p>
      {survivors.map(({ change, suggestion }) => (
        <article class="failure">
          <h3>{change}</h3>
          <pre>{suggestion}</pre>
        </article>
      ))}
      <dl class="notes stacked">
        {accepted.map(({ change, reason }) => (
          <div>
            <dt>{change}</dt>
            <dd class="quiet">{reason}</dd>
          </div>
        ))}
      </dl>
    </section>
  )
}
