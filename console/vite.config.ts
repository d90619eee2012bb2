import vue from '@vitejs/plugin-vue'
import vuetify from 'vite-plugin-vuetify'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  build: { target: 'es2022', chunkSizeWarningLimit: 900 },
  test: {
    // Its components import style sheets, which only Vite understands.
    server: { deps: { inline: ['vuetify'] } },
  },
})
