import { defineConfig } from 'vitest/config'
import vue from '@vitejs/plugin-vue'

// The build lies where Go embeds it (console.go). During `npm run dev` the API of a running service is passed on.
// There is one style sheet: a page whose own one did not come could not be asked for again.
export default defineConfig({
  plugins: [vue()],
  build: {
    outDir: 'dist/app',
    emptyOutDir: true,
    chunkSizeWarningLimit: 900,
    assetsInlineLimit: 0,
    cssCodeSplit: false,
  },
  test: { environment: 'happy-dom' },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
