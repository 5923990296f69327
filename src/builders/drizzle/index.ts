export { drizzleFilter, drizzleView, type DrizzleView } from './queries.js'
