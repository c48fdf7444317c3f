"""Small apps, each on a framework of PyPI: `python frameworks.py NAME PORT [FOLDER]`."""

import sys
from pathlib import Path

name, port = sys.argv[1], int(sys.argv[2])
HOST = "127.0.0.1"
PAGE = f"<!doctype html><title>{name}</title>"


def flask():
    """Takes uploads, and knows the public URL from what the proxy says of it."""
    from flask import Flask, request, url_for
    from werkzeug.middleware.proxy_fix import ProxyFix

    app = Flask(name)
    app.wsgi_app = ProxyFix(app.wsgi_app, x_proto=1, x_host=1)

    @app.route("/", methods=["GET", "POST"])
    def home():
        if request.method == "POST":
            return f"{len(request.files['plan'].read())} bytes, see {url_for('home', _external=True)}"
        return PAGE + '<form method="post" enctype="multipart/form-data"><input type="file" name="plan"></form>'

    app.run(HOST, port)


def fastapi():
    """Has its own documentation pages, and a WebSocket."""
    import uvicorn
    from fastapi import FastAPI, WebSocket
    from fastapi.responses import RedirectResponse

    app = FastAPI(title=name)

    @app.get("/")
    def home():
        return RedirectResponse("/docs")

    @app.websocket("/feed")
    async def feed(socket: WebSocket):
        await socket.accept()
        await socket.send_text("hello")
        await socket.close()

    uvicorn.run(app, host=HOST, port=port, log_level="warning")


def aiohttp():
    """Streams its page in chunks."""
    from aiohttp import web

    async def home(request):
        response = web.StreamResponse(headers={"content-type": "text/html"})
        await response.prepare(request)
        await response.write(PAGE.encode())
        for number in range(50):
            await response.write(f"<p>{number}</p>".encode())
        return response

    app = web.Application()
    app.router.add_get("/", home)
    web.run_app(app, host=HOST, port=port, print=None)


def tornado():
    """Signs people in, with a cookie that is signed."""
    from tornado import ioloop, web

    class Home(web.RequestHandler):
        def get_current_user(self):
            return self.get_signed_cookie("user")

        @web.authenticated
        def get(self):
            self.write(PAGE)

    class SignIn(web.RequestHandler):
        def get(self):
            self.write(PAGE + '<form method="post">' + self.xsrf_form_html() + "</form>")

        def post(self):
            self.set_signed_cookie("user", "rowan")
            self.redirect("/")

    settings = {"cookie_secret": "made up", "login_url": "/sign-in", "xsrf_cookies": True}
    web.Application([("/", Home), ("/sign-in", SignIn)], **settings).listen(port, HOST)
    ioloop.IOLoop.current().start()


def bottle():
    """Answers with JSON, by HTTP/1.0."""
    import bottle

    @bottle.route("/")
    def home():
        return {"hut": "Ravenstone"}

    bottle.run(host=HOST, port=port, quiet=True)


def mkdocs():
    """Its pages reload by a long poll."""
    from mkdocs.commands.serve import serve

    folder = Path(sys.argv[3])
    (folder / "docs").mkdir(parents=True)
    (folder / "docs/index.md").write_text("# Huts\n")
    (folder / "mkdocs.yml").write_text(f"site_name: {name}\ndev_addr: {HOST}:{port}\n")
    serve(str(folder / "mkdocs.yml"))


globals()[name]()
