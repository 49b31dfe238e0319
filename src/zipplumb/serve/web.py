"""The web server: pages from Flask in a few threads, live events from one loop that spends no thread on an open page.

A request reaches Flask only once it is here whole, so that one that is sent slowly holds no thread either.
A page's route answers who may listen to what (see web/live); the loop then does the listening.
"""

from __future__ import annotations

import asyncio
import gc
import socket
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor
from typing import IO, Any

import uvicorn
from a2wsgi.wsgi import build_environ
from werkzeug.datastructures import Headers
from werkzeug.wrappers import Response

from ..jobs.plan.parts import LARGEST_MB
from ..web.answers import LISTEN
from ..web.app import create_app
from ..web.live.hub import Hub

THREADS = 12
IN_MEMORY, LARGEST = 1_000_000, LARGEST_MB * 1024 * 1024 + 65536
QUIET_S, WHOLE_S = 15.0, 600.0  # between two pieces of a request, and for all of it
CONNECTIONS = 2000
SWITCH_S = 0.001
RARELY = (50_000, 20, 200)  # a look through a large job's objects for what is unreachable takes half a second
Scope = dict[str, Any]


class Server:
    """The ASGI application."""

    def __init__(self):
        flask = create_app()
        self.hub: Hub = flask.extensions["hub"]
        self.pages = flask.wsgi_app
        self.threads = ThreadPoolExecutor(THREADS)

    async def __call__(self, scope: Scope, receive, send) -> None:
        if scope["type"] == "lifespan":
            await _lifespan(receive, send)
        elif scope["type"] == "http":
            await self._answer(scope, receive, send)

    async def _answer(self, scope: Scope, receive, send) -> None:
        with tempfile.SpooledTemporaryFile(max_size=IN_MEMORY) as body:
            try:
                async with asyncio.timeout(WHOLE_S):
                    await _read(receive, body)
            except (TimeoutError, ConnectionError):
                return
            # one way to a thread and one way back: every further one waits for the interpreter's lock
            loop = asyncio.get_running_loop()
            status, headers, page = await loop.run_in_executor(self.threads, self._page, scope, body)
        if listens_to := headers.get(LISTEN):
            await self._listen(listens_to, receive, send)
            return
        told = [(name.lower().encode("latin-1"), value.encode("latin-1")) for name, value in headers.items()]
        await send({"type": "http.response.start", "status": status, "headers": told})
        await send({"type": "http.response.body", "body": page})

    def _page(self, scope: Scope, body: IO[bytes]) -> tuple[int, Headers, bytes]:
        answer = Response.from_app(self.pages, build_environ(scope, body))  # type: ignore[arg-type]
        try:
            return answer.status_code, answer.headers, answer.get_data()
        finally:
            answer.close()

    async def _listen(self, to: str, receive, send) -> None:
        headers = [(b"content-type", b"text/event-stream"), (b"cache-control", b"no-store"), (b"x-accel-buffering", b"no")]
        await send({"type": "http.response.start", "status": 200, "headers": headers})

        async def write(event: bytes) -> None:
            await send({"type": "http.response.body", "body": event, "more_body": True})

        listening = asyncio.create_task(self.hub.listen(to, write))
        gone = asyncio.create_task(_until_gone(receive))
        await asyncio.wait((listening, gone), return_when=asyncio.FIRST_COMPLETED)
        for task in (listening, gone):
            task.cancel()
        await asyncio.gather(listening, gone, return_exceptions=True)


async def _lifespan(receive, send) -> None:
    while True:
        word = (await receive())["type"].removeprefix("lifespan.")
        await send({"type": f"lifespan.{word}.complete"})
        if word == "shutdown":
            return


async def _read(receive, body: IO[bytes]) -> None:
    """The request's body, whole. Raises TimeoutError where it is not sent on, ConnectionError where its sender is gone."""
    size = 0
    while True:
        async with asyncio.timeout(QUIET_S):
            message = await receive()
        if message["type"] == "http.disconnect":
            raise ConnectionError
        size += len(message.get("body", b""))
        if size <= LARGEST:  # what is beyond is told by Flask, from the length that was announced
            body.write(message.get("body", b""))
        if not message.get("more_body"):
            body.seek(0)
            return


async def _until_gone(receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass


def bound(host: str, port: int) -> socket.socket:
    """A listening socket, to be shared by the web processes."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    listening = socket.socket(family, socket.SOCK_STREAM)
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listening.bind((host, port))
    listening.listen(512)
    listening.set_inheritable(True)
    return listening


def serve(listening: socket.socket) -> None:
    """One web process, until it is told to stop."""
    sys.setswitchinterval(SWITCH_S)  # events are not to wait for a page that is worked out
    server = Server()
    gc.freeze()
    gc.set_threshold(*RARELY)
    config = uvicorn.Config(
        server, log_level="warning", access_log=False, lifespan="on", limit_concurrency=CONNECTIONS,
        timeout_graceful_shutdown=1, proxy_headers=True, server_header=False,
    )  # fmt: skip
    uvicorn.Server(config).run(sockets=[listening])
