import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

// Served by the service at its root, from inside the binary: the page at /, what it loads under /assets.
export default defineConfig({
  plugins: [react()],
  build: {
    target: 'es2022',
    modulePreload: { polyfill: false },
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 600,
    // What is bundled, with its licences: served beside it, and in the package.
    license: { fileName: 'assets/licences.md' },
  },
});
