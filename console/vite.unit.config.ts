import { defineConfig } from 'vite'

// One script of what the browser tests try by itself; see unit/main.ts.
export default defineConfig({
  publicDir: false,
  define: { 'process.env.NODE_ENV': '"production"' },
  build: {
    outDir: 'unit/dist',
    lib: { entry: 'unit/main.ts', formats: ['iife'], name: 'units', fileName: () => 'unit.js' },
  },
})
