import { createTheme, type MantineColorsTuple } from '@mantine/core'

/** The green of Korenveld's fence posts, and the red of its beets for what cannot be taken back. */
const leaf: MantineColorsTuple = [
  '#eef6ef',
  '#dcebde',
  '#b6d5bb',
  '#8dbd95',
  '#6aa975',
  '#4f985c',
  '#3c8049',
  '#2f6b3b',
  '#265a31',
  '#1b4324',
]
const beet: MantineColorsTuple = [
  '#fceef2',
  '#f4dbe2',
  '#e6b3c2',
  '#d8899f',
  '#cc6681',
  '#c4506f',
  '#b23a5b',
  '#9c2c4b',
  '#8c2341',
  '#7c1737',
]

const straw: MantineColorsTuple = [
  '#fff9e6',
  '#fdf0c8',
  '#f9e29b',
  '#f5d46b',
  '#f0c94f',
  '#d9ad2b',
  '#b98d14',
  '#936c08',
  '#754f00',
  '#5c3d00',
]
/** What is dark is a green dark, too. */
const dark: MantineColorsTuple = [
  '#e4eae4',
  '#c6d0c7',
  '#a7b5aa',
  '#7d8d81',
  '#4a5a4e',
  '#36443a',
  '#243027',
  '#18201a',
  '#131a15',
  '#0d120f',
]

export const theme = createTheme({
  colors: { leaf, beet, straw, dark },
  primaryColor: 'leaf',
  primaryShade: 7,
  autoContrast: true,
  defaultRadius: 'sm',
  cursorType: 'pointer',
  headings: {
    fontWeight: '650',
    sizes: { h1: { fontSize: '1.75rem' }, h2: { fontSize: '1.2rem' }, h3: { fontSize: '1rem' } },
  },
})
