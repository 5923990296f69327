import { spawnSync } from 'node:child_process'
import { fileURLToPath } from 'node:url'
import { expect } from 'chai'
import { readRulebook } from 'pachter'
import { rules } from '../examples/allotment/rules.js'
import { readData } from '../examples/allotment/database.js'

const demo = fileURLToPath(new URL('../examples/allotment', import.meta.url))
const main = fileURLToPath(new URL('../dist/cli/main.js', import.meta.url))

function pachter(...args: string[]) {
  const { status, stdout, stderr } = spawnSync('node', [main, ...args], { cwd: demo, encoding: 'utf8' })
  return { status, stdout, stderr, data: () => JSON.parse(stdout) as never }
}

interface Seen {
  callers: Record<
    string,
    { records?: { key: string; access: { may: { update: boolean; delete: boolean } } }[]; refused?: { status: number } }
  >
}

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
    const { callers } = pachter('see', 'entries', '--json').data() as Seen
    const ids = { nobody: 0, ana: 1, ben: 2, carla: 3, dirk: 4, eva: 5, noor: 25 }
    expect(Object.keys(callers)).to.deep.equal(Object.keys(ids))
    for (const [name, member] of Object.entries(ids)) {
      const expected = rows('entries')
        .filter(sees(member))
        .map((entry) => String(entry['id']))
      const seen = callers[name]?.records ?? []
      expect(
        seen.map(({ key }) => key),
        name,
      ).to.deep.equal(expected)
      for (const { key, access } of seen) {
        const mine = rows('entries').some((entry) => String(entry['id']) === key && entry['authorId'] === member)
        expect(access.may.delete, `${name} ${key}`).to.equal(mine || name === 'eva')
      }
    }
    const views = Object.values(callers).map(({ records }) => JSON.stringify(records))
    expect(new Set(views).size).to.equal(views.length)
  })

  it('shows carla the jobs of her site, and everyone else only theirs', async () => {
    const jobs = (await readData())['jobs'] as { id: number; siteId: number; reporterId: number; assigneeId: number }[]
    const { callers } = pachter(
      'see',
      'jobs',
      '--as',
      'carla',
      '--as',
      'noor',
      '--as',
      'nobody',
      '--json',
    ).data() as Seen
    const expected = jobs.filter((job) => job.siteId === 1 || job.reporterId === 3 || job.assigneeId === 3)
    expect(callers['carla']?.records?.map(({ key }) => key)).to.deep.equal(expected.map(({ id }) => String(id)))
    expect(callers['noor']?.records).to.deep.equal([])
    expect(callers['nobody']?.refused).to.include({ status: 401 })
  })

  it('prints for people', () => {
    expect(pachter('see', '--as', 'dirk').stdout).to.match(/rents +25/)
    expect(pachter('see', 'entries', '--as', 'ben').stdout).to.match(/What the frost took +RU- {2}reader/)
    const grid = pachter('grid', 'jobs').stdout
    expect(grid).to.match(/assignee +yes +· +details, status +·/)
    expect(grid).to.match(/no update, no delete where row.status is 'done': “A finished job/)
    const why = pachter('why', 'update', 'entries', '7', '--as', 'ben').stdout
    expect(why).to.match(/No: ben may not update entries 7/)
    expect(why).to.match(/told \(404\)[^]*row.authorId = 3[^]*cannot see it[^]*no +reader +some entryShares/)
    expect(pachter('why', 'delete', 'entryShares', '1,2', '--as', 'ben').stdout).to.match(/Yes[^]*yes sharedWith/)
  })

  it('emits the rulebook, and the filter for each database with its values apart', () => {
    expect(readRulebook(pachter('emit', 'json').stdout)).to.deep.equal(rules)
    const sql = pachter('emit', 'sql', 'entries', '--as', 'ana').stdout
    expect(sql).to.match(
      /-- postgresql: gather, chosen here.*\n.*ANY \(ARRAY\(SELECT[^]*-- sqlite: gather\n.*IN \(SELECT/,
    )
    expect(sql).to.match(/-- mariadb: gather\nFROM `entries` AS _0 JOIN \(SELECT.* UNION SELECT/)
    expect(pachter('emit', 'sql', 'entries', '--as', 'ana', '--form', 'walk').stdout).to.match(/EXISTS.*OFFSET 0/)
    expect(sql)
      .to.match(/-- values: 1, /)
      .and.not.include("'public'")
    expect(pachter('emit', 'sql', 'jobs', '--as', 'nobody').stdout).to.match(
      /nobody: list jobs, refused without a query/,
    )
  })

  it('answers wrong use with one line that says what there is, and status 2', () => {
    const wrong: [string[], RegExp][] = [
      [['see', 'entrys'], /no table "entrys"; there is members, sites/],
      [['see', 'entries', '--as', 'bob'], /no caller "bob"; there is nobody, ana/],
      [['grid', 'entrys'], /no table "entrys"/],
      [['why', 'read', 'entries', '999', '--as', 'ben'], /no record 999 in entries; there is 1; 2; .*… 45/],
      [['why', 'read', 'entries', 'x', '--as', 'ben'], /id must be an integer/],
      [['why', 'read', 'entryShares', '1', '--as', 'ben'], /entryId,memberId/],
      [['why', 'paint', 'entries', '1', '--as', 'ben'], /no action "paint" on a record; there is read, list/],
      [['why', 'read', 'entries', '1'], /Name one caller with --as/],
      [['see', '--config', 'nowhere.ts'], /no nowhere.ts here/],
      [['see', '--config', 'model.ts'], /has to export/],
      [['emit', 'sql', 'jobs', '--action', 'paint'], /no action "paint" in jobs; there is read/],
      [['sea'], /unknown command 'sea'/],
    ]
    for (const [args, message] of wrong) {
      const { status, stdout, stderr } = pachter(...args)
      expect(stderr, args.join(' ')).to.match(message)
      expect(stderr.trim().split('\n')).to.have.length(1)
      expect({ status, stdout }).to.deep.equal({ status: 2, stdout: '' })
    }
  })
})
