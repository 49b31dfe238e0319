"""Instruments that mean harm, or are badly made: small servers, each with one vice."""

from __future__ import annotations

import base64
import itertools
import json
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from multiprocessing import get_context
from multiprocessing.connection import Connection

from zipplumb.devices.protocol import encode

HELLO = {"t": "hello", "protocol": 2, "session": "s", "kind": "arm", "model": "m", "serial": "1", "rate_hz": 100}
POSE = {"t": "pose", "n": 1, "at": 1.7e9, "p": [1.0, 2.0, 3.0], "q": [1.0, 0.0, 0.0, 0.0]}
PRESS = {**POSE, "t": "button", "e": 1, "name": "take", "down": True}
RANGE = {"t": "pose", "n": 1, "at": 1.7e9, "r": 1000.0, "az": 0.1, "el": 0.1}
NAN_AWAY = struct.pack("<3f", 1.0, float("nan"), 0.5)
numbers = itertools.count(1)
SPAWN = get_context("spawn")


def poses() -> Iterator[dict]:
    while True:
        n = next(numbers)
        yield {**POSE, "n": n, "at": time.time()}


def raw(message: dict, **instead: str) -> bytes:
    """A message in which some values are written as they stand here, also where JSON has no such thing."""
    fields = {k: json.dumps(v) for k, v in message.items()} | instead
    return ("{" + ",".join(f'"{k}":{v}' for k, v in fields.items()) + "}").encode()


# what stands between good poses: named, refused, and the stream goes on
LINES: dict[str, bytes] = {
    "n below zero": raw(POSE, n="-1"),
    "n a fraction": raw(POSE, n="1.5"),
    "n a word": raw(POSE, n='"1"'),
    "n null": raw(POSE, n="null"),
    "n true": raw(POSE, n="true"),
    "n 1e400": raw(POSE, n="1e400"),
    "n of 400 digits": raw(POSE, n="9" * 400),
    "no n": b'{"t":"pose","at":1,"p":[0,0,0],"q":[1,0,0,0]}',
    "time in ms": raw(POSE, at="1.7e12"),
    "time below zero": raw(POSE, at="-1"),
    "time a word": raw(POSE, at='"now"'),
    "two coordinates": raw(POSE, p="[1,2]"),
    "four coordinates": raw(POSE, p="[1,2,3,4]"),
    "place NaN": raw(POSE, p="[NaN,0,0]"),
    "place Infinity": raw(POSE, p="[0,-Infinity,0]"),
    "place 1e300": raw(POSE, p="[0,0,1e300]"),
    "place of words": raw(POSE, p='["1","2","3"]'),
    "place in a place": raw(POSE, p="[[1],[2],[3]]"),
    "place null": raw(POSE, p="null"),
    "no turn": raw(POSE, q="[0,0,0,0]"),
    "turn of 2": raw(POSE, q="[2,0,0,0]"),
    "turn of three": raw(POSE, q="[1,0,0]"),
    "range 0": raw(RANGE, r="0"),
    "range below 0": raw(RANGE, r="-5"),
    "range alone": raw({k: RANGE[k] for k in ("t", "n", "at", "r")}),
    "elevation of 3": raw(RANGE, el="3"),
    "face 3": raw(RANGE, face="3"),
    "kind unknown": b'{"t":"toast"}',
    "kind a number": b'{"t":5}',
    "no kind": b"{}",
    "a list": b"[1,2,3]",
    "a string": b'"pose"',
    "a number": b"17",
    "null": b"null",
    "nothing": b"",
    "no JSON": b"take take take",
    "half a message": raw(POSE)[:40],
    "two in a line": raw(POSE) + raw(POSE),
    "no UTF-8": b'{"t":"event","what":"\xff\xfe"}',
    "UTF-16": '{"t":"pose"}'.encode("utf-16"),
    "brackets": b"[" * 100_000,
    "deep": b'{"t":' * 5000,
    "zero bytes": b"\x00" * 200,
    "up of nothing": b'{"t":"level","up":[0,0,0],"u_rad":0}',
    "u below zero": b'{"t":"level","up":[0,0,1],"u_rad":-1}',
    "too hot": b'{"t":"state","temperature_c":1e9}',
    "a word for heat": b'{"t":"state","temperature_c":"warm"}',
    "no pressure": b'{"t":"state","pressure_hpa":-1}',
    "target asleep": b'{"t":"target","state":"asleep"}',
    "event unknown": b'{"t":"event","what":"boom"}',
    "button unknown": raw(PRESS, name='"fire"'),
    "press without number": raw({k: v for k, v in PRESS.items() if k != "e"}),
    "press -1": raw(PRESS, e="-1"),
    "press 2^63": raw(PRESS, e=str(2**63)),
    "down false by word": raw(PRESS, down='"false"'),
    "5,000 points": raw({**POSE, "t": "stripe"}, points=json.dumps([[0, 90]] * 5000)),
    "points NaN": raw({**POSE, "t": "stripe"}, points="[[NaN,90]]"),
    "packed of nothing": raw({**POSE, "t": "stripe"}, packed='"AAAA"'),
    "packed NaN": raw({**POSE, "t": "stripe"}, packed=f'"{base64.b64encode(NAN_AWAY).decode()}"'),
    "packed of 5,000": raw({**POSE, "t": "stripe"}, packed=f'"{base64.b64encode(bytes(12 * 5000)).decode()}"'),
    "points of three": raw({**POSE, "t": "stripe"}, points="[[1,2,3]]"),
}
NOT_FITTING = "not fit|no message|unknown kind|not a number"


