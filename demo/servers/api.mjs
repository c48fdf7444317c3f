// The booking API, on its own port, under /api.
import { createServer } from 'node:http';
import { huts } from './huts.data.mjs';

const port = Number(process.env.PORT ?? 4311);

createServer((request, response) => {
  const { pathname } = new URL(request.url, 'http://api');
  response.setHeader('content-type', 'application/json');
  if (pathname === '/api' || pathname === '/api/') {
    return response.end(JSON.stringify({ name: 'Highmoor booking API', paths: ['/api/huts'] }));
  }
  if (pathname === '/api/huts') return response.end(JSON.stringify({ huts }));
  response.statusCode = 404;
  response.end(JSON.stringify({ error: `no such path: ${pathname}` }));
}).listen(port, '127.0.0.1', () => console.log(`booking API on ${port}`));
