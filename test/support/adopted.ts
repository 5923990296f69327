import { mkdirSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'
import Database from 'better-sqlite3'
import mysql from 'mysql2/promise'
import pg from 'pg'
import { openEngines } from './engines.js'
import { scratchFolder } from './scratch.js'

const root = fileURLToPath(new URL('../..', import.meta.url))

/** A database that no part of Pachter made, in the folder of an application. */
export interface Foreign {
  readonly name: string
  readonly folder: string
  readonly address: string
  run(statement: string): Promise<unknown>
  close(): Promise<unknown>
}

const sqlOf = (name: string): string => readFileSync(new URL(`../databases/${name}.sql`, import.meta.url), 'utf8')

/** What pages are made of. */
const OF_PAGES = ['react', 'react-dom', 'react-router', '@tanstack']

/** A folder of an application that has Pachter and the drivers installed. */
export function applicationFolder(): string {
  const folder = scratchFolder()
  mkdirSync(join(folder, 'node_modules'))
  symlinkSync(root, join(folder, 'node_modules', 'pachter'))
  for (const name of ['pg', 'mysql2', 'better-sqlite3', '@types', 'express', ...OF_PAGES]) {
    symlinkSync(join(root, 'node_modules', name), join(folder, 'node_modules', name))
  }
  writeFileSync(join(folder, 'package.json'), '{ "type": "module" }\n')
  return folder
}

/** The databases of `test/databases`, filled; on the servers that are there. */
export async function openForeign(): Promise<readonly Foreign[]> {
  const engines = await openEngines()
  const urlOf = (name: string) => engines.find((each) => each.name === name)?.url
  const [postgresql, mariadb] = [urlOf('PostgreSQL'), urlOf('MariaDB')]
  return [
    ...(postgresql ? [await inPostgresql(postgresql, 'tool-shed')] : []),
    ...(mariadb ? [await inMariadb(mariadb, 'seed-bank')] : []),
    await inSqlite('old-club'),
  ]
}

/** A database of its own in a PostgreSQL server. */
export async function inPostgresql(url: string, file: string, sql = sqlOf(`${file}.postgresql`)): Promise<Foreign> {
  const name = `adopt_${file.replaceAll('-', '_')}`
  const server = new pg.Client(url)
  await server.connect()
  await server.query(`DROP DATABASE IF EXISTS ${name}`)
  await server.query(`CREATE DATABASE ${name}`)
  await server.end()
  const address = url.replace(/\/[^/]*$/, `/${name}`)
  const client = new pg.Client(address)
  await client.connect()
  await client.query(sql)
  return {
    name: file,
    folder: applicationFolder(),
    address,
    run: (each) => client.query(each),
    close: () => client.end(),
  }
}

async function inMariadb(url: string, file: string): Promise<Foreign> {
  const name = `adopt_${file.replaceAll('-', '_')}`
  const client = await mysql.createConnection({ uri: url, multipleStatements: true })
  await client.query(`DROP DATABASE IF EXISTS ${name}; CREATE DATABASE ${name} CHARACTER SET utf8mb4; USE ${name};`)
  await client.query(sqlOf(`${file}.mariadb`))
  const address = url.replace(/\/[^/]*$/, `/${name}`)
  return {
    name: file,
    folder: applicationFolder(),
    address,
    run: (each) => client.query(each),
    close: () => client.end(),
  }
}

export async function inSqlite(file: string, sql = sqlOf(`${file}.sqlite`)): Promise<Foreign> {
  const folder = applicationFolder()
  const database = new Database(join(folder, 'own.db'))
  database.exec(sql)
  return {
    name: file,
    folder,
    address: 'own.db',
    run: async (each) => database.exec(each),
    close: async () => database.close(),
  }
}
