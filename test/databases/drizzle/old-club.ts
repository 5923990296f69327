import { integer, numeric, sqliteTable, sqliteView, text } from 'drizzle-orm/sqlite-core'

/** What an application that has Drizzle over `old-club.sqlite.sql` would have. */
export const members = sqliteTable('Member', {
  id: integer('MemberID').primaryKey(),
  fullName: text('Full Name').notNull(),
  email: text('EMail'),
  order: integer('order'),
  isAdmin: integer('IsAdmin', { mode: 'boolean' }).notNull().default(false),
})
export const tables = sqliteTable('table', {
  key: text('key').primaryKey(),
  ownerId: integer('OwnerID').notNull(),
  when: text('when'),
  size: numeric('size'),
  state: text('state', { enum: ['free', "it's let"] }).notNull(),
})
export const posts = sqliteTable('Post', {
  id: integer('id').primaryKey(),
  authorId: integer('author_id')
    .notNull()
    .references(() => members.id),
  text: text('Text'),
})
export const freeTables = sqliteView('Free Tables', { key: text('key') }).existing()
