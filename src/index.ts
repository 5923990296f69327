/** Everything for writing rules and enforcing them. Connectors are entry points of their own. */
export * from './model/index.js'
export * from './condition/index.js'
export * from './rules/index.js'
export * from './decide/index.js'
export * from './store/index.js'
