import { svelte } from '@sveltejs/vite-plugin-svelte'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [svelte(), tailwindcss()],
  server: { proxy: { '/api': 'http://127.0.0.1:7464' } },
  build: { target: 'es2022', emptyOutDir: false, modulePreload: { polyfill: false } },
})
