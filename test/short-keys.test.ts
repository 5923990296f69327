import { expect } from 'chai'
import fc from 'fast-check'
import { anonymous, defineCaller, defineModel, defineRules, integer, text } from 'pachter'
import { openFixture, openWorkbench, seeTable, shortKeys, wholeKey } from 'pachter/check'

const model = defineModel({
  tools: { id: text().key(), name: text() },
  loans: { toolId: text().key(), number: integer().key() },
})
const rules = defineRules(model, defineCaller({ id: integer() }), {
  tools: ({ anyone, table }) => table.grants({ read: [anyone] }),
  loans: ({ anyone, table }) => table.grants({ read: [anyone] }),
})

/** Long keys, many of which begin alike. */
const longKey = fc.tuple(fc.constantFrom('0', 'a'), fc.integer({ min: 0, max: 3 })).map(([digit, at]) => {
  const rest = `b8d1f0e2c4a6483a9b5d7e9f1a3c5${at}`
  return `${digit.repeat(at === 3 ? 8 : 7)}${at}-${rest}`
})
const key = fc.oneof(longKey, fc.uuid(), fc.constantFrom('rake', 'hoe', 'a', 'long ladder'))

describe('keys that nobody reads to their end', () => {
  it('are shown by their beginning, and can be typed so', async () => {
    await fc.assert(
      fc.asyncProperty(fc.uniqueArray(key, { minLength: 1, maxLength: 12 }), async (keys) => {
        const loans = keys.map((toolId, number) => ({ toolId, number }))
        const { store, close } = await openFixture(model, { tools: keys.map((id) => ({ id, name: id })), loans })
        const bench = openWorkbench({ rules, callers: { nobody: anonymous }, store })
        const { rows } = await seeTable(bench, 'tools', ['nobody'])
        expect(rows).to.have.length(keys.length)
        const shown = rows.map((row) => row.short ?? row.key)
        expect(new Set(shown).size, 'each stands for one').to.equal(keys.length)
        for (const [at, row] of rows.entries())
          expect(await wholeKey(bench, 'tools', shown[at] as string)).to.equal(row.key)
        for (const [whole, short] of await shortKeys(bench, 'loans', loans)) {
          expect(await wholeKey(bench, 'loans', short)).to.equal(whole)
        }
        await close()
      }),
      { numRuns: 40 },
    )
  })
})
