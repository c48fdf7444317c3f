// An Express app with a stream of events and a cookie that has to be secure.
import express from "express";

const app = express();
app.set("trust proxy", "loopback");
app.get("/", (request, response) => {
  response.cookie("session", "1", { secure: true, httpOnly: true, domain: request.hostname });
  response.json({ origin: `${request.protocol}://${request.headers.host}`, secure: request.secure });
});
app.get("/login", (request, response) => response.redirect(`${request.protocol}://${request.host}/`));
app.get("/events", (request, response) => {
  response.set("content-type", "text/event-stream");
  let count = 0;
  const timer = setInterval(() => response.write(`data: ${count++}\n\n`), 100);
  request.on("close", () => clearInterval(timer));
});
app.listen(Number(process.argv[2]), "127.0.0.1", () => console.log("listening"));
