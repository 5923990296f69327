import js from '@eslint/js'
import hooks from 'eslint-plugin-react-hooks'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['**/dist/', 'coverage/'] },
  js.configs.recommended,
  ts.configs.strict,
  {
    rules: {
      '@typescript-eslint/consistent-type-imports': 'error',
      '@typescript-eslint/no-non-null-assertion': 'error',
      'max-lines': ['error', { max: 300, skipBlankLines: true, skipComments: true }],
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_' }],
      eqeqeq: 'error',
    },
  },
  {
    // What a condition can be is listed out wherever it is told apart: a new kind is not passed on by a `default`.
    files: ['src/**/*.ts'],
    languageOptions: { parserOptions: { projectService: true } },
    rules: {
      '@typescript-eslint/switch-exhaustiveness-check': [
        'error',
        { considerDefaultExhaustiveForUnions: false, allowDefaultCaseForExhaustiveSwitch: false },
      ],
    },
  },
  { files: ['**/*.tsx', 'src/react/*.ts'], ...hooks.configs.flat.recommended },
  {
    files: ['scripts/**', '*.js', '.*.cjs'],
    languageOptions: { globals: { process: 'readonly', console: 'readonly', module: 'writable', URL: 'readonly' } },
  },
  {
    // Chai states an expectation by reading a property.
    files: ['test/**'],
    rules: { '@typescript-eslint/no-unused-expressions': 'off' },
  },
)
