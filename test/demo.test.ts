import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { expect } from 'chai'
import { readRulebook } from 'pachter'
import { rules } from '../examples/allotment/rules.js'
import { readData } from '../examples/allotment/database.js'
import { demo, pachter, quick } from './support/command-line.js'
import { scratchFolder } from './support/scratch.js'

const expectations = `${demo}expectations.yaml`

interface Seen {
  callers: Record<string, { count?: number; status?: number }>
  rows: { key: string; access: Record<string, { may: { update: boolean; delete: boolean } } | null> }[]
}

/** What one of the callers sees, by key. */
const seenBy = ({ rows }: Seen, name: string) => rows.filter(({ access }) => access[name]).map(({ key }) => key)

describe('the command line on Korenveld', () => {
  it('shows each caller what the data files say by hand, and each something else', async () => {
    const data = await readData()
    const rows = (table: string) => data[table] as Record<string, never>[]
    const isOpen = (until: Date | null | undefined) => !until || until > new Date()
    const sees = (member: number) => (entry: Record<string, unknown>) =>
      entry['authorId'] === member ||
      entry['audience'] === 'public' ||
      (member > 0 && entry['audience'] === 'members') ||
      rows('entryShares').some(
        (share) => share['entryId'] === entry['id'] && share['memberId'] === member && isOpen(share['until']),
      ) ||
      rows('plots').some((plot) => plot['id'] === entry['plotId'] && plot['holderId'] === member)
    const seen = (await pachter('see', 'entries', '--json')).data() as Seen
    const { callers, rows: shown } = seen
    const ids = { nobody: 0, ana: 1, ben: 2, carla: 3, dirk: 4, eva: 5, noor: 25 }
    expect(Object.keys(callers)).to.deep.equal(Object.keys(ids))
    for (const [name, member] of Object.entries(ids)) {
      const expected = rows('entries')
        .filter(sees(member))
        .map((entry) => String(entry['id']))
      expect(seenBy(seen, name), name).to.deep.equal(expected)
      expect(callers[name]).to.deep.equal({ count: expected.length })
      for (const { key, access } of shown) {
        const mine = rows('entries').some((entry) => String(entry['id']) === key && entry['authorId'] === member)
        const may = access[name]?.may.delete ?? false
        expect(may, `${name} ${key}`).to.equal(expected.includes(key) && (mine || name === 'eva'))
      }
    }
    const views = Object.keys(ids).map((name) => JSON.stringify(shown.map(({ access }) => access[name])))
    expect(new Set(views).size).to.equal(views.length)
  })

  it('shows carla the jobs of her site, and everyone else only theirs', async () => {
    const jobs = (await readData())['jobs'] as { id: number; siteId: number; reporterId: number; assigneeId: number }[]
    const seen = (
      await pachter('see', 'jobs', '--as', 'carla', '--as', 'noor', '--as', 'nobody', '--json', ...quick)
    ).data() as Seen
    const expected = jobs.filter((job) => job.siteId === 1 || job.reporterId === 3 || job.assigneeId === 3)
    expect(seenBy(seen, 'carla')).to.deep.equal(expected.map(({ id }) => String(id)))
    expect(seen.callers['noor']).to.deep.equal({ count: 0 })
    expect(seen.callers['nobody']).to.include({ status: 401 })
  })

  it('prints for people', async () => {
    expect((await pachter('see', '--as', 'dirk', ...quick)).stdout).to.match(/rents +25/)
    expect((await pachter('see', '--unguarded', '--as', 'ana', '--as', 'dirk', ...quick)).stdout).to.match(
      /jobs +4 +1 +22\n[^]*in all +142 +147 +232\n +61 % +63 % +100 %/,
    )
    expect((await pachter('see', 'entries', '--as', 'ben', ...quick)).stdout).to.match(
      /What the frost took +RU- +reader/,
    )
    const grid = (await pachter('grid', 'jobs', ...quick)).stdout
    expect(grid).to.match(/assignee +yes +· +details, status +·/)
    expect(grid).to.match(/no update, no delete where row.status is 'done': “A finished job/)
    const why = (await pachter('why', 'update', 'entries', '7', '--as', 'ben', ...quick)).stdout
    expect(why).to.match(/No: ben may not update entries 7/)
    expect(why).to.match(
      /told \(404\)[^]*row.authorId = 3[^]*cannot see it[^]*no +reader +some entryShares[^]*but entryShares \(7, 2\).until is 2026-06-01/,
    )
    expect((await pachter('why', 'delete', 'entryShares', '1,2', '--as', 'ben', ...quick)).stdout).to.match(
      /Yes[^]*yes +sharedWith[^]*since row.memberId is 2/,
    )
  })

  it('shows what differs, what is hidden, pages of it, and how much everyone reaches', async () => {
    const of = async (...args: string[]) =>
      (await pachter('see', ...args, '--json', ...quick)).data() as Seen & { more: boolean }
    const keys = async (...args: string[]) => (await of(...args)).rows.map(({ key }) => key)
    expect(await keys('plots', '--differ', '--as', 'nobody', '--as', 'ana')).to.deep.equal(['1', '30'])
    expect(await keys('rents', '--as', 'ana')).to.deep.equal(['1', '25'])
    expect(await keys('rents', '--as', 'ana', '--hidden')).to.have.length(25)
    const page = [
      'rents',
      '--as',
      'dirk',
      '--where',
      'year=2026',
      '--where',
      'amountCents>4500',
      '--sort',
      'id descending',
    ]
    const all = await keys(...page)
    expect(all).to.deep.equal([...all].sort((left, right) => Number(right) - Number(left)))
    expect([...(await keys(...page, '--limit', '3')), ...(await keys(...page, '--offset', '3'))]).to.deep.equal(all)
    expect((await of(...page, '--limit', '3')).more).to.equal(true)
    const rents = (await readData())['rents'] as { id: number; paidAt: Date | null }[]
    const unpaid = rents.filter(({ paidAt }) => paidAt === null).map(({ id }) => String(id))
    expect(await keys('rents', '--as', 'dirk', '--where', 'paidAt=')).to.deep.equal(unpaid)
    const { reaches, open } = (await pachter('see', '--reach', '--json', ...quick)).data() as unknown as {
      open: Record<string, number>
      reaches: { key: string; counts: Record<string, number>; own: number }[]
    }
    const { tables } = (await pachter('see', '--json', ...quick)).data() as unknown as {
      tables: Record<string, Seen['callers']>
    }
    for (const [name, member] of Object.entries({ ana: '1', ben: '2', carla: '3', dirk: '4', eva: '5', noor: '25' })) {
      const counts = Object.fromEntries(Object.entries(tables).map(([table, seen]) => [table, seen[name]?.count]))
      expect(reaches.find(({ key }) => key === member)?.counts, name).to.deep.equal(counts)
    }
    expect(reaches.map(({ own }) => own)).to.deep.equal(reaches.map(({ own }) => own).sort((a, b) => b - a))
    expect(open).to.include({ sites: 3, rents: 0 })
  })

  it('explains a field, and shows what a write would do', async () => {
    const hidden = (await pachter('why', 'read', 'members', '3', 'email', '--as', 'ben', ...quick)).stdout
    expect(hidden).to.match(
      /^No: ben may not see email of members 3 “Carla[^]*no +self +row.id is caller.id[^]*\(no\) signed in/,
    )
    expect((await pachter('why', 'read', 'members', '2', 'email', '--as', 'ben', ...quick)).stdout).to.match(
      /^Yes: ben may see email/,
    )
    expect((await pachter('why', 'update', 'entries', '1', 'authorId', '--as', 'ana', ...quick)).stdout).to.match(
      /^No: ana may not/,
    )
    const denied = (await pachter('why', 'delete', 'rents', '1', '--as', 'ana', ...quick)).stdout
    expect(denied).to.match(/stops it paid: row.paidAt is set, except role treasurer[^]*row.paidAt is 2026-01-02/)
    const opened = (
      await pachter('try', 'update', 'entries', '1', '--as', 'ana', '--with', '{ audience: public }', ...quick)
    ).stdout
    expect(opened).to.match(/^It would be done[^]*audience +'private' +'public'[^]*gain sight \(5\): nobody, carla/)
    expect(opened).to.match(/of the 25 in members before, by 25 after[^]*taken back/)
    const refused = await pachter(
      'try',
      'update',
      'entries',
      '45',
      '--as',
      'ben',
      '--with',
      '{"title": "Mine"}',
      ...quick,
    )
    expect(refused.stdout).to.match(/^It would be refused \(404\)[^]*There is no such record/)
    expect(refused.status).to.equal(0)
  })

  it('compares rules with those of another model, as far as the database has both', async () => {
    type Book = {
      model: { tables: Record<string, { fields: Record<string, object> }> }
      tables: Record<string, { ties: Record<string, object> }>
    }
    const before = JSON.parse(JSON.stringify(rules)) as Book
    const folder = scratchFolder()
    const compare = () => {
      writeFileSync(join(folder, 'before.json'), JSON.stringify(before))
      return pachter('compare', join(folder, 'before.json'), ...quick)
    }
    const { entries } = before.tables
    delete before.model.tables['plots']?.fields['crop']
    before.tables['plots'] = JSON.parse(
      JSON.stringify(before.tables['plots']).replaceAll('"crop",', '').replaceAll(',"crop"', ''),
    ) as never
    expect(await compare()).to.include({ status: 0 })
    before.model.tables['entries'] = {
      ...before.model.tables['entries'],
      fields: { ...before.model.tables['entries']?.fields, open: { type: 'boolean' } },
    }
    const isOpen = {
      kind: 'compare',
      how: 'is',
      left: { kind: 'field', level: 0, name: 'open' },
      right: { kind: 'value', shape: { type: 'boolean' }, value: true },
    }
    before.tables['entries'] = { ...entries, ties: { ...entries?.ties, everyone: isOpen } }
    const { status, stderr } = await compare()
    expect(stderr).to.match(/cannot both be asked about entries of this database: .*open/)
    expect(status).to.equal(2)
  })

  it('emits the rulebook, and the filter for each database with its values apart', async () => {
    expect(readRulebook((await pachter('emit', 'json', ...quick)).stdout)).to.deep.equal(rules)
    const openapi = async (...more: readonly string[]) =>
      Object.keys(JSON.parse((await pachter('emit', 'openapi', ...more, ...quick)).stdout).paths as object)
    expect(await openapi()).to.include('/api/rents/{key}/settle')
    expect(await openapi('--as', 'nobody', '--base', '/v1'))
      .to.include('/v1/plots')
      .and.not.include('/v1/rents')
    const sql = (await pachter('emit', 'sql', 'entries', '--as', 'ana', ...quick)).stdout
    expect(sql).to.match(/-- sqlite: gather, chosen here.*so few that every form is quick\n[^]*IN \(SELECT/)
    const like = async (...more: string[]) =>
      (await pachter('emit', 'sql', 'entries', '--as', 'ana', ...more, ...quick)).stdout
    expect(await like('--dialect', 'postgresql')).to.match(/-- postgresql: gather\n[^]*ANY \(\s*ARRAY \(\s*SELECT/)
    expect(await like('--dialect', 'mariadb')).to.match(
      /-- mariadb: gather\nFROM `entries` AS _0\nJOIN \([^]* SELECT[^]*UNION SELECT/,
    )
    expect(await like('--dialect', 'postgresql', '--form', 'walk')).to.match(/EXISTS \([^]*OFFSET 0/)
    // Broken into lines, it says the same.
    const words = (text: string) => text.replaceAll(/\s/g, '')
    const { filter } = (
      (await pachter('emit', 'sql', 'entries', '--as', 'ana', '--json', ...quick)).data() as {
        filter: { source: string }
      }[]
    )[0] as { filter: { source: string } }
    expect(words(sql)).to.include(words(filter.source))
    expect(sql)
      .to.match(/-- values: 1, /)
      .and.not.include("'public'")
    expect((await pachter('emit', 'sql', 'jobs', '--as', 'nobody', ...quick)).stdout).to.match(
      /nobody: list jobs, refused without a query/,
    )
  })

  it('answers wrong use with one line that says what there is, and status 2', async () => {
    expect((await pachter('--version')).stdout).to.match(/^\d+\.\d+\.\d+\n$/)
    const odd = join(scratchFolder(), 'odd.config.mjs')
    writeFileSync(odd, `export default { rules: { format: 'pachter-rulebook' }, validator: {} }`)
    const wrong: [string[], RegExp][] = [
      [['see', 'jobs', '--unguarded'], /leave out the table, or use --hidden/],
      [['see', 'entrys'], /no table "entrys"; known: members, sites/],
      [['see', 'entries', '--as', 'bob'], /no caller "bob"; known: nobody, ana/],
      [['grid', 'entrys'], /no table "entrys"/],
      [['grid', '--config', 'index.html'], /cannot be loaded|no index.html/],
      [['why', 'read', 'entries', '999', '--as', 'ben'], /no record 999 in entries; keys: 1; 2; .*… 45/],
      [['why', 'read', 'entries', 'x', '--as', 'ben'], /id must be an integer/],
      [['why', 'read', 'entryShares', '1', '--as', 'ben'], /entryId, memberId/],
      [['why', 'paint', 'entries', '1', '--as', 'ben'], /no action "paint" on a record; known: read, list/],
      [['why', 'read', 'entries', '1'], /Name one caller with --as/],
      [['see', '--config', 'nowhere.ts'], /no nowhere.ts here/],
      [['see', '--config', 'model.ts'], /has to export/],
      [['grid', '--config', odd], /no setting "validator" in .*odd.config.mjs; known: rules, callers/],
      [['emit', 'sql', 'jobs', '--action', 'paint'], /no action "paint" in jobs; known: read/],
      [['sea'], /unknown command 'sea'/],
      [['see', '--differ'], /Name a table/],
      [['see', '--reach', '--as', 'ana'], /--reach is about all callers/],
      [['see', 'entries', '--where', 'colour=red'], /no field "colour" in entries/],
      [['see', 'entries', '--where', 'audience~x'], /is not a filter; write field=value/],
      [['see', 'rents', '--where', 'year=soon'], /year must be an integer/],
      [['see', 'entries', '--limit', 'few'], /whole number/],
      [['why', 'read', 'entries', '1', 'colour', '--as', 'ben'], /no field "colour" in entries/],
      [['try', 'read', 'entries', '1', '--as', 'ben'], /no action "read" to try in entries; known: create, update/],
      [['try', 'update', 'entries', '--as', 'ben'], /Name the record/],
      [['try', 'create', 'entries', '1', '--as', 'ben'], /A create has no key/],
      [['try', 'update', 'entries', '1', '--as', 'ben', '--with', '{ title'], /--with takes values by field/],
      [['try', 'delete', 'entries', '1', '--as', 'ben', '--with', '{}'], /delete takes no values/],
      [['check', 'nowhere.yaml'], /no nowhere.yaml; write it/],
      [['check', expectations, '--mutate', '--format', 'tap'], /--format tap is about expectations alone/],
      [['compare'], /Name what to compare with/],
      [['compare', 'nowhere.json'], /no nowhere.json here/],
      [['compare', 'model.ts'], /exports no rules/],
      [['compare', '--since', 'no-such-revision'], /no revision "no-such-revision"/],
    ]
    for (const [args, message] of wrong) {
      const { status, stdout, stderr } = await pachter(...args, ...(args.includes('--config') ? [] : quick))
      expect(stderr, args.join(' ')).to.match(message)
      expect(stderr.trim().split('\n')).to.have.length(1)
      expect({ status, stdout }).to.deep.equal({ status: 2, stdout: '' })
    }
  })
})
