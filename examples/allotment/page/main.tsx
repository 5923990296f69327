import '@mantine/core/styles.css'
import './page.css'
import { MantineProvider } from '@mantine/core'
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { RouterProvider } from 'react-router'
import { routes } from './routes.js'
import { theme } from './theme.js'

const root = document.getElementById('root')
if (!root) throw new Error('The page has no place for the application.')
createRoot(root).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto">
      <QueryClientProvider client={new QueryClient()}>
        <RouterProvider router={routes} />
      </QueryClientProvider>
    </MantineProvider>
  </StrictMode>,
)
