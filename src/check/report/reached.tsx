import { seenCount, type SeenCounts, seenText, type Sight } from '../look/see.js'

/** How many records of each table each caller sees, with a bar against whoever sees most. */
export function Reached({ counts: { callers, tables } }: { readonly counts: SeenCounts }) {
  return (
    <section>
      <h2>How much each caller sees</h2>
      <table class="even">
        <thead>
          <tr>
            <th>records of</th>
            {callers.map((caller) => (
              <th>{caller}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {Object.entries(tables).map(([table, sights]) => {
            const most = Math.max(1, ...Object.values(sights).map(seenCount))
            return (
              <tr>
                <th>{table}</th>
                {callers.map((caller) => (
                  <Cell sight={sights[caller] as Sight} most={most} />
                ))}
              </tr>
            )
          })}
        </tbody>
      </table>
      <p class="quiet">
        “sign in”: refused until the caller signs in. “closed”: refused as a whole. A full bar is the most that any of
        these callers sees of the table.
      </p>
    </section>
  )
}

function Cell({ sight, most }: { readonly sight: Sight; readonly most: number }) {
  if (!('count' in sight)) return <td class="quiet">{sight.status === 401 ? 'sign in' : 'closed'}</td>
  return (
    <td>
      {seenText(sight)}
      <span class="bar" style={`width:${Math.round((seenCount(sight) / most) * 100)}%`} />
    </td>
  )
}
