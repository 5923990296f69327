// An association of 5,000 members with uuids for keys and 300,000 tasks, to look at the command line with.
import { existsSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import Database from 'better-sqlite3'
import { anonymous } from 'pachter'
import { defineConfig } from 'pachter/cli'
import { sqliteStore } from 'pachter/connect/sqlite'
import { fill, uuid } from './fill.js'
import { rules } from './rules.js'

const file = join(tmpdir(), 'pachter-many.db')
if (!existsSync(file)) fill(file)

export default defineConfig({
  rules,
  callers: {
    nobody: anonymous,
    anneke: { id: uuid('member', 1) },
    bartholomew: { id: uuid('member', 2) },
    carla: { id: uuid('member', 3), roles: ['warden'] },
    dirk: { id: uuid('member', 4), roles: ['treasurer'] },
    eva: { id: uuid('member', 5), roles: ['secretary'] },
    newcomer: { id: uuid('member', 5_000) },
  },
  store: () => {
    const database = new Database(file)
    return { ...sqliteStore(database), close: async () => void database.close() }
  },
  titles: { members: 'name', sites: 'name', tasks: 'title', notes: 'body', documents: 'name' },
})
