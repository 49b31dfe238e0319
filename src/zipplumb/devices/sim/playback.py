"""A session written down, and played back as if the instrument were there. The file is the protocol itself, line by line."""

from __future__ import annotations

import asyncio
import json
import socket
import time
import uuid
from contextlib import suppress
from pathlib import Path

from ...core.errors import DeviceError, FileError
from ..protocol import Hello, LevelMessage, State, TargetMessage, decode, encode


def record(host: str, port: int, path: Path, seconds: float) -> int:
    """Write what an instrument says to a file until it ends or the time is over; how many lines."""
    lines, end = 0, time.monotonic() + seconds
    with socket.create_connection((host, port), timeout=2) as link, path.open("wb") as file, suppress(TimeoutError):
        for line in link.makefile("rb"):
            file.write(line)
            lines += 1
            if time.monotonic() > end:
                break
    return 0 if lines else 1


def session_of(path: Path) -> list[bytes]:
    """The lines of a recorded session. Raises FileError for one that does not begin with a hello."""
    lines = [line + b"\n" for line in path.read_bytes().splitlines() if line.strip()]
    try:
        if isinstance(decode(lines[0]), Hello):
            return lines
    except (DeviceError, IndexError):
        pass
    raise FileError(f"{path.name} is no recorded session.", "Nothing was played.", "Record one with zip-plumb record.")


async def play(path: Path, port: int, pace: float = 1.0) -> None:
    """Serve a recorded session to every link that comes, at its own times; unanswered presses are not sent again."""
    hello, *rest = session_of(path)
    lines = [encode(**{**json.loads(hello), "session": uuid.uuid4().hex}), *rest]  # what it sends is new, not sent again

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        began, first = time.monotonic(), None
        try:
            for line in lines:
                if not isinstance(decode(line), Hello | State | LevelMessage | TargetMessage) and (
                    at := json.loads(line).get("at")
                ):
                    first = at if first is None else first
                    await asyncio.sleep(max(0.0, (at - first) / pace - (time.monotonic() - began)))
                writer.write(line)
                await writer.drain()
        except ConnectionError:
            pass
        finally:
            writer.close()

    server = await asyncio.start_server(serve, "127.0.0.1", port)
    await server.serve_forever()
