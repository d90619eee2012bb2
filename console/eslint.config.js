import { defineConfigWithVueTs, vueTsConfigs } from '@vue/eslint-config-typescript'
import vue from 'eslint-plugin-vue'

export default defineConfigWithVueTs(
  { ignores: ['dist', 'src/api/schema.ts'] },
  vue.configs['flat/recommended'],
  vueTsConfigs.strict,
  {
    rules: {
      'vue/max-attributes-per-line': 'off',
      'vue/singleline-html-element-content-newline': 'off',
      'vue/html-self-closing': ['error', { html: { void: 'always' } }],
      // Vuetify's table slots are named `item.column`.
      'vue/valid-v-slot': ['error', { allowModifiers: true }],
    },
  },
)