# greetings that are none: nothing is kept, and it is lost with the reason, which stays
GREETINGS: dict[str, tuple[bytes, str]] = {
    "kind toaster": (raw(HELLO, kind='"toaster"'), "hello does not fit in “kind”"),
    "another kind": (raw(HELLO, kind='"tracker"'), "another kind"),
    "protocol 99": (raw(HELLO, protocol="99"), "version 99"),
    "protocol a word": (raw(HELLO, protocol='"2"'), "hello does not fit in “protocol”"),
    "session empty": (raw(HELLO, session='""'), "hello does not fit in “session”"),
    "session with NUL": (raw(HELLO, session='"a\\u0000"'), "hello does not fit in “session”"),
    "session of 41": (raw(HELLO, session=json.dumps("x" * 41)), "hello does not fit in “session”"),
    "rate 0": (raw(HELLO, rate_hz="0"), "hello does not fit in “rate_hz”"),
    "-1 axes": (raw(HELLO, axes="-1"), "hello does not fit in “axes”"),
    "model of 5,000": (raw(HELLO, model=json.dumps("m" * 5000)), "hello does not fit in “model”"),
    "no greeting": (raw(POSE), "who it is"),
}


def says(line: bytes) -> Callable[[socket.socket], None]:
    def talk(link: socket.socket) -> None:
        link.sendall(encode(**HELLO))
        for pose in poses():
            link.sendall(encode(**pose) + line + b"\n")
            time.sleep(0.05)

    return talk


def greets(line: bytes) -> Callable[[socket.socket], None]:
    def talk(link: socket.socket) -> None:
        link.sendall(line + b"\n")
        for pose in poses():
            link.sendall(encode(**pose))
            time.sleep(0.05)

    return talk


def says_nothing(link):
    time.sleep(60)


def hangs_up(link): ...


def resets(link):
    link.sendall(encode(**HELLO) + encode(**POSE))
    link.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))


def goes_silent(link):
    link.sendall(encode(**HELLO))
    for pose in itertools.islice(poses(), 20):
        link.sendall(encode(**pose))
        time.sleep(0.05)
    time.sleep(60)


def stops_in_a_line(link):
    link.sendall(encode(**HELLO) + encode(**POSE)[:30])
    time.sleep(60)


def drips(link):
    link.sendall(encode(**HELLO))
    for byte in itertools.cycle(b'{"t":"pose",'):
        link.sendall(bytes([byte]))
        time.sleep(0.2)


def never_ends_its_line(link):
    link.sendall(encode(**HELLO))
    while True:
        link.sendall(b"x" * 65536)


