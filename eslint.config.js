import js from '@eslint/js';
import vue from 'eslint-plugin-vue';
import globals from 'globals';
import ts from 'typescript-eslint';

/** Imports go one way: web → core and the API; server → core; core → nothing of ours. */
const mayNotImport = (...folders) => ({
  'no-restricted-imports': [
    'error',
    { patterns: folders.map((folder) => ({ group: [`**/${folder}/**`], message: `This part of the house does not import from ${folder}/.` })) },
  ],
});

export default ts.config(
  { ignores: ['dist/**', 'node_modules/**', 'harbor-data/**', '.cache/**', 'test-results/**', 'playwright-report/**'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  {
    languageOptions: { globals: { ...globals.node, ...globals.browser } },
    rules: {
      'max-lines': ['error', { max: 450, skipBlankLines: true }],
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      '@typescript-eslint/no-unused-expressions': 'off',
      'vue/multi-word-component-names': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-indent': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/require-default-prop': 'off',
      'vue/attributes-order': 'off',
    },
  },
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: ts.parser } } },
  { files: ['core/**/*.ts'], rules: mayNotImport('server', 'web', 'demo') },
  { files: ['server/**/*.ts'], rules: mayNotImport('web') },
  { files: ['cli/**/*.ts'], rules: mayNotImport('server', 'web', 'demo') },
  { files: ['web/**/*.{ts,vue}'], rules: mayNotImport('server', 'demo') },
);
