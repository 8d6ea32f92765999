import vue from 'eslint-plugin-vue'
import ts from 'typescript-eslint'

/** Walls between the folders: what each may not import. */
const wall = (files, forbidden, why) => ({
  files,
  rules: {
    'no-restricted-imports': [
      'error',
      { patterns: [{ group: ['../*'], message: 'Use @/…' }, { group: forbidden, message: why }] },
    ],
  },
})

export default [
  { ignores: ['dist', 'src/api/schema.d.ts', 'node_modules'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  { files: ['**/*.vue'], languageOptions: { parserOptions: { parser: ts.parser } } },
  {
    rules: {
      'vue/multi-word-component-names': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/max-attributes-per-line': 'off',
      'vue/html-self-closing': 'off',
      'vue/attributes-order': 'off',
      'vue/html-indent': 'off',
      'vue/html-closing-bracket-newline': 'off',
      'vue/first-attribute-linebreak': 'off',
      'vue/multiline-html-element-content-newline': 'off',
      'vue/require-default-prop': 'off',
    },
  },
  wall(['src/lib/**'], ['@/*'], 'What lies in lib knows nothing of the application.'),
  wall(['src/bench/viewer/**'], ['vue', 'pinia', '@/stores/*', '@/components/*', '@/pages/*', '@/api/*', '@/bench/*.vue', '@/bench/context', '@/bench/use*', '@/bench/stages/*', '@/bench/worksheet/*', '@/bench/actions/*'], 'The viewer is plain three.js.'),
  wall(['src/api/**'], ['@/stores/*', '@/components/*', '@/pages/*', '@/bench/*'], 'The client knows only the API.'),
  wall(['src/stores/**', 'src/composables/**'], ['@/components/*', '@/pages/*', '@/bench/*'], 'State does not know the screen.'),
  wall(['src/components/**'], ['@/stores/*', '@/pages/*', '@/bench/*'], 'Components take props and send events.'),
  wall(['src/bench/worksheet/fields/**'], ['@/stores/*', '@/pages/*', '@/bench/context', '@/bench/stages/*', '@/bench/viewer/*'], 'Fields take a value and give one.'),
  wall(['src/bench/**'], ['@/pages/*'], 'The bench does not know pages.'),
  { files: ['src/pages/**', 'src/*.ts', 'src/*.vue'], rules: { 'no-restricted-imports': ['error', { patterns: [{ group: ['../*'], message: 'Use @/…' }] }] } },
]
