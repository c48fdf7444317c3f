// Small apps, each on a framework or tool of npm: `node frameworks.js NAME PORT [FOLDER]`.
import { mkdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";

const [, , name, port, folder] = process.argv;
const at = { host: "127.0.0.1", port: Number(port) };
const page = (body) => `<!doctype html><title>${name}</title>${body}`;

const apps = {
  // Sends people without a session to its sign-in form.
  async fastify() {
    const { default: fastify } = await import("fastify");
    const { default: cookie } = await import("@fastify/cookie");
    const { default: formbody } = await import("@fastify/formbody");
    const app = fastify({ trustProxy: "127.0.0.1" });
    app.register(cookie);
    app.register(formbody);
    app.get("/", (request, reply) => {
      if (!request.cookies.session) return reply.redirect("/sign-in");
      return reply.type("text/html").send(page(`signed in at ${request.protocol}://${request.host}`));
    });
    app.get("/sign-in", (_, reply) =>
      reply.type("text/html").send(page('<form method="post"><input name="user"></form>')));
    app.post("/sign-in", (request, reply) => {
      reply.setCookie("session", request.body.user, { path: "/", httpOnly: true, secure: true });
      return reply.redirect("/", 303);
    });
    await app.listen(at);
  },

  // Compresses, and redirects to the public origin.
  async koa() {
    const { default: Koa } = await import("koa");
    const { createGzip } = await import("node:zlib");
    const app = new Koa({ proxy: true });
    app.use((context) => {
      if (context.path === "/old") return context.redirect(`${context.origin}/`);
      context.type = "html";
      context.set("content-encoding", "gzip");
      const gzip = createGzip();
      gzip.end(page("<p>koa</p>".repeat(500)));
      context.body = gzip;
    });
    app.listen(at.port, at.host);
  },

  // Tells clients of its WebSocket where it is by the public host.
  async hapi() {
    const { default: Hapi } = await import("@hapi/hapi");
    const { WebSocketServer } = await import("ws");
    const server = Hapi.server({ ...at, address: at.host });
    server.route({
      method: "GET",
      path: "/",
      handler: (request) => page(`<script>new WebSocket("wss://${request.info.host}/feed")</script>`),
    });
    await server.start();
    new WebSocketServer({ server: server.listener, path: "/feed" })
      .on("connection", (socket) => socket.send("hello"));
  },

  // Its client reloads over a WebSocket at the page's own origin.
  async webpack() {
    const { default: webpack } = await import("webpack");
    const { default: Server } = await import("webpack-dev-server");
    write({ "main.js": 'document.title = "webpack";', "public/index.html": page('<script src="/main.js"></script>') });
    const compiler = webpack({
      mode: "development",
      context: folder,
      entry: "./main.js",
      output: { path: join(folder, "dist"), filename: "main.js" },
      infrastructureLogging: { level: "error" },
    });
    await new Server({
      ...at,
      allowedHosts: [".moor.test"],
      client: { webSocketURL: "auto://0.0.0.0:0/ws" },
      static: join(folder, "public"),
    }, compiler).start();
  },

  // Its page reloads over an event stream.
  async esbuild() {
    const esbuild = await import("esbuild");
    write({
      "main.js": 'new EventSource("/esbuild").addEventListener("change", () => location.reload());',
      "public/index.html": page('<script src="/main.js"></script>'),
    });
    const context = await esbuild.context({
      entryPoints: [join(folder, "main.js")],
      outdir: join(folder, "public"),
      bundle: true,
    });
    await context.watch();
    await context.serve({ ...at, servedir: join(folder, "public") });
  },

  // GraphQL over POST.
  async graphql() {
    const { createServer } = await import("node:http");
    const { createSchema, createYoga } = await import("graphql-yoga");
    const yoga = createYoga({
      landingPage: false,
      schema: createSchema({
        typeDefs: "type Query { hut: String }",
        resolvers: { Query: { hut: () => "Ravenstone" } },
      }),
    });
    createServer(yoga).listen(at.port, at.host);
  },
};

function write(files) {
  for (const [file, text] of Object.entries(files)) {
    mkdirSync(join(folder, file, ".."), { recursive: true });
    writeFileSync(join(folder, file), text);
  }
}

await apps[name]();
