import { openers } from './databases.js'
import { measureStore } from './store.js'
import { generate } from './world.js'
for (const name of process.argv.slice(2)) { const b = await openers[name]!(); await generate(b.store); await measureStore(b); await b.close() }
