import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [react()],
  build: { chunkSizeWarningLimit: 1000 },
  // `npm run dev` shows what is being written against a cluster that runs: the demo's first node, unless another is named.
  server: { proxy: Object.fromEntries(['/api', '^/runbook$', '/metrics'].map((path) => [path, process.env.KARST_NODE ?? 'http://127.0.0.1:26800'])) },
  // The framework's own sheets are written for an older Sass.
  css: { preprocessorOptions: { scss: { quietDeps: true, silenceDeprecations: ['import', 'global-builtin', 'color-functions', 'if-function'] } } },
})
