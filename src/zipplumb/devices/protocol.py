"""The instrument protocol, version 1: JSON lines over TCP. docs/instrument-protocol.md says it in words."""

from __future__ import annotations

import json
import math
from dataclasses import dataclass
from typing import Any, Literal

from ..core.errors import DeviceError

VERSION = 1
BUTTONS = ("take", "finish", "undo", "undo_sweep", "next", "back")
Button = Literal["take", "finish", "undo", "undo_sweep", "next", "back"]


@dataclass(frozen=True)
class Hello:
    """Who the instrument is. ``session`` is new whenever it is switched on."""

    session: str
    kind: str
    model: str
    serial: str
    rate_hz: float


@dataclass(frozen=True)
class Pose:
    """Sample ``n`` of a session: time (s since 1970) and the last axis: x, y, z mm, quaternion w, x, y, z."""

    n: int
    at: float
    values: tuple[float, ...]


@dataclass(frozen=True)
class Press:
    """A button pressed (or let go), with the pose at that moment; sent again until it is done."""

    number: int
    button: Button
    down: bool
    pose: Pose


@dataclass(frozen=True)
class State:
    temperature_c: float | None


def encode(**message: Any) -> bytes:
    return (json.dumps(message, separators=(",", ":")) + "\n").encode()


def decode(line: bytes) -> Hello | Pose | Press | State:
    """One message. Raises DeviceError for anything that is not one, NaN and infinity included."""
    try:
        raw = json.loads(line)
        kind = raw["t"]
        if kind == "hello":
            return _hello(raw)
        if kind == "pose":
            return _pose(raw)
        if kind == "button":
            return _press(raw)
        if kind == "state":
            value = raw.get("temperature_c")
            return State(None if value is None else _number(value))
    except (ValueError, KeyError, TypeError, RecursionError):
        raise _refused("The instrument sent something that is no message.") from None
    raise _refused("The instrument sent a message of an unknown kind.")


def _refused(happened: str) -> DeviceError:
    return DeviceError(happened, "It was not kept; all earlier hits are.", "Take the hit again; look at the cable.")


def _number(value: Any) -> float:
    if isinstance(value, bool) or not math.isfinite(number := float(value)):
        raise _refused("The instrument sent a reading that is not a number.")
    return number


def _hello(raw: dict) -> Hello:
    if raw["protocol"] != VERSION:
        raise DeviceError(
            f"The instrument speaks version {raw['protocol']} of the protocol; this link speaks {VERSION}.",
            "Nothing was changed.",
            "Update the older of the two.",
        )
    return Hello(str(raw["session"])[:40], str(raw["kind"]), str(raw["model"]), str(raw["serial"]), _number(raw["rate_hz"]))


def _pose(raw: dict) -> Pose:
    values = tuple(_number(v) for v in (*raw["p"], *raw["q"]))
    if len(values) != 7 or abs(math.hypot(*values[3:]) - 1) > 1e-3:
        raise _refused("The instrument sent a pose that is no pose.")
    return Pose(int(raw["n"]), _number(raw["at"]), values)


def _press(raw: dict) -> Press:
    if raw["name"] not in BUTTONS:
        raise _refused(f"The instrument has a button “{raw['name']}” that nothing is tied to.")
    return Press(int(raw["e"]), raw["name"], bool(raw["down"]), _pose(raw))
