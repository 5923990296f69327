// The demo in SQLite instead of PGlite, which takes seconds to start: for tests of the command line.
import { openFixture } from 'pachter/check'
import { defineConfig } from 'pachter/cli'
import { callers } from '../../examples/allotment/callers.js'
import { readData } from '../../examples/allotment/database.js'
import { model } from '../../examples/allotment/model.js'
import demo from '../../examples/allotment/pachter.config.js'
import { rules } from '../../examples/allotment/rules.js'

export default defineConfig({
  ...demo,
  rules,
  callers,
  store: async () => (await openFixture(model, await readData())).store,
})
