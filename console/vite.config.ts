import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

// Served by the service under /console, from inside the binary.
export default defineConfig({
  base: '/console/',
  plugins: [react()],
  build: { target: 'es2022', modulePreload: { polyfill: false }, assetsInlineLimit: 0, chunkSizeWarningLimit: 600 },
});
