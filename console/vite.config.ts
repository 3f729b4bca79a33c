import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

// The console is served by the service itself; while developing, /api is
// passed on to a service on its usual port.
export default defineConfig({
  plugins: [vue()],
  build: { outDir: 'dist', emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 1200 },
  server: { proxy: { '/api': 'http://127.0.0.1:8600' } },
})
