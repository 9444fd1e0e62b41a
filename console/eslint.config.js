import js from '@eslint/js'
import prettier from 'eslint-config-prettier'
import vue from 'eslint-plugin-vue'
import globals from 'globals'
import ts from 'typescript-eslint'

export default ts.config(
  { ignores: ['dist', 'node_modules', 'src/api/schema.d.ts'] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  prettier,
  {
    files: ['**/*.{ts,vue}'],
    languageOptions: {
      parserOptions: { parser: ts.parser },
      globals: globals.browser,
    },
    rules: {
      // The compiler knows the types of templates and names; these would only repeat it.
      'no-undef': 'off',
      'vue/require-default-prop': 'off',
      // One page is one component, and pages are named after what they show.
      'vue/multi-word-component-names': 'off',
    },
  },
  { files: ['*.{js,mjs,ts}'], languageOptions: { globals: globals.node } },
)
