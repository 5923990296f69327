import { startMariadb, startPostgresql } from './support/servers.js'
import pg from 'pg'
import mysql from 'mysql2/promise'
import { readFileSync } from 'node:fs'
const p = await startPostgresql()
const m = await startMariadb()
const c = new pg.Client(p.url)
await c.connect()
await c.query(readFileSync('test/databases/tool-shed.postgresql.sql', 'utf8'))
const mc = await mysql.createConnection({ uri: m.url, multipleStatements: true })
await mc.query(readFileSync('test/databases/seed-bank.mariadb.sql', 'utf8'))
console.log(p.url, m.url)
await new Promise(() => {})
