const js = require('@eslint/js');
const globals = require('globals');

module.exports = [
  { ignores: ['**/vendor/**'] },
  {
    ...js.configs.recommended,
    files: ['**/*.js'],
    languageOptions: { ecmaVersion: 2023, sourceType: 'module', globals: { ...globals.browser, htmx: 'readonly' } },
    rules: {
      ...js.configs.recommended.rules,
      eqeqeq: ['error', 'always', { null: 'ignore' }],
      'no-var': 'error',
      'prefer-const': ['error', { destructuring: 'all' }],
      'no-unused-vars': ['error', { args: 'after-used' }],
      'no-shadow': 'error',
      'no-implicit-globals': 'error',
      'no-constructor-return': 'error',
      'require-atomic-updates': 'off',
    },
  },
];
