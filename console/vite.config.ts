import react from '@vitejs/plugin-react';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // The page's policy allows no `data:` but in pictures.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
});
