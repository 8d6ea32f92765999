import vue from '@vitejs/plugin-vue'
import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  base: '/static/',
  html: { cspNonce: 'NONCE_PLACEHOLDER' },
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: { target: 'es2022', chunkSizeWarningLimit: 1600, assetsInlineLimit: 0 },
  test: {
    css: true,
    environment: 'happy-dom',
    include: ['tests/**/*.test.ts'],
  },
})
