import { defineConfig } from 'pachter/cli'
import { callers } from './callers.js'
import { openDemoStore } from './database.js'
import { rules } from './rules.js'

export default defineConfig({
  rules,
  callers,
  store: openDemoStore,
  titles: { members: 'name', sites: 'name', plots: 'number', entries: 'title', remarks: 'body', jobs: 'title' },
})
