// One server for every hut: it shows the one whose name was asked for.
import { createServer } from 'node:http';
import { huts } from './huts.data.mjs';

const port = Number(process.env.PORT ?? 4312);
const escape = (text) => text.replace(/[&<>"]/g, (c) => `&#${c.charCodeAt(0)};`);

createServer((request, response) => {
  const host = (request.headers.host ?? '').split(':')[0];
  const slug = host.split('.')[0];
  const hut = huts.find((hut) => hut.slug === slug);
  const title = hut === undefined ? `A hut called ${slug}?` : hut.name;
  const text =
    hut === undefined
      ? `Highmoor has no hut of this name, but the wildcard brought you here.`
      : `${hut.height} m above the sea, ${hut.beds} beds free.`;
  response.setHeader('content-type', 'text/html; charset=utf-8');
  response.end(`<!doctype html><title>${escape(title)} · Highmoor</title>
<style>body{font:18px/1.5 system-ui,sans-serif;background:#eef3ef;color:#20302a;max-width:640px;margin:8vh auto;padding:0 24px}</style>
<h1>${escape(title)}</h1><p>${escape(text)}</p><p><small>You asked for ${escape(host)}.</small></p>
`);
}).listen(port, '127.0.0.1', () => console.log(`huts on ${port}`));
