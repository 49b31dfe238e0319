"""The web server: pages from Flask in a few threads, live events from one loop that spends no thread on an open page.

A request reaches Flask only once it is here whole, so that one that is sent slowly holds no thread either.
A page's route answers who may listen to what (see web/live); the loop then does the listening.
"""

from __future__ import annotations

import asyncio
import gc
import io
import socket
import sys
import tempfile
from collections.abc import Awaitable, Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from threading import Thread
from typing import IO, Any

import uvicorn
from a2wsgi.wsgi import build_environ
from werkzeug.datastructures import Headers
from werkzeug.wrappers import Response

from ..core import kernels
from ..web.answers import LISTEN, OF_SESSION
from ..web.app import create_app
from ..web.live.hub import Hub
from ..web.sizes import FORM_BYTES, UNKEPT, most_bytes

THREADS = 12
QUIET_S, WHOLE_S = 15.0, 600.0  # between two pieces of a request, and for all of it
CONNECTIONS = 2000
HEARD_OUT = 256 * 1024 * 1024  # of what is too large
SWITCH_S = 0.001
RARELY = (50_000, 20, 200)  # a look through a large job's objects for what is unreachable takes half a second
Scope = dict[str, Any]


class Server:
    """The ASGI application."""

    def __init__(self):
        flask = create_app()
        self.hub: Hub = flask.extensions["hub"]
        self.flask, self.pages = flask, flask.wsgi_app
        self.threads = ThreadPoolExecutor(THREADS)

    async def __call__(self, scope: Scope, receive, send) -> None:
        if scope["type"] == "lifespan":
            await _lifespan(receive, send)
        elif scope["type"] == "http":
            await self._answer(scope, receive, send)

    async def _answer(self, scope: Scope, receive, send) -> None:
        loop = asyncio.get_running_loop()
        with tempfile.SpooledTemporaryFile(max_size=FORM_BYTES) as body:
            try:
                async with asyncio.timeout(WHOLE_S):
                    size = await _read(receive, body, partial(loop.run_in_executor, self.threads, self._most, scope))
            except (TimeoutError, ConnectionError):
                return
            except OSError as error:
                scope[UNKEPT], size = error, 0
            # one way to a thread and one way back: every further one waits for the interpreter's lock
            status, headers, page = await loop.run_in_executor(self.threads, self._page, scope, body, size)
        if listens_to := headers.get(LISTEN):
            await self._listen(listens_to, headers.get(OF_SESSION, ""), receive, send)
            return
        told = [(name.lower().encode("latin-1"), value.encode("latin-1")) for name, value in headers.items()]
        await send({"type": "http.response.start", "status": status, "headers": told})
        await send({"type": "http.response.body", "body": page})

    def _most(self, scope: Scope) -> int:
        """How much the route of a request takes from whoever asks."""
        with self.flask.request_context(build_environ(scope, io.BytesIO())):  # type: ignore[arg-type]
            return most_bytes()

    def _page(self, scope: Scope, body: IO[bytes], size: int) -> tuple[int, Headers, bytes]:
        asked = {**build_environ(scope, body), "CONTENT_LENGTH": str(size)}  # type: ignore[arg-type]
        asked.pop("HTTP_TRANSFER_ENCODING", None)  # it is whole by now
        asked[UNKEPT] = scope.get(UNKEPT)
        answer = Response.from_app(self.pages, asked)
        try:
            return answer.status_code, answer.headers, answer.get_data()
        finally:
            answer.close()

    async def _listen(self, to: str, of_session: str, receive, send) -> None:
        headers = [(b"content-type", b"text/event-stream"), (b"cache-control", b"no-store"), (b"x-accel-buffering", b"no")]
        await send({"type": "http.response.start", "status": 200, "headers": headers})

        async def write(event: bytes) -> None:
            await send({"type": "http.response.body", "body": event, "more_body": True})

        listening = asyncio.create_task(self.hub.listen(to, write, of_session))
        gone = asyncio.create_task(_until_gone(receive))
        await asyncio.wait((listening, gone), return_when=asyncio.FIRST_COMPLETED)
        if listening.done() and listening.exception() is None:  # its session has ended
            await send({"type": "http.response.body", "body": b""})
        for task in (listening, gone):
            task.cancel()
        await asyncio.gather(listening, gone, return_exceptions=True)


async def _lifespan(receive, send) -> None:
    while True:
        word = (await receive())["type"].removeprefix("lifespan.")
        await send({"type": f"lifespan.{word}.complete"})
        if word == "startup":  # whoever comes first does not wait for it
            Thread(target=kernels.load, name="loading the loops over points", daemon=True).start()
        if word == "shutdown":
            return


async def _read(receive, body: IO[bytes], most_here: Callable[[], Awaitable[int]]) -> int:
    """Keep the request's body where it is no larger than it may be. Returns its length.

    ``most_here`` is asked where it is larger than a form. Of what is larger than that nothing more is kept; so much of it is
    read that whoever sends it hears the answer. Raises TimeoutError where it is not sent on, ConnectionError where its sender
    is gone, OSError where it cannot be kept.
    """
    size, most, known = 0, FORM_BYTES, False
    while True:
        async with asyncio.timeout(QUIET_S):
            message = await receive()
        if message["type"] == "http.disconnect":
            raise ConnectionError
        size += len(message.get("body", b""))
        if size > most and not known:
            most, known = await most_here(), True
        if size <= most:
            body.write(message.get("body", b""))
        if not message.get("more_body") or size > most + HEARD_OUT:
            body.seek(0)
            return size


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
