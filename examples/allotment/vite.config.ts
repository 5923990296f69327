import react from '@vitejs/plugin-react'
import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vite'

export default defineConfig({
  root: fileURLToPath(new URL('page', import.meta.url)),
  plugins: [react()],
  // Mantine's directives for server components mean nothing here.
  build: { chunkSizeWarningLimit: 1000, rolldownOptions: { onwarn: () => undefined } },
})
