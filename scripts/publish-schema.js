// Writes the JSON Schema of rulebooks beside the built package, for editors and other languages.
import { writeFileSync } from 'node:fs'
import { rulebookSchema } from '../dist/rules/index.js'

const file = new URL('../dist/rulebook.schema.json', import.meta.url)
writeFileSync(file, `${JSON.stringify(rulebookSchema, null, 2)}\n`)
