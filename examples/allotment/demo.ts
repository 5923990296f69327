import { serve } from './serve.js'

const DEFAULT_PORT = 4310

const port = Number(process.env['PORT'] ?? DEFAULT_PORT)
try {
  const { address, issuer } = await serve(port)
  console.log(`\nKorenveld is open at ${address}, its identity provider at ${issuer} (Ctrl-C to stop)`)
} catch (error) {
  if ((error as NodeJS.ErrnoException).code !== 'EADDRINUSE') throw error
  console.error(`\nPort ${port} is taken; choose another: PORT=4311 npm run demo`)
  process.exitCode = 1
}
