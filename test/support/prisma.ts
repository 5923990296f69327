import { execFileSync } from 'node:child_process'
import { writeFileSync } from 'node:fs'
import { createRequire } from 'node:module'
import { join } from 'node:path'
import { fileURLToPath, pathToFileURL } from 'node:url'
import { PrismaBetterSqlite3 } from '@prisma/adapter-better-sqlite3'
import { PrismaPg } from '@prisma/adapter-pg'
import { scratchFolder } from './scratch.js'

export type Provider = 'sqlite' | 'postgresql'

/** What a generated client is for a test. */
export interface Client {
  readonly [model: string]: {
    findMany(query: object): Promise<readonly Readonly<Record<string, unknown>>[]>
  }
}

/** Generates the client of a schema in a folder where the packages are found, which takes no download. */
export function generatePrisma(folder: string, provider: Provider, models: string): void {
  const head = `generator client {
  provider = "prisma-client"
  output = "./generated"
}
datasource db {
  provider = "${provider}"
}
`
  writeFileSync(join(folder, 'schema.prisma'), head + models)
  writeFileSync(
    join(folder, 'prisma.config.ts'),
    "import { defineConfig } from 'prisma/config'\nexport default defineConfig({ schema: './schema.prisma' })\n",
  )
  const command = createRequire(import.meta.url).resolve('prisma/build/index.js')
  // Migrations have a program of their own, which is not asked for anything here, and would be downloaded.
  const env = { ...process.env, PRISMA_SCHEMA_ENGINE_BINARY: process.execPath, PRISMA_HIDE_UPDATE_MESSAGE: '1' }
  execFileSync(process.execPath, [command, 'generate'], { cwd: folder, env, stdio: 'pipe' })
}

/** A client of its own for a schema, on a database. */
export async function prismaClient(
  provider: Provider,
  models: string,
  url: string,
): Promise<{ readonly client: Client; close(): Promise<void> }> {
  const folder = scratchFolder(fileURLToPath(new URL('../.scratch-prisma-', import.meta.url)))
  generatePrisma(folder, provider, models)
  type Made = Client & { $disconnect(): Promise<void> }
  const { PrismaClient } = (await import(pathToFileURL(join(folder, 'generated', 'client.ts')).href)) as {
    PrismaClient: new (options: object) => Made
  }
  const adapter =
    provider === 'sqlite' ? new PrismaBetterSqlite3({ url: `file:${url}` }) : new PrismaPg({ connectionString: url })
  const client = new PrismaClient({ adapter })
  return {
    client,
    close: () => client.$disconnect(),
  }
}
