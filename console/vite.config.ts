import { defineConfig } from 'vitest/config'
import vue from '@vitejs/plugin-vue'
import tailwindcss from '@tailwindcss/vite'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  build: { target: 'es2022', assetsInlineLimit: 0, chunkSizeWarningLimit: 600 },
  server: { proxy: { '/api': 'http://127.0.0.1:7420' } },
  test: { environment: 'node', include: ['src/**/*.test.ts'] },
})
