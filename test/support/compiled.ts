import { fileURLToPath } from 'node:url'
import ts from 'typescript'

const options: ts.CompilerOptions = {
  noEmit: true,
  strict: true,
  skipLibCheck: true,
  module: ts.ModuleKind.NodeNext,
  target: ts.ScriptTarget.ES2023,
  types: ['node'],
  typeRoots: [fileURLToPath(new URL('../../node_modules/@types', import.meta.url))],
  jsx: ts.JsxEmit.ReactJSX,
}

/** What packages declare stays as it is for as long as tests run, and takes most of the time to read. */
const declarations = new Map<string, ts.SourceFile | undefined>()

/** What the compiler finds wrong in TypeScript files, in one run over all of them. */
export function compileErrors(files: readonly string[]): string {
  const host = ts.createCompilerHost(options)
  const fromDisk = host.getSourceFile
  host.getSourceFile = (name, ...rest) => {
    if (!/\/(node_modules|dist)\//.test(name)) return fromDisk(name, ...rest)
    if (!declarations.has(name)) declarations.set(name, fromDisk(name, ...rest))
    return declarations.get(name)
  }
  const found = ts.getPreEmitDiagnostics(ts.createProgram(files, options, host))
  return ts.formatDiagnostics(found, host)
}
