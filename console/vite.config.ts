import react from '@vitejs/plugin-react';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [react(), tailwindcss()],
  // `npm run dev` beside a running service: sign in there first, then the cookie serves here too.
  server: { proxy: { '/api': 'http://127.0.0.1:7070', '/sign-in': 'http://127.0.0.1:7070' } },
});