def floods_with_nonsense(link):
    link.sendall(encode(**HELLO))
    while True:
        link.sendall(b"nonsense\n" * 500)
        time.sleep(0.02)


def floods_with_poses(link):
    link.sendall(encode(**HELLO))
    while True:
        link.sendall(b"".join(encode(**pose) for pose in itertools.islice(poses(), 40)))
        time.sleep(0.02)


def presses_and_never_listens(link):
    link.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 2048)
    link.sendall(encode(**HELLO))
    for pose in poses():
        link.sendall(encode(**{**PRESS, **pose, "t": "button", "e": pose["n"]}))
        time.sleep(0.02)


def presses_the_same_for_ever(link):
    link.sendall(encode(**HELLO))
    while True:
        link.sendall(encode(**PRESS))
        time.sleep(0.02)


def counts_backwards(link):
    link.sendall(encode(**HELLO))
    for n in range(10_000_000, 0, -1):
        link.sendall(encode(**{**POSE, "n": n, "at": float(n)}))
        time.sleep(0.02)


def greets_anew_at_every_breath(link):
    for k, pose in enumerate(poses()):
        link.sendall(encode(**{**HELLO, "session": f"s{k}"}) + encode(**pose))
        time.sleep(0.1)


LOST, THERE, EITHER = "▲ lost", "● connected", "lost|connected"
WAYS: dict[str, tuple[Callable[[socket.socket], None], str, str]] = {
    "says nothing": (says_nothing, LOST, "silent"),
    "hangs up": (hangs_up, LOST, "ended the connection"),
    "resets": (resets, EITHER, "reached|ended|silent"),
    "goes silent": (goes_silent, EITHER, "silent"),
    "stops in a line": (stops_in_a_line, EITHER, "silent"),
    "drips": (drips, EITHER, ""),
    "never ends its line": (never_ends_its_line, EITHER, "without an end"),
    "floods with nonsense": (floods_with_nonsense, EITHER, "nothing but faults"),
    "floods with poses": (floods_with_poses, THERE, ""),
    "presses and never listens": (presses_and_never_listens, EITHER, ""),
    "presses the same for ever": (presses_the_same_for_ever, THERE, ""),
    "counts backwards": (counts_backwards, THERE, ""),
    "greets anew at every breath": (greets_anew_at_every_breath, EITHER, ""),
}


@dataclass(frozen=True)
class Vice:
    """What an instrument does, and what its line on the page of instruments is to show."""

    name: str
    talk: Callable[[socket.socket], None]
    state: str
    words: str


VICES = [
    *(Vice(name, says(line), THERE, NOT_FITTING) for name, line in LINES.items()),
    *(Vice(name, greets(line), LOST, words) for name, (line, words) in GREETINGS.items()),
    *(Vice(name, *way) for name, way in WAYS.items()),
]


class Hostile:
    """Some of them, listening, in a process of their own: they are to slow nobody by sharing an interpreter.

    ``ports``: of each, by its name.
    """

    def __init__(self, vices: Iterable[Vice]):
        here, there = SPAWN.Pipe()
        self.process = SPAWN.Process(target=_listen, args=([vice.name for vice in vices], there), daemon=True)
        self.process.start()
        self.ports: dict[str, int] = here.recv()

    def close(self) -> None:
        self.process.kill()
        self.process.join()


def _listen(names: list[str], ports: Connection) -> None:
    vices = {vice.name: vice for vice in VICES}
    servers = {name: socket.create_server(("127.0.0.1", 0)) for name in names}
    for name, server in servers.items():
        threading.Thread(target=_serve, args=(server, vices[name]), daemon=True).start()
    ports.send({name: server.getsockname()[1] for name, server in servers.items()})
    threading.Event().wait()


def _serve(server: socket.socket, vice: Vice) -> None:
    while True:
        link, _ = server.accept()
        threading.Thread(target=_talk, args=(link, vice), daemon=True).start()


def _talk(link: socket.socket, vice: Vice) -> None:
    with suppress(OSError), link:
        vice.talk(link)
