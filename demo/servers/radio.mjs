// The hut wardens' radio: whatever one says over the WebSocket, all hear.
import { createServer } from 'node:http';
import { WebSocketServer } from 'ws';

const port = Number(process.env.PORT ?? 4314);
const page = `<!doctype html><title>Radio · Highmoor</title>
<style>body{font:18px/1.5 system-ui,sans-serif;background:#eef3ef;color:#20302a;max-width:640px;margin:8vh auto;padding:0 24px}input{font:inherit}</style>
<h1>Wardens' radio</h1><form><input aria-label="Say" autofocus><button>Say</button></form><ul id="heard"></ul>
<script>
const socket = new WebSocket('wss://' + location.host + '/');
socket.onmessage = ({ data }) => {
  const item = document.createElement('li');
  item.textContent = data;
  document.getElementById('heard').prepend(item);
};
document.forms[0].onsubmit = (event) => {
  event.preventDefault();
  socket.send(event.target[0].value);
  event.target.reset();
};
</script>
`;

const server = createServer((request, response) => {
  response.setHeader('content-type', 'text/html; charset=utf-8');
  response.end(page);
});
const sockets = new WebSocketServer({ server });
sockets.on('connection', (socket) => {
  socket.send('Ravenstone here, we hear you.');
  socket.on('message', (data) => {
    for (const client of sockets.clients) client.send(data.toString());
  });
});
server.listen(port, '127.0.0.1', () => console.log(`radio on ${port}`));
