import { svelte } from '@sveltejs/vite-plugin-svelte'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [svelte(), tailwindcss()],
  server: { proxy: { '/api': 'http://127.0.0.1:7464' } },
  // The content policy takes fonts and pictures as files only, so none is inlined.
  build: { target: 'es2022', emptyOutDir: false, modulePreload: { polyfill: false }, assetsInlineLimit: 0 },
})
