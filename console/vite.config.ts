import { defineConfig } from 'vite'
import vue from '@vitejs/plugin-vue'

// The build lies where Go embeds it (console.go). During `npm run dev` the API
// of a running service is passed on.
export default defineConfig({
  plugins: [vue()],
  build: { outDir: 'dist/app', emptyOutDir: true, chunkSizeWarningLimit: 900, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
