// A socket.io server that repeats what it hears: `node chat.js serve PORT`; and its client, that goes
// through the proxy: `node chat.js talk URL`.
import { createServer } from "node:http";
import { Server } from "socket.io";
import { io } from "socket.io-client";

const [, , role, where] = process.argv;
if (role === "serve") {
  const server = createServer((_, response) => response.end("the chat"));
  new Server(server).on("connection", (socket) => {
    socket.on("say", (words) => socket.emit("heard", words));
  });
  server.listen(Number(where), "127.0.0.1", () => console.log("listening"));
} else {
  const socket = io(where, { reconnection: false });
  socket.on("connect_error", (error) => {
    console.error(error);
    process.exit(1);
  });
  // It begins with polling and then upgrades to WebSocket.
  socket.io.engine.on("upgrade", (transport) => {
    console.log(transport.name);
    socket.emit("say", "hello from the hut");
  });
  socket.on("heard", (words) => {
    console.log(words);
    process.exit(0);
  });
}
