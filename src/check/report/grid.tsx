import type { TableGrid } from '../look/grid.js'

/** Who may do what, table by table. */
export function Grid({ grids }: { readonly grids: readonly TableGrid[] }) {
  return (
    <section>
      <h2>Who may do what</h2>
      {grids.map((grid) => (
        <TableRules grid={grid} />
      ))}
    </section>
  )
}

function TableRules({ grid: { table, actions, who, ties, bars, denies } }: { readonly grid: TableGrid }) {
  if (who.length === 0) {
    return (
      <article>
        <h3>{table}</h3>
        <p>Closed: nobody may do anything.</p>
      </article>
    )
  }
  return (
    <article>
      <h3>{table}</h3>
      <table>
        <thead>
          <tr>
            <th>who may</th>
            {actions.map((action) => (
              <th>{action}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {who.map(({ who: name, may }) => (
            <tr>
              <th>{name}</th>
              {actions.map((action) => (
                <td class={may[action] ? undefined : 'quiet'}>
                  {may[action]?.map((each) => <div>{each}</div>) ?? '·'}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      <dl class="notes">
        {Object.entries(ties).map(([name, text]) => (
          <div>
            <dt>{name}</dt>
            <dd>{text}</dd>
          </div>
        ))}
        {bars.map((text) => (
          <div>
            <dt class="bad">{text.split(' ')[0]?.replace(':', '').toLowerCase()}</dt>
            <dd>{text.replace(/^\S+ /, '')}</dd>
          </div>
        ))}
        {denies.map(({ text, message }) => (
          <div>
            <dt class="bad">never</dt>
            <dd>
              {text.replace(/^no /, '')}: “{message}”
            </dd>
          </div>
        ))}
      </dl>
    </article>
  )
}
