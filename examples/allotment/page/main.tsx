import '@mantine/core/styles.css'
import { MantineProvider } from '@mantine/core'
import { StrictMode } from 'react'
import { createRoot } from 'react-dom/client'
import { App } from './App.js'

const root = document.getElementById('root')
if (!root) throw new Error('The page has no place for the app.')
createRoot(root).render(
  <StrictMode>
    <MantineProvider theme={{ primaryColor: 'teal', defaultRadius: 'sm' }}>
      <App />
    </MantineProvider>
  </StrictMode>,
)
