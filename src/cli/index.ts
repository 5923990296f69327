export { type Config, defineConfig } from './config.js'
