import { all, any, choice, defineCaller, defineModel, defineRules, integer, not, predicate, text } from 'pachter'

const model = defineModel({
  entries: { id: integer().key(), authorId: integer(), audience: choice('private', 'public'), title: text() },
})
const caller = defineCaller({ id: integer() })
const callers = { Ana: { id: 1 }, Ben: { id: 2 } }
const entries = [
  { id: 1, authorId: 1, audience: 'private', title: 'Where the shed key is kept' },
  { id: 2, authorId: 1, audience: 'public', title: 'Open day on Saturday' },
  { id: 3, authorId: 2, audience: 'private', title: 'Slugs again' },
]
const [rule, problem, lists] = ['textarea', 'output', 'main'].map((name) => document.querySelector(name)) as [
  HTMLTextAreaElement,
  HTMLOutputElement,
  HTMLElement,
]

/** The rules, with what stands in the box as who reads an entry. */
const rulesAsWritten = () =>
  defineRules(model, caller, {
    entries: ({ row, caller: who, table }) =>
      table
        .ties({ reader: new Function('row, caller, all, any, not', `return ${rule.value}`)(row, who, all, any, not) })
        .grants({ read: ['reader'] }),
  })

function draw(): void {
  try {
    const rules = rulesAsWritten()
    const columns = Object.entries(callers).map(([name, asking]) => {
      const sees = predicate(rules, { caller: asking, action: 'list', table: 'entries', data: { entries } })
      const titles = entries.filter(sees).map(({ title }) => `<li>${title}</li>`)
      return `<section aria-label="${name}"><h2>${name} sees</h2><ul>${titles.join('') || '<li>nothing</li>'}</ul></section>`
    })
    lists.innerHTML = columns.join('')
    problem.value = ''
  } catch (error) {
    problem.value = (error as Error).message
  }
}

rule.addEventListener('input', draw)
draw()
