"""An app for tests: it listens on PORT unless told otherwise, and says who it is.

    python3 any_app.py [--at ADDRESS] [--port PORT] [--after SECONDS] [--starts FILE] [--deaf] [--log FILE]

`/end/N` ends it with the code N, `/stream` sends events without end, `/env/NAME` shows a variable.
"""

import argparse
import os
import signal
import socket
import sys
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

words = argparse.ArgumentParser()
words.add_argument("--at", default="127.0.0.1")
words.add_argument("--port", type=int, default=int(os.environ.get("PORT", "0")))
words.add_argument("--after", type=float, default=0)
words.add_argument("--starts")
words.add_argument("--deaf", action="store_true")
words.add_argument("--log")
given = words.parse_args()

if given.starts:
    with open(given.starts, "a") as file:
        file.write(f"{os.getpid()}\n")
if given.deaf:
    signal.signal(signal.SIGTERM, signal.SIG_IGN)
print("\x1b[32mgoing to listen\x1b[0m on", given.port, flush=True)
print("a warning", file=sys.stderr, flush=True)
time.sleep(given.after)


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_GET(self):
        if self.path.startswith("/end/"):
            code = int(self.path[5:])
            print("Traceback: no hut is open", flush=True)
            os._exit(code)
        if self.path == "/stream":
            self.send_response(200)
            self.send_header("content-type", "text/event-stream")
            self.send_header("connection", "close")
            self.end_headers()
            while True:
                self.wfile.write(b"data: x\n\n")
                self.wfile.flush()
                time.sleep(0.1)
        body = f"<title>Huts</title><h1>app {os.getpid()}</h1>"
        if self.path.startswith("/env/"):
            body = os.environ.get(self.path[5:], "not set")
        body = body.encode()
        self.send_response(200)
        self.send_header("content-type", "text/html")
        self.send_header("content-length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, *parts):
        if given.log:
            with open(given.log, "a") as file:
                file.write(f"asked for {self.path}\n")


class Server(ThreadingHTTPServer):
    address_family = socket.AF_INET6 if ":" in given.at else socket.AF_INET
    daemon_threads = True
    request_queue_size = 128


Server((given.at, given.port), Handler).serve_forever()
