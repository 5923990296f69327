import { spawnSync } from 'node:child_process'
import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import {
  coverage,
  type Fixture,
  mutantsOf,
  mutate,
  openExpectations,
  openFixture,
  openWorkbench,
  recordExpectations,
  runExpectations,
  runFile,
  type Workbench,
} from 'pachter/check'
import { parse } from 'yaml'
import { callers } from '../examples/allotment/callers.js'
import { model } from '../examples/allotment/model.js'
import { rules } from '../examples/allotment/rules.js'
import { readData } from '../examples/allotment/database.js'
import { demo, pachter, quick } from './support/command-line.js'
import { scratchFolder } from './support/scratch.js'
import { refusalOf } from './support/korenveld.js'

const text = readFileSync(`${demo}expectations.yaml`, 'utf8')

describe('checking Korenveld', () => {
  let fixture: Fixture
  let bench: Workbench
  let scratch: string
  before(async () => {
    fixture = await openFixture(model, await readData())
    bench = openWorkbench({ rules, callers, store: fixture.store, titles: { entries: 'title' } })
    // Beside the demo, so that a configuration in it finds what the demo's own finds.
    scratch = scratchFolder(`${demo}.scratch-`)
  })
  after(() => fixture.close())

  const opened = () => openExpectations(bench, text, 'expectations.yaml')
  const file = (name: string, content: string) => {
    writeFileSync(join(scratch, name), content)
    return join(scratch, name)
  }

  it('finds all that the shipped expectations state, of every caller and table', async () => {
    const { outcomes, failed } = await runFile(await opened())
    expect(failed, outcomes.flatMap(({ failures }) => failures.map((each) => each.text)).join('; ')).to.equal(0)
    for (const caller of Object.keys(callers)) {
      for (const table of Object.keys(model.tables)) {
        const stated = outcomes.filter(({ expectation: each }) => each.caller === caller && each.table === table)
        expect(stated, `${caller} ${table}`).not.to.have.length(0)
      }
    }
  })

  it('finds what the example in the docs states', async () => {
    const docs = readFileSync(fileURLToPath(new URL('../docs/checking.md', import.meta.url)), 'utf8')
    const [, example = ''] = /```yaml\n([^]*?)```/.exec(docs) ?? []
    const { outcomes } = await runFile(await openExpectations(bench, example, 'checking.md'))
    expect(outcomes.flatMap(({ failures }) => failures.map(({ text: said }) => said))).to.deep.equal([])
    expect(outcomes).to.have.length.greaterThan(20)
  })

  it('notices every change of one thing in the rules, but those accepted with a reason', async function () {
    this.timeout(120_000)
    const { bench: at, expectations } = await opened()
    const { tried, noticed, survivors, accepted, idle } = await mutate(at, expectations)
    expect(survivors.map(({ change }) => change)).to.deep.equal([])
    expect(idle).to.deep.equal([])
    expect(tried).to.be.greaterThan(300)
    expect(noticed + accepted.length).to.equal(tried)
    expect(accepted).to.have.length(expectations.accepted.length)
  })

  it('suggests an expectation that notices what none does', async () => {
    const { bench: at, expectations } = await opened()
    const { survivors } = await mutate(
      { ...at, rulebook: { ...rules, tables: { rents: (rules as typeof bench.rulebook).tables['rents'] as never } } },
      { ...expectations, all: [] },
    )
    const suggested = survivors.filter(({ suggestion }) => suggestion.startsWith('callers:'))
    expect(suggested.length).to.be.greaterThan(survivors.length / 2)
    const mutants = new Map(mutantsOf(rules).map((mutant) => [mutant.change, mutant.rulebook]))
    for (const { change, suggestion } of suggested) {
      const stated = `at: 2026-11-23T09:00:00Z\nfurtherCallers: ${JSON.stringify(expectations.furtherCallers)}\n${suggestion}`
      const as = async (rulebook: typeof bench.rulebook) =>
        (await runFile(await openExpectations(bench.instead({ rules: rulebook }), stated, 'suggested.yaml'))).failed
      expect(await as(rules), `${change}\n${stated}`).to.equal(0)
      expect(await as(mutants.get(change) as never), `${change}\n${stated}`).to.equal(1)
    }
  })

  it('says of a flipped rule which caller, which record, and which rule', async function () {
    this.timeout(120_000)
    const { bench: at, expectations } = await opened()
    for (const mutant of mutantsOf(rules)) {
      if (expectations.accepted.some(({ change }) => change === mutant.change)) continue
      const changed = at.instead({ rules: mutant.rulebook })
      const isOwn = ({ table }: { table: string }) => table === mutant.table
      const ordered = [...expectations.all.filter(isOwn), ...expectations.all.filter((each) => !isOwn(each))]
      const outcomes = await runExpectations(changed, ordered, { explains: true, stopsEarly: true })
      const failing = outcomes.filter(({ failures }) => failures.length > 0)
      const told = failing.flatMap(({ expectation, failures }) =>
        failures.map(({ key, why, text: said }) => {
          const reasons = [...(why?.grants ?? []), ...(why?.sight?.grants ?? [])].flatMap(({ to }) =>
            to.map(({ who }) => who),
          )
          const denies = (why?.denies ?? []).map(({ name }) => name)
          const none = why?.grants.length === 0 ? ['nobody was granted'] : []
          return { caller: expectation.caller, key, rules: [...reasons, ...denies, ...none], said }
        }),
      )
      expect(told, mutant.change).not.to.have.length(0)
      // Of a create there is no record yet: what it gives instead says it.
      for (const { caller, key, said } of told) {
        expect(caller in callers || caller in expectations.furtherCallers, mutant.change).to.equal(true)
        if (key === undefined)
          expect(said, mutant.change).to.match(/should (give|be stored|be refused|say)|it should be/)
      }
      const explained = told.filter(({ key, rules: named }) => key !== undefined && named.length > 0)
      if (told.some(({ key }) => key !== undefined)) expect(explained, mutant.change).not.to.have.length(0)
    }
  })

  it('says so on the command line, with exit status 1, in every format', async () => {
    const rulebook = JSON.parse(JSON.stringify(rules)) as { tables: Record<string, { ties: Record<string, unknown> }> }
    ;(rulebook.tables['entries'] as { ties: Record<string, unknown> }).ties['everyone'] = { kind: 'never' }
    file('rules.json', JSON.stringify(rulebook))
    const config = file(
      'pachter.config.ts',
      `import { readFileSync } from 'node:fs'
import { readRulebook } from 'pachter'
import { openFixture } from 'pachter/check'
import { defineConfig } from 'pachter/cli'
import { callers } from '../callers.js'
import { readData } from '../database.js'
import { model } from '../model.js'
const store = async () => (await openFixture(model, await readData())).store
const rules = readRulebook(readFileSync(new URL('rules.json', import.meta.url), 'utf8'))
export default defineConfig({ rules: rules as never, callers, store, titles: { entries: 'title' } as never })`,
    )
    const check = async (...args: string[]) =>
      await pachter('check', `${demo}expectations.yaml`, '--config', config, ...args)
    const { status, stdout, stderr } = await check()
    expect(stderr).to.equal('')
    expect(status).to.equal(1)
    expect(stdout).to.match(
      /✗ nobody entries sees: 4, 8.*expectations\.yaml:\d+:\d+\n +4 “Seed swap list” is not seen, and should be[^]*\n +the same for 19, 21/,
    )
    expect(stdout).to.match(/no +everyone +never/)
    expect((await check('--format', 'tap')).stdout).to.match(
      /^TAP version 14\n1\.\.\d{3}\n[^]*not ok \d+ - nobody entries sees[^]*\n {2}---\n {2}at: expectations/,
    )
    const junit = (await check('--format', 'junit')).stdout
    expect(junit).to.match(/<testsuite name="nobody" tests="60" failures="[1-9]"/)
    expect(junit).to.match(/<failure message="4 “Seed swap list” is not seen, and should be/)
    const json = JSON.parse((await check('--json')).stdout) as { failed: number; outcomes: unknown[] }
    expect(json).to.include({ failed: json.failed }).and.have.property('outcomes').with.length.above(800)
    expect(json.failed).to.be.greaterThan(0)
    // The rulebook before, in a file: everything that is public is lost, and nothing gained.
    const compared = await pachter('compare', join(scratch, 'rules.json'), '--as', 'nobody', ...quick)
    expect(compared.status).to.equal(1)
    expect(compared.stdout).to.match(/nobody +see +entries +4, 8, 16/)
    const back = await pachter('compare', `${scratch}/rules.json`, '--config', config)
    expect(back).to.deep.include({ status: 0, stdout: 'The rules are the same.\n' })
    // What stands in the files now, as a commit that nothing refers to.
    const { stdout: stashed } = spawnSync('git', ['-C', demo, 'stash', 'create'], { encoding: 'utf8' })
    const now = await pachter('compare', '--since', stashed.trim() || 'HEAD')
    expect(now).to.deep.include({ status: 0, stdout: 'The rules are the same.\n' })
  })

  it('covers what it states, both ways, and knows what it does not', async () => {
    const { bench: at, expectations } = await opened()
    const covered = await coverage(at, expectations.all)
    const of = (table: string, kind: string, name: string) =>
      covered.find((each) => each.table === table && each.kind === kind && each.name === name)
    expect(covered.filter(({ held }) => held === 0)).to.deep.equal([])
    expect(of('rents', 'deny', 'paid')).to.include({ failed: 6 })
    expect(of('jobs', 'check', 'forward')).to.include({ failed: 1 })
    expect(of('sites', 'grant', 'read to anyone')).to.include({ held: 21, failed: 0 })
    const few = await coverage(
      at,
      expectations.all.filter((each) => each.kind === 'set' && each.caller === 'nobody'),
    )
    expect(few.find((each) => each.table === 'jobs' && each.name === 'assignee')).to.include({ held: 0, failed: 0 })
    expect(few.find((each) => each.table === 'entries' && each.name === 'everyone')?.held).to.equal(13)
  })

  it('records what is true, and later only what is not any more', async () => {
    const fresh = await recordExpectations(bench, undefined, 'fresh.yaml')
    expect((await runFile(await openExpectations(bench, fresh, 'fresh.yaml'))).failed).to.equal(0)
    expect(await recordExpectations(bench, fresh, 'fresh.yaml')).to.equal(fresh)
    // What is the same of several callers stands once, and is mended for each.
    expect(fresh).to.match(/nobody:[^]*plots: &nobody_plots\n[^]*plots: \*nobody_plots\n/)
    const wrong = fresh.replace(/(&nobody_plots\n +sees: ).*/, '$1none')
    expect(await recordExpectations(bench, wrong, 'fresh.yaml')).to.equal(fresh)
    const known = `# Reviewed.\nat: 2026-11-23T09:00:00Z\ncallers:\n  ben:\n    entries:\n      sees: { atLeast: [3] } # ana shares it\n      may: { delete: [5, 6] }\n`
    const { callers: now } = parse(await recordExpectations(bench, known, 'known.yaml')) as {
      callers: Record<string, Record<string, Record<string, unknown>>>
    }
    expect(now['ben']?.['entries']).to.deep.include({ sees: { atLeast: [3] }, hidden: 'none' })
    expect(now['ben']?.['entries']?.['may']).to.deep.equal({ update: [3, 5, 6, 12], delete: [5, 6, 12] })
    expect(await recordExpectations(bench, known, 'known.yaml')).to.match(/^# Reviewed\.[^]*# ana shares it/)
  })

  it('says where a file of expectations is wrong, and why, with exit status 2', async () => {
    const wrong: [string, RegExp][] = [
      ['callers: { bob: { entries: { sees: 3 } } }', /^bad.yaml:1:12: There is no caller "bob"; known: nobody, ana/],
      ['callers: { ana: { entrys: { sees: 3 } } }', /^bad.yaml:1:19: There is no table "entrys"; known: members/],
      [
        'callers: { ana: { entries: { sees: [1, x] } } }',
        /^bad.yaml:1:40: "x" is not a key of entries: .*must be an integer/,
      ],
      ['callers: { ana: { entries: { sees: [1, 999] } } }', /^bad.yaml:1:30: there is no record 999 in entries/],
      ['callers: { ana: { entries: { sees: yes } } }', /^bad.yaml:1:36: expected a list of keys, how many/],
      ['callers: { ana: { entries: { sees: -1 } } }', /^bad.yaml:1:36: expected a list of keys, how many/],
      ['callers: { ana: { entries: { may: { paint: all } } } }', /has no "paint"; it has update, delete, others/],
      ['callers: { ana: { entries: { hidden: { colour: all } } } }', /hidden has no "colour"; it has plotId/],
      ['callers: { ana: { entries: { sees: { refused: 500 } } } }', /refused takes 401/],
      ['callers: { ana: { entries: { tries: [{ update: 1, status: 201 }] } } }', /a try has a status: 200/],
      ['callers: { ana: { entries: { tries: [{ delete: 1, with: {}, status: 403 }] } } }', /delete takes no values/],
      ['callers: { ana: { entries: } }', /ana entries takes names with values: sees, gets, may/],
      ['callers:\n  ana: { entries: { sees: [1, 2', /^bad.yaml:2:\d+: the YAML is wrong: Flow/],
      ['callers: { ana: { sites: { sees: 3 } }, ana: {} }', /the YAML is wrong: Map keys must be unique/],
      ['at: soon\ncallers: {}', /^bad.yaml:1:5: at takes a moment/],
      ['at: 2026-11-23T09:00:00\ncallers: {}', /^bad.yaml:1:5: at takes a moment with its zone/],
      ['at: 2026-02-31T09:00:00Z\ncallers: {}', /at takes a moment/],
      // What is so whatever happens is no expectation.
      ['callers: { ana: { entries: { sees: {} } } }', /^bad.yaml:1:36: this is so whatever is seen/],
      ['callers: { ana: { entries: { sees: { noneOf: [] } } } }', /this is so whatever is seen/],
      ['callers: { ana: { entries: { gets: { atLeast: 0 } } } }', /this is so whatever is seen/],
      ['callers: { ana: { entries: { may: { update: { atLeast: [], noneOf: [] } } } } }', /so whatever is seen/],
      ['callers: { ana: { entries: { sees: { noneOf: [9..4] } } } }', /"9..4" is not a key .* behind where it ends/],
      ['furtherCallers: { zoe: { id: x } }\ncallers: {}', /The caller's id is "x"; it must be an integer/],
      ['furtherCallers: { ana: { id: 7 } }\ncallers: {}', /there is a caller ana already/],
      ['callers: {}', /nothing is expected, so nothing can be checked/],
      ['', /callers takes names with values/],
    ]
    for (const [bad, message] of wrong) {
      const error = await refusalOf(openExpectations(bench, bad, 'bad.yaml'))
      expect(error.message, bad).to.match(message)
      expect(error.code).to.equal('expectations-invalid')
    }
    const { status, stdout, stderr } = await pachter('check', file('bad.yaml', wrong[0]?.[0] as string), ...quick)
    expect({ status, stdout }).to.deep.equal({ status: 2, stdout: '' })
    expect(stderr).to.match(/bad.yaml:1:12: There is no caller "bob"/)
  })

  it('writes a page that stands alone', async () => {
    const page = join(scratch, 'report.html')
    expect((await pachter('check', `${demo}expectations.yaml`, '--report', page, ...quick)).status).to.equal(0)
    const html = readFileSync(page, 'utf8')
    expect(html).to.match(/^<!doctype html>\n<html lang="en">/)
    expect(html).not.to.match(/<script|<link|https?:|url\(/)
    for (const part of ['Who may do what', 'How much each caller sees', 'What was expected', 'never decisive']) {
      expect(html).to.include(part)
    }
  })
})
