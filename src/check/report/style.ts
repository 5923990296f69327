/** The look of the report: one column, black on paper, tables that break between rows. */
export const STYLE = `
:root { --ink: #1c2b23; --quiet: #66736b; --line: #d9ddd2; --leaf: #3d7a4e; --brick: #a63d2a; --paper: #fffefa; }
* { box-sizing: border-box; }
body { font: 15px/1.5 system-ui, 'DejaVu Sans', sans-serif; color: var(--ink); background: var(--paper); margin: 0 auto; max-width: 1180px; padding: 32px 24px 64px; }
h1 { font-size: 28px; margin: 0; }
h2 { font-size: 20px; margin: 48px 0 12px; padding-top: 12px; border-top: 3px solid var(--ink); }
h3 { font-size: 15px; margin: 24px 0 8px; }
p { margin: 4px 0 12px; max-width: 75ch; }
table { border-collapse: collapse; width: 100%; font-size: 13px; }
table.even { table-layout: fixed; }
table.narrow { width: auto; min-width: 50%; }
th, td { text-align: left; vertical-align: top; padding: 5px 14px 5px 0; border-bottom: 1px solid var(--line); font-weight: normal; }
tbody th { font-weight: 600; }
thead th { color: var(--quiet); border-bottom-color: var(--ink); }
.number { text-align: right; font-variant-numeric: tabular-nums; }
.quiet { color: var(--quiet); }
.bad { color: var(--brick); font-weight: 600; }
.bar { display: block; height: 4px; margin-top: 2px; background: var(--leaf); border-radius: 2px; }
.summary { display: flex; flex-wrap: wrap; gap: 16px; margin: 20px 0 0; }
.summary > div { border: 1px solid var(--line); border-left: 5px solid var(--quiet); padding: 10px 18px 12px; display: flex; flex-direction: column-reverse; justify-content: flex-end; max-width: 320px; }
.summary > .good { border-left-color: var(--leaf); }
.summary > .bad { border-left-color: var(--brick); font-weight: inherit; color: inherit; }
.summary dd { font-size: 30px; line-height: 1.2; margin: 0; font-weight: 600; }
.notes { font-size: 13px; margin: 8px 0 0; }
.notes > div { display: flex; gap: 10px; padding: 2px 0; }
.notes dt { font-weight: 600; flex: 0 0 auto; max-width: 50%; }
.notes dd { margin: 0; }
.stacked > div { display: block; padding: 4px 0; }
.stacked dt { max-width: none; }
.failure { border-left: 5px solid var(--brick); padding: 2px 16px; margin: 0 0 16px; background: #fbf3ee; }
.failure h3 { margin: 8px 0; }
.failure ul { margin: 4px 0 10px; padding-left: 20px; }
pre { font-size: 12px; overflow-x: auto; }
@media print {
  body { max-width: none; padding: 0; font-size: 11px; background: none; }
  table, .notes, pre { font-size: 10px; }
  h2, h3 { break-after: avoid; }
  article, tr { break-inside: avoid; }
  .bar, .failure, .summary > div { print-color-adjust: exact; -webkit-print-color-adjust: exact; }
}
`
