import vue from 'eslint-plugin-vue'
import parser from 'vue-eslint-parser'
import ts from 'typescript-eslint'

export default [
  { ignores: ['dist', 'node_modules', 'src/api/contract.gen.ts'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  { files: ['**/*.vue'], languageOptions: { parser, parserOptions: { parser: ts.parser } } },
  {
    rules: {
      'vue/multi-word-component-names': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': 'off',
      'vue/html-indent': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/attributes-order': 'off',
      'max-lines': ['error', { max: 250, skipBlankLines: true, skipComments: true }],
    },
  },
]
