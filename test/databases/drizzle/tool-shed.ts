import { relations, sql } from 'drizzle-orm'
import {
  bigint,
  bigserial,
  char,
  date,
  index,
  jsonb,
  numeric,
  pgEnum,
  pgSchema,
  pgTable,
  primaryKey,
  real,
  text,
  time,
  timestamp,
  unique,
  uuid,
  varchar,
} from 'drizzle-orm/pg-core'

/** What an application that has Drizzle over `tool-shed.postgresql.sql` would have. */
const shed = pgSchema('shed')
export const condition = shed.enum('condition', ['new', 'worn', 'broken'])
export const visibility = pgEnum('visibility', ['private', 'public'])

export const associations = pgTable('associations', {
  id: uuid().primaryKey().defaultRandom(),
  name: text().notNull(),
})
export const users = pgTable('users', {
  id: uuid().primaryKey().defaultRandom(),
  associationId: uuid()
    .notNull()
    .references(() => associations.id),
  email: text().notNull().unique(),
  passwordHash: text().notNull(),
  displayName: varchar({ length: 80 }).notNull(),
  role: text({ enum: ['borrower', 'keeper'] })
    .notNull()
    .default('borrower'),
  createdAt: timestamp({ withTimezone: true }).notNull().defaultNow(),
})
export const tools = shed.table(
  'tools',
  {
    id: uuid().primaryKey().defaultRandom(),
    associationId: uuid()
      .notNull()
      .references(() => associations.id),
    ownerId: uuid()
      .notNull()
      .references(() => users.id),
    name: text().notNull(),
    label: char({ length: 6 }),
    condition: condition().notNull().default('new'),
    visibility: visibility().notNull().default('private'),
    deposit: numeric({ precision: 8, scale: 2 }),
    tags: text().array().notNull().default([]),
    manual: jsonb().$type<{ pages: number }>(),
    weight: real(),
    bought: date(),
    opensAt: time(),
    gone: timestamp('deleted_at', { withTimezone: true }),
    shout: text().generatedAlwaysAs(sql`upper(name)`),
  },
  (table) => [index().on(table.ownerId), unique().on(table.name, table.ownerId)],
)
export const toolShares = shed.table(
  'tool_shares',
  {
    toolId: uuid()
      .notNull()
      .references(() => tools.id),
    userId: uuid()
      .notNull()
      .references(() => users.id),
    until: date({ mode: 'date' }),
  },
  (table) => [primaryKey({ columns: [table.toolId, table.userId] })],
)
export const repairs = shed.table('repairs', {
  id: bigserial({ mode: 'number' }).primaryKey(),
  associationId: uuid()
    .notNull()
    .references(() => associations.id),
  toolId: uuid()
    .notNull()
    .references(() => tools.id),
  reportedBy: uuid()
    .notNull()
    .references(() => users.id),
  assignedTo: uuid().references(() => users.id),
  status: text().notNull().default('open'),
  notes: text(),
  updatedAt: timestamp({ mode: 'string' }).notNull().defaultNow(),
})
export const repairParts = shed.table('repair_parts', {
  id: bigserial({ mode: 'number' }).primaryKey(),
  repairId: bigint({ mode: 'number' })
    .notNull()
    .references(() => repairs.id),
  part: text().notNull(),
  serialNumbers: bigint({ mode: 'bigint' }).array(),
})

export const userRelations = relations(users, ({ one, many }) => ({
  association: one(associations, { fields: [users.associationId], references: [associations.id] }),
  tools: many(tools),
}))
export const toolRelations = relations(tools, ({ one, many }) => ({
  association: one(associations, { fields: [tools.associationId], references: [associations.id] }),
  owner: one(users, { fields: [tools.ownerId], references: [users.id] }),
  shares: many(toolShares),
}))
export const repairRelations = relations(repairs, ({ one }) => ({
  association: one(associations, { fields: [repairs.associationId], references: [associations.id] }),
  tool: one(tools, { fields: [repairs.toolId], references: [tools.id] }),
  // Not called as rules call it, so that types do not see which column it goes by.
  reporter: one(users, { fields: [repairs.reportedBy], references: [users.id] }),
}))
export const partRelations = relations(repairParts, ({ one }) => ({
  repair: one(repairs, { fields: [repairParts.repairId], references: [repairs.id] }),
}))
