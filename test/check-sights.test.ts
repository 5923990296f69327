import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { expect } from 'chai'
import { defineRules } from 'pachter'
import {
  compareRulebooks,
  type Fixture,
  mutantsOf,
  mutate,
  openExpectations,
  openFixture,
  openWorkbench,
  recordExpectations,
  runExpectations,
  seeCounts,
  seeTable,
  type Workbench,
} from 'pachter/check'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { caller } from '../examples/allotment/rules.js'
import { demo, pachter } from './support/command-line.js'
import { refusalOf } from './support/korenveld.js'
import { scratchFolder } from './support/scratch.js'

describe('looking at Korenveld', () => {
  let fixture: Fixture
  let scratch: string
  before(async () => {
    fixture = await openFixture(model, await readData())
    // Beside the demo, so that a configuration in it finds what the demo's own finds.
    scratch = scratchFolder(`${demo}.scratch-`)
  })
  after(() => fixture.close())

  it('sees what can be read by its key and is in no list, and who may change it', async () => {
    const by = (get: boolean) =>
      defineRules(model, caller, {
        plots: ({ table, row, caller, signedIn }) =>
          table.ties({ holder: row.holderId.is(caller.id) }).grants({
            list: ['holder'],
            get: [...(get ? [{ to: signedIn, fields: ['number'] } as const] : []), 'holder'],
            update: [{ to: signedIn, fields: ['areaM2'], when: row.number.isSet() }],
          }),
      })
    const subject = { callers: { ana: { id: 1 } }, store: fixture.store }
    const [closed, opened] = [by(false), by(true)].map((rules) => openWorkbench({ ...subject, rules })) as [
      Workbench,
      Workbench,
    ]
    const plots = ((await readData())['plots'] as unknown[]).length
    expect(await seeCounts(opened, ['ana'])).to.have.nested.property('tables.plots.ana.byKey', plots - 2)
    const { rows } = await seeTable(opened, 'plots', ['ana'])
    expect(rows.filter(({ byKey }) => byKey?.includes('ana'))).to.have.length(plots - 2)
    const { changes, widened } = await compareRulebooks(closed, opened.rulebook)
    const gained = changes.filter(({ table }) => table === 'plots').map((each) => [each.action, each.gained.count])
    expect([widened, gained]).to.deep.equal([
      true,
      [
        ['get', plots - 2],
        ['update', plots - 2],
      ],
    ])
    // Every change to who reads what by its key is noticed, or said how to notice it.
    const read = async (at: Workbench, text: string) => (await openExpectations(at, text, 'apart.yaml')).expectations
    const { survivors } = await mutate(closed, await read(closed, 'callers: { ana: { plots: { sees: 2 } } }'))
    const wider = survivors.find(({ change }) => change === 'plots: get grant to holder opened to whoever is signed in')
    expect(wider?.suggestion).to.match(/gets:\n +noneOf:/)
    const stated = await read(closed, wider?.suggestion ?? '')
    expect(await runExpectations(closed, stated.all)).to.have.nested.property('[0].failures').that.is.empty
    expect(await runExpectations(opened, stated.all)).to.have.nested.property(
      '[0].failures[0].text',
      'can be read by its key, and should not be',
    )
    expect(await recordExpectations(opened, undefined, 'apart.yaml')).to.match(/plots:\n +sees: .*\n +gets: \[1\.\./)
    // Whoever cannot see a plot writes nothing about it: that is noticed by what is stated of entries.
    const journal = openWorkbench({
      ...subject,
      rules: defineRules(model, caller, {
        plots: ({ table, row, caller }) =>
          table.ties({ holder: row.holderId.is(caller.id) }).grants({ read: ['holder'] }),
        entries: ({ table, row, caller, now }) =>
          table
            .ties({ author: row.authorId.is(caller.id) })
            .grants({ read: ['author'], create: [{ to: 'author', fields: ['plotId', 'audience', 'title', 'body'] }] })
            .stamps({ create: { authorId: caller.id, createdAt: now } }),
      }),
    })
    const about = `callers:
  ana:
    entries:
      tries:
        - { create: null, with: { plotId: 9, audience: private, title: Leeks, body: Tall. }, status: 422 }`
    const { survivors: others } = await mutate(journal, await read(journal, about))
    expect(others.map(({ change }) => change)).to.not.include('plots: tie holder always holds')
    // A database that cannot be asked notices no change.
    let isLost = false
    const failing = {
      ...fixture.store,
      query: (...asked: Parameters<typeof fixture.store.query>) =>
        isLost ? Promise.reject(new Error('Lost.')) : fixture.store.query(...asked),
    }
    const lost = openWorkbench({ ...subject, rules: by(true), store: failing })
    const expected = await read(lost, 'callers: { ana: { plots: { sees: 2 } } }')
    isLost = true
    const accepted = mutantsOf(lost.rulebook).map(({ change }) => ({ change, reason: 'Nobody minds.' }))
    expect((await refusalOf(mutate(lost, { ...expected, accepted }))).message).to.match(/Lost|did not/)
  })

  it('gives a terminal no commands that stand in records', async () => {
    const written = (name: string, content: string) => {
      writeFileSync(join(scratch, name), content)
      return join(scratch, name)
    }
    const config = written(
      'told.config.ts',
      `import { openFixture } from 'pachter/check'
import { defineConfig } from 'pachter/cli'
import { callers } from '../callers.js'
import { readData } from '../database.js'
import { model } from '../model.js'
import { rules } from '../rules.js'
const title = '\\u001b[2J\\u009b1A\\u202eLeeks\\nAll 895 expectations hold.'
const store = async () => {
  const data = await readData()
  const entries = (data.entries as object[]).map((each) => ({ ...each, title, body: title }))
  return (await openFixture(model, { ...data, entries })).store
}
export default defineConfig({ rules, callers, store, titles: { entries: 'title' } })`,
    )
    const wrong = written('wrong.yaml', 'callers: { ana: { entries: { sees: [1] } } }')
    for (const command of [
      ['see', 'entries'],
      ['why', 'update', 'entries', '1', '--as', 'ben'],
      ['try', 'update', 'entries', '1', '--as', 'ana', '--with', '{ body: Leeks }'],
      ['try', 'update', 'entries', '1', '--as', 'ana', '--with', '{ "\\u001b[2J": 1 }'],
      ['check', wrong],
    ]) {
      const { stdout, stderr } = await pachter(...command, '--config', config)
      // eslint-disable-next-line no-control-regex
      expect(stdout + stderr, command.join(' ')).not.to.match(/\u001b\[2J|[\u009b\u202e]|^\W*All 895/m)
      expect(stdout + stderr).to.include('u001b[2J')
    }
  })
})
