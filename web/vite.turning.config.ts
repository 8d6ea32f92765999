import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vite'

/** The script of turning pages: one file that needs no other. */
export default defineConfig({
  publicDir: false,
  build: {
    target: 'es2022',
    emptyOutDir: false,
    chunkSizeWarningLimit: 1600,
    lib: {
      entry: fileURLToPath(new URL('./turning/main.ts', import.meta.url)),
      formats: ['iife'],
      name: 'turning',
      fileName: () => 'turning.js',
    },
  },
})
