// Live readings of the weather stations, as server-sent events.
import { createServer } from 'node:http';

const port = Number(process.env.PORT ?? 4313);
const stations = ['Ravenstone', 'Larkfell', 'Mistgap'];

/** A made-up reading: a slow swing, different for each station. */
function reading(station, at) {
  const phase = at / 60_000 + stations.indexOf(station) * 2;
  const degrees = (4 + 6 * Math.sin(phase)).toFixed(1);
  return { station, degrees, at: new Date(at).toISOString() };
}

const page = `<!doctype html><title>Weather · Highmoor</title>
<style>body{font:18px/1.5 system-ui,sans-serif;background:#eef3ef;color:#20302a;max-width:640px;margin:8vh auto;padding:0 24px}</style>
<h1>Weather on the moor</h1><ul id="list"></ul>
<script>
const rows = {};
new EventSource('/live').onmessage = ({ data }) => {
  const { station, degrees } = JSON.parse(data);
  rows[station] ??= document.getElementById('list').appendChild(document.createElement('li'));
  rows[station].textContent = station + ': ' + degrees + ' °C';
};
</script>
`;

createServer((request, response) => {
  if (request.url !== '/live') {
    response.setHeader('content-type', 'text/html; charset=utf-8');
    return response.end(page);
  }
  response.writeHead(200, { 'content-type': 'text/event-stream', 'cache-control': 'no-store' });
  const send = () => {
    for (const station of stations) {
      response.write(`data: ${JSON.stringify(reading(station, Date.now()))}\n\n`);
    }
  };
  send();
  const timer = setInterval(send, 1000);
  request.on('close', () => clearInterval(timer));
}).listen(port, '127.0.0.1', () => console.log(`weather on ${port}`));
