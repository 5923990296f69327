import { spawn } from 'node:child_process'
import { createHash } from 'node:crypto'
import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import Database from 'better-sqlite3'
import { expect } from 'chai'
import { openExpectations, openWorkbench, runFile } from 'pachter/check'
import { withoutTrace } from 'pachter/sql'
import { sqliteStore } from 'pachter/connect/sqlite'
import { callers } from '../examples/allotment/callers.js'
import { pachter } from './support/command-line.js'
import { scratchFolder } from './support/scratch.js'
import { readData } from '../examples/allotment/database.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { engineNames, load, openEngines } from './support/engines.js'
import { refusalOf } from './support/korenveld.js'

const demo = fileURLToPath(new URL('../examples/allotment/', import.meta.url))
const main = fileURLToPath(new URL('../dist/cli/main.js', import.meta.url))
const expectations = `${demo}expectations.yaml`

describe('looking leaves no trace', () => {
  // Beside the demo, so that a configuration in it finds what the demo's own finds.
  const scratch = scratchFolder(`${demo}.scratch-`)
  const file = (name: string, content: string) => {
    writeFileSync(join(scratch, name), content)
    return join(scratch, name)
  }

  it('leaves the database as it was, whatever is tried, also when it is interrupted', async function () {
    this.timeout(600_000)
    const path = join(scratch, 'korenveld.db')
    const copied = new Database(path)
    await load({ name: 'copy', store: sqliteStore(copied), close: async () => undefined }, model, await readData())
    copied.close()
    const configured = (name: string, ruled: string) =>
      file(
        name,
        `import Database from 'better-sqlite3'
import { defineConfig } from 'pachter/cli'
import { sqliteStore } from 'pachter/connect/sqlite'
import { callers } from '../callers.js'
import { rules } from '../rules.js'
export default defineConfig({ rules: ${ruled}, callers, store: () => sqliteStore(new Database(${JSON.stringify(path)})) })`,
      )
    const config = configured('sqlite.config.ts', 'rules')
    // Of a table alone, so that every change to its rules goes unnoticed, and is searched for what would notice it.
    const rents = configured('rents.config.ts', '{ ...rules, tables: { rents: rules.tables.rents } } as never')
    const nothing = file('nothing.yaml', 'callers: { ana: { rents: { sees: { atLeast: 1 } } } }')
    const state = () => createHash('sha256').update(readFileSync(path)).digest('hex')
    const before = state()
    const commands = [
      ['see'],
      ['see', 'entries', '--hidden'],
      ['see', '--reach'],
      ['why', 'update', 'entries', '1', '--as', 'ana'],
      ['try', 'update', 'entries', '1', '--as', 'ana', '--with', '{ title: Taken back }'],
      ['try', 'delete', 'entries', '1', '--as', 'ana'],
      ['try', 'create', 'entries', '--as', 'ana', '--with', '{ plotId: 1, audience: private, title: A, body: B }'],
      ['try', 'update', 'entries', '2', '--as', 'ben', '--with', '{ title: Refused }'],
      ['compare', file('same.json', JSON.stringify(rules))],
      ['check', expectations, '--mutate', '--coverage'],
    ]
    for (const args of commands) {
      const { status, stderr } = await pachter(...args, '--config', config)
      expect(status, args.join(' ') + stderr).to.equal(0)
      expect(state(), args.join(' ')).to.equal(before)
    }
    const { status, stdout } = await pachter('check', nothing, '--mutate', '--config', rents)
    expect([status, state()], stdout).to.deep.equal([1, before])
    expect(stdout).to.match(/tries:/)
    for (const delay of [500, 900, 1300, 1700]) {
      const child = spawn('node', [main, 'check', expectations, '--mutate', '--config', config], { cwd: demo })
      const over = new Promise((resolve) => child.on('exit', (_, signal) => resolve(signal)))
      setTimeout(() => child.kill('SIGINT'), delay)
      expect(await over, 'it was over before it was interrupted').to.equal('SIGINT')
      const after = new Database(path)
      expect(after.prepare('SELECT title FROM entries WHERE id = 1').pluck().get()).to.equal('First leeks in')
      expect(after.prepare('SELECT count(*) FROM entries').pluck().get()).to.equal(45)
      after.close()
      expect(state()).to.equal(before)
    }
  })

  it(`takes back what it tries, on ${engineNames.join(', ')}`, async function () {
    this.timeout(120_000)
    for (const engine of await openEngines()) {
      await load(engine, model, await readData())
      const { everything } = openWorkbench({ rules, callers, store: engine.store })
      const all = async () =>
        JSON.stringify(await Promise.all(Object.keys(model.tables).map((table) => everything.list(table))))
      const before = await all()
      const at = openWorkbench({ rules, callers, store: engine.store })
      const { outcomes } = await runFile(
        await openExpectations(at, readFileSync(expectations, 'utf8'), 'expectations.yaml'),
      )
      const failing = outcomes.filter(({ failures }) => failures.length > 0)
      expect(
        failing.map((each) => [each.expectation, each.failures[0]?.text]),
        engine.name,
      ).to.deep.equal([])
      expect(await all(), engine.name).to.equal(before)
      if (engine.name !== 'MariaDB') continue
      await engine.store.query('CREATE TABLE lasting (id INTEGER PRIMARY KEY) ENGINE = MyISAM', [])
      const refused = await refusalOf(withoutTrace(engine.store, [{ name: 'lasting' }], async () => undefined))
      await engine.store.query('DROP TABLE lasting', [])
      expect(refused.message).to.match(/written to lasting lasts/)
    }
  })
})
