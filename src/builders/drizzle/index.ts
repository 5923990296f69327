export { drizzleModel, type DrizzleModelOptions } from './model.js'
export { drizzleFilter, drizzleView, type DrizzleView } from './queries.js'
