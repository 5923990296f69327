/** The layers, lowest first. A layer may import itself and those before it. */
const LAYERS = [
  'model',
  'condition',
  'rules',
  'decide',
  'guard',
  'sql',
  'connect',
  'builders',
  'adopt',
  'identity',
  'http',
  'live',
  'client',
  'react',
  'check',
  'cli',
]

/** The layers that run in a browser: no dependency, no Node built-in. */
const CORE = LAYERS.slice(0, 4)

module.exports = {
  forbidden: [
    ...LAYERS.slice(0, -1).map((layer, at) => ({
      name: `${layer}-imports-no-higher-layer`,
      severity: 'error',
      from: { path: `^src/${layer}/` },
      to: { path: `^src/(?:${LAYERS.slice(at + 1).join('|')})/|^src/index` },
    })),
    {
      name: 'core-imports-nothing-from-outside',
      comment: 'The core has no dependency and no Node built-in.',
      severity: 'error',
      from: { path: `^src/(?:${CORE.join('|')})/` },
      to: { pathNot: '^src/' },
    },
    {
      name: 'interface-runs-in-a-browser',
      comment: 'What pages load imports the core, and libraries that run in a browser.',
      severity: 'error',
      from: { path: '^src/(?:client|react)/' },
      to: {
        pathNot: [
          `^src/(?:${[...CORE, 'client', 'react'].join('|')})/`,
          '^node_modules/(?:@types/)?(?:react|react-dom|react-router|@tanstack/react-query|eventsource-parser)/',
        ],
      },
    },
    {
      name: 'layers-are-entered-by-their-index',
      severity: 'error',
      from: { path: '^src/([^/]+)/' },
      // The connectors are entry points of their own.
      to: {
        path: '^src/[^/]+/',
        pathNot: ['^src/$1/', '^src/[^/]+/index[.]ts$', '^src/connect/(?:pglite|postgresql|sqlite|mariadb)[.]ts$'],
      },
    },
    {
      name: 'no-circles',
      severity: 'error',
      from: { path: '^src/' },
      // Nor by types.
      to: { circular: true },
    },
    {
      name: 'every-module-is-used',
      severity: 'error',
      from: { path: '^src/', orphan: true },
      to: {},
    },
  ],
  options: {
    tsPreCompilationDeps: true,
    tsConfig: { fileName: 'tsconfig.json' },
    doNotFollow: { path: 'node_modules' },
    enhancedResolveOptions: { exportsFields: ['exports'], conditionNames: ['import', 'types', 'default'] },
  },
}
