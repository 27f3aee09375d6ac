import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // Relative: the service puts the path before them below which it is reached.
  base: './',
  build: {
    outDir: '../src/kinetrum/service/console',
    emptyOutDir: true,
    // The policy of the page allows no inlined scripts or fonts.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
  test: { include: ['tests/**/*.test.{ts,tsx}'], setupFiles: ['tests/setup.ts'] },
})
