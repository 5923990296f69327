import { render } from 'preact-render-to-string'
import { type CheckReport } from '../expect/check.js'
import { gatherGrid } from '../look/grid.js'
import type { SeenCounts } from '../look/see.js'
import type { Workbench } from '../bench/workbench.js'
import { Coverage, Mutants } from './coverage.js'
import { Expectations } from './expectations.js'
import { Grid } from './grid.js'
import { Reached } from './reached.js'
import { STYLE } from './style.js'

/**
 * Writes what came of a check as one HTML page that stands alone: who may do what, how much each caller sees, what
 * was expected, what in the rules was decisive, and which changes nobody would notice.
 *
 * @param counts how much of each table each caller sees
 */
export function reportOf(bench: Workbench, report: CheckReport, counts: SeenCounts): string {
  const { at, file, coverage, mutation } = report
  const grids = gatherGrid(bench.rulebook)
  const page = (
    <html lang="en">
      <head>
        <meta charset="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <title>Who sees and may do what</title>
        <style>{STYLE}</style>
      </head>
      <body>
        <header>
          <h1>Who sees and may do what</h1>
          <p class="quiet">
            {file}, as of {at.toISOString().slice(0, 16).replace('T', ' ')} UTC
          </p>
          <Summary report={report} />
        </header>
        <Expectations report={report} />
        <Reached counts={counts} />
        <Grid grids={grids} />
        {coverage && <Coverage covered={coverage} />}
        {mutation && <Mutants mutation={mutation} />}
      </body>
    </html>
  )
  return `<!doctype html>\n${render(page)}\n`
}

function Summary({ report: { outcomes, failed, coverage, mutation } }: { readonly report: CheckReport }) {
  const both = coverage?.filter(({ held, failed: not }) => held > 0 && not > 0).length
  return (
    <dl class="summary">
      <div class={failed === 0 ? 'good' : 'bad'}>
        <dt>{failed === 0 ? 'expectations, all of which hold' : `of ${outcomes.length} expectations do not hold`}</dt>
        <dd>{failed === 0 ? outcomes.length : failed}</dd>
      </div>
      {coverage && (
        <div>
          <dt>of {coverage.length} things in the rules were decisive both ways</dt>
          <dd>{both}</dd>
        </div>
      )}
      {mutation && (
        <div class={mutation.survivors.length === 0 ? 'good' : 'bad'}>
          <dt>of {mutation.tried} changes to the rules would go unnoticed</dt>
          <dd>{mutation.survivors.length}</dd>
        </div>
      )}
    </dl>
  )
}
