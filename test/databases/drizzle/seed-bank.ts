import {
  bigint,
  boolean,
  char,
  date,
  datetime,
  decimal,
  double,
  float,
  int,
  json,
  mysqlEnum,
  mysqlTable,
  primaryKey,
  smallint,
  timestamp,
  varchar,
} from 'drizzle-orm/mysql-core'
import { sql } from 'drizzle-orm'

/** What an application that has Drizzle over `seed-bank.mariadb.sql` would have. */
export const growers = mysqlTable('growers', {
  growerNo: char('grower_no', { length: 6 }).primaryKey(),
  name: varchar('name', { length: 120 }).notNull(),
  eMail: varchar('e_mail', { length: 190 }).unique(),
  isActive: boolean('is_active').notNull().default(true),
  joined: datetime('joined')
    .notNull()
    .default(sql`CURRENT_TIMESTAMP`),
})
export const varieties = mysqlTable(
  'varieties',
  {
    species: char('species', { length: 3 }).notNull(),
    varietyNo: smallint('variety_no', { unsigned: true }).notNull(),
    name: varchar('name', { length: 120 }).notNull(),
    kind: mysqlEnum('kind', ['open', 'hybrid', "it's unknown"]).notNull(),
    ownerNo: char('owner_no', { length: 6 })
      .notNull()
      .references(() => growers.growerNo),
    sowingDepth: decimal('sowing_depth', { precision: 4, scale: 1 }),
    weight: float('weight'),
    passport: json('passport'),
  },
  (table) => [primaryKey({ columns: [table.species, table.varietyNo] })],
)
export const lots = mysqlTable('lots', {
  lotId: bigint('lot_id', { mode: 'number' }).autoincrement().primaryKey(),
  species: char('species', { length: 3 }).notNull(),
  varietyNo: smallint('variety_no', { unsigned: true }).notNull(),
  growerNo: char('grower_no', { length: 6 })
    .notNull()
    .references(() => growers.growerNo),
  grams: int('grams').notNull(),
  harvested: date('harvested'),
  changedAt: timestamp('changed_at').notNull().defaultNow().onUpdateNow(),
  ounces: double('ounces').generatedAlwaysAs(sql`grams / 28.35`),
})
