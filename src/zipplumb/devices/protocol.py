"""The instrument protocol, version 2: JSON lines over TCP. docs/instrument-protocol.md says it in words."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal, cast

from ..core.errors import DeviceError

VERSION = 2
INSTRUMENT_KINDS = ("arm", "tracker", "radar")
TARGETS = ("locked", "lost", "searching")
EVENTS = ("knock", "head_off", "head_on")
BUTTONS = ("take", "finish", "undo", "undo_sweep", "next", "back")
Button = Literal["take", "finish", "undo", "undo_sweep", "next", "back"]


@dataclass(frozen=True)
class Hello:
    """Who the instrument is. ``session`` is new whenever it is switched on; ``axes``: of an arm, 6 or 7."""

    session: str
    kind: str
    model: str
    serial: str
    rate_hz: float
    axes: int = 0


@dataclass(frozen=True)
class Pose:
    """Sample ``n`` of a session: time (s since 1970) and the last axis: x, y, z mm, quaternion w, x, y, z.

    A range and two angles come as the place that they are, upright; ``face`` 1 or 2 is the one
    that they were sighted in.
    """

    n: int
    at: float
    values: tuple[float, ...]
    face: int = 1


@dataclass(frozen=True)
class Press:
    """A button pressed (or let go), with the pose at that moment; sent again until it is done."""

    number: int
    button: Button
    down: bool
    pose: Pose


@dataclass(frozen=True)
class Stripe:
    """A scanner's line: the last axis at that moment, and points (across, away) mm in its plane of light."""

    pose: Pose
    points: tuple[tuple[float, float], ...]


@dataclass(frozen=True)
class State:
    """The weather at the instrument; None where it has no such sensor."""

    temperature_c: float | None
    pressure_hpa: float | None = None
    humidity_percent: float | None = None


@dataclass(frozen=True)
class Level:
    """The way up in the instrument's own frame, with its standard uncertainty (rad)."""

    up: tuple[float, float, float]
    u_rad: float


@dataclass(frozen=True)
class Target:
    """Whether the beam holds its target: locked, lost, searching."""

    state: str


@dataclass(frozen=True)
class Event:
    """Something happened to the instrument: knock, head_off, head_on."""

    what: str


def encode(**message: Any) -> bytes:
    return (json.dumps(message, separators=(",", ":")) + "\n").encode()


Message = Hello | Pose | Press | Stripe | State | Level | Target | Event


def decode(line: bytes) -> Message:
    """One message. Raises DeviceError for anything that is not one, NaN and infinity included."""
    try:
        raw = json.loads(line)
        read = _READERS.get(raw["t"])
        if read is not None:
            return read(raw)
    except (ValueError, KeyError, TypeError, RecursionError):
        raise _refused("The instrument sent something that is no message.") from None
    raise _refused("The instrument sent a message of an unknown kind.")


def _refused(happened: str) -> DeviceError:
    return DeviceError(happened, "It was not kept; all earlier hits are.", "Take the hit again; look at the cable.")


def _number(value: Any) -> float:
    if isinstance(value, bool) or not math.isfinite(number := float(value)):
        raise _refused("The instrument sent a reading that is not a number.")
    return number


def _perhaps(value: Any) -> float | None:
    return None if value is None else _number(value)


def _one_of(value: Any, known: tuple[str, ...], what: str) -> str:
    if value not in known:
        raise _refused(f"The instrument told of {what} “{value}” that nothing is tied to.")
    return value


def _hello(raw: dict) -> Hello:
    if raw["protocol"] != VERSION:
        raise DeviceError(
            f"The instrument speaks version {raw['protocol']} of the protocol; this link speaks {VERSION}.",
            "Nothing was changed.",
            "Update the older of the two.",
        )
    kind, axes = _one_of(raw["kind"], INSTRUMENT_KINDS, "a kind"), int(raw.get("axes", 0))
    names = (str(raw["model"]), str(raw["serial"]))
    return Hello(str(raw["session"])[:40], kind, *names, _number(raw["rate_hz"]), axes)


def _pose(raw: dict) -> Pose:
    if "r" in raw:
        return _sight(raw)
    values = tuple(_number(v) for v in (*raw["p"], *raw["q"]))
    if len(values) != 7 or abs(math.hypot(*values[3:]) - 1) > 1e-3:
        raise _refused("The instrument sent a pose that is no pose.")
    return Pose(int(raw["n"]), _number(raw["at"]), values)


def _sight(raw: dict) -> Pose:
    """Range ``r`` mm, azimuth ``az`` from X toward Y and elevation ``el`` up from the XY plane, rad."""
    far, azimuth, elevation = (_number(raw[k]) for k in ("r", "az", "el"))
    if far <= 0 or abs(elevation) > math.pi / 2 or raw.get("face", 1) not in (1, 2):
        raise _refused("The instrument sent a range and angles that are no place.")
    level = far * math.cos(elevation)
    place = (level * math.cos(azimuth), level * math.sin(azimuth), far * math.sin(elevation))
    return Pose(int(raw["n"]), _number(raw["at"]), (*place, 1.0, 0.0, 0.0, 0.0), raw.get("face", 1))


def _press(raw: dict) -> Press:
    name = cast(Button, _one_of(raw["name"], BUTTONS, "a button"))
    return Press(int(raw["e"]), name, bool(raw["down"]), _pose(raw))


def _stripe(raw: dict) -> Stripe:
    points = tuple((_number(x), _number(z)) for x, z in raw["points"])
    if len(points) > 4096:
        raise _refused("The scanner sent a line of more points than a line can have.")
    return Stripe(_pose(raw), points)


def _level(raw: dict) -> Level:
    x, y, z = (_number(v) for v in raw["up"])
    if abs(math.hypot(x, y, z) - 1) > 1e-3:
        raise _refused("The instrument's level gives no direction.")
    return Level((x, y, z), _number(raw["u_rad"]))


_READERS: dict[str, Callable[[dict], Message]] = {
    "hello": _hello,
    "pose": _pose,
    "button": _press,
    "stripe": _stripe,
    "state": lambda raw: State(*(_perhaps(raw.get(k)) for k in ("temperature_c", "pressure_hpa", "humidity_percent"))),
    "level": _level,
    "target": lambda raw: Target(_one_of(raw["state"], TARGETS, "a target")),
    "event": lambda raw: Event(_one_of(raw["what"], EVENTS, "an event")),
}
