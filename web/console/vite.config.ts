import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue({ template: { compilerOptions: { isCustomElement: (tag) => tag === 'idle-map' } } })],
  build: {
    outDir: '../dist',
    emptyOutDir: true, // public/.gitkeep puts the mark back that keeps the directory
    assetsInlineLimit: (file) => (file.endsWith('.json') ? false : undefined),
    chunkSizeWarningLimit: 700,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
