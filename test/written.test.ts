import { expect } from 'chai'
import fc from 'fast-check'
import { accepts, fromJson, readTyped, type Shape } from 'pachter/model'

const two = (number: number) => String(number).padStart(2, '0')

/** Parts of a moment, as often as not beyond what there is, and whether there is such a day and such a time. */
const parts = fc
  .tuple(
    fc.constantFrom(999, 1000, 1900, 2000, 2023, 2024, 9999, 10000),
    fc.integer({ min: 0, max: 13 }),
    fc.oneof(fc.integer({ min: 0, max: 32 }), fc.integer({ min: 28, max: 31 })),
    fc.integer({ min: 0, max: 25 }),
    fc.integer({ min: 0, max: 61 }),
    fc.integer({ min: 0, max: 61 }),
  )
  .map(([year, month, day, hour, minute, second]) => {
    const isLeap = (year % 4 === 0 && year % 100 !== 0) || year % 400 === 0
    const days = [31, isLeap ? 29 : 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31][month - 1] ?? 0
    return {
      date: `${year}-${two(month)}-${two(day)}`,
      time: [hour, minute, second].map(two).join(':'),
      isDay: year >= 1000 && year <= 9999 && day >= 1 && day <= days,
      isTime: hour < 24 && minute < 60 && second < 60,
    }
  })

describe('Values that are written', () => {
  it('are days and times that there are', () => {
    fc.assert(
      fc.property(parts, ({ date, time, isDay, isTime }) => {
        expect(accepts({ type: 'date' }, date), date).to.equal(isDay)
        expect(accepts({ type: 'time' }, time), time).to.equal(isTime)
        for (const read of [readTyped, fromJson]) {
          const moment = read({ type: 'timestamp' }, `${date}T${time}Z`)
          expect(accepts({ type: 'timestamp' }, moment), `${date}T${time}Z`).to.equal(isDay && isTime)
          if (isDay && isTime) expect((moment as Date).toISOString()).to.equal(`${date}T${time}.000Z`)
        }
      }),
      { numRuns: 2000 },
    )
  })

  it('are read where they are written in full, and nothing near them is', () => {
    const read: readonly [Shape, string, unknown][] = [
      [{ type: 'integer' }, '-07', -7],
      [{ type: 'float' }, '.5', 0.5],
      [{ type: 'float' }, '-1.5e-3', -0.0015],
      [{ type: 'decimal', scale: 2 }, '12', '12.00'],
      [{ type: 'decimal', scale: 2 }, '-.5', '-0.50'],
      [{ type: 'decimal', scale: 2 }, '007.25', '7.25'],
      [{ type: 'bigInteger' }, '9007199254740993', 9007199254740993n],
      [{ type: 'time' }, '09:30', '09:30:00'],
      [{ type: 'timestamp' }, '2026-03-01T01:30:00.25+01:00', new Date('2026-03-01T00:30:00.250Z')],
    ]
    for (const [shape, written, value] of read) expect(readTyped(shape, written), written).to.deep.equal(value)
    const wrong: readonly [Shape['type'], readonly string[]][] = [
      ['integer', ['', ' ', '0x10', '1e0', '1.0', '0b1', 'Infinity', '9007199254740993']],
      ['float', ['', ' ', '0x10', '0o7', 'Infinity', 'NaN', '1.2.3', 'e', '.']],
      ['decimal', ['', '.', '-', '1e2', '-0', '0x1', '1.234']],
      ['bigInteger', ['', '0x10', '1.0', '9223372036854775808']],
      ['boolean', ['', '1', 'TRUE', 'yes']],
      ['date', ['2026-3-1', '2026-03-01T00:00:00', '+010000-01-01']],
      ['time', ['9:30:00', '09', '09:30:00Z', '09:30:00.5']],
      ['timestamp', ['', '5', '2026-03-01', '2026-03-01T00:00:00', '2026-03-01 00:00:00Z', 'March 1, 2026 00:00 UTC']],
      ['uuid', ['', '{6f1d0d0e-0000-4000-8000-000000000000}', '6f1d0d0e000040008000000000000000']],
      ['bytes', ['0', '0x00', 'zz']],
    ]
    for (const [type, texts] of wrong) {
      const shape: Shape = { type, ...(type === 'decimal' && { scale: 2 }) }
      for (const text of texts) expect(accepts(shape, readTyped(shape, text)), `${type} ${text}`).to.equal(false)
    }
  })
})
