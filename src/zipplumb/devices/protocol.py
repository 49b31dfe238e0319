"""The instrument protocol, version 3: JSON lines over TCP. docs/instrument-protocol.md says it in words."""

from __future__ import annotations

import base64
import json
import math
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, TypeAdapter, ValidationError, field_validator, model_validator

from ..core.errors import DeviceError
from ..core.stripes import POINT_BYTES, Packed, stripe_of_bytes, stripe_of_pairs

VERSION, SPOKEN = 3, (2, 3)
SEE_SURFACES = ("radar",)  # by their beam alone: what they touch is air on their own side
TELL_RANGES = ("tracker", "radar")  # by a range and two angles, not by poses
STRIPE_POINTS = 4096
LINE_BYTES = 512 * 1024  # a longest line: a stripe of that many points has room
Button = Literal["take", "finish", "undo", "undo_sweep", "next", "back", "touch", "way"]


@dataclass(frozen=True)
class PoseMessage:
    """Sample ``n`` of a session: time (s since 1970) and the last axis: x, y, z mm, quaternion w, x, y, z.

    A range and two angles come as the place that they are, upright; ``face`` 1 or 2 is the one
    that they were sighted in; ``ranged``: it came so.
    """

    n: int
    at: float
    values: tuple[float, ...]
    face: int = 1
    ranged: bool = False


@dataclass(frozen=True)
class Press:
    """A button pressed (or let go), with the pose at that moment; sent again until it is done.

    ``look``: the instrument pressed it by itself, for the look of that number.
    """

    number: int
    button: Button
    down: bool
    pose: PoseMessage
    look: int | None = None


@dataclass(frozen=True, eq=False)
class Stripe:
    """A scanner's line of light: the last axis at that moment, and its points (n, 3) as in ``core.stripes``."""

    pose: PoseMessage
    points: Packed


@dataclass(frozen=True)
class Look:
    """A request to an instrument that measures surfaces by itself, in its own frame, mm.

    A patch round ``at`` of ``side_mm``, or where ``to`` is given a line from ``at`` to there; ``points``: about how many.
    """

    at: tuple[float, float, float]
    to: tuple[float, float, float] | None
    side_mm: float
    points: int

    def message(self, number: int) -> bytes:
        shape = {"shape": "patch", "side_mm": self.side_mm} if self.to is None else {"shape": "line", "to": self.to}
        return encode(t="look", o=number, at=self.at, points=self.points, **shape)


def encode(**message: Any) -> bytes:
    return (json.dumps(message, separators=(",", ":")) + "\n").encode()


# ---- the border: what a message must be -------------------------------------------------------

Count = Annotated[int, Field(ge=0, lt=2**53)]
Place = Annotated[float, Field(ge=-1e6, le=1e6)]  # mm: a kilometre
Turn = Annotated[float, Field(ge=-1.001, le=1.001)]
ROUNDED = 0.005  # of the length of a quaternion that is told to two decimals
UPRIGHT = 1.571  # rad: a right angle, as rounded as anybody sends it
Angle = Annotated[float, Field(ge=-100.0, le=100.0)]
PRINTED = r"^[^\x00-\x1f\x7f]*$"
Word = Annotated[str, Field(max_length=80, pattern=PRINTED)]
Seconds = Annotated[float, Field(ge=0.0, lt=1e10)]  # since 1970; a clock in milliseconds is beyond


class _Valid(BaseModel):
    """A message as it comes. Most are used as they are; samples become what stands above."""

    model_config = ConfigDict(strict=True, allow_inf_nan=False, extra="ignore", frozen=True)

    def message(self) -> Any:
        return self


class Hello(_Valid):
    """Who the instrument is. ``session`` is new whenever it is switched on; ``axes``: of an arm, 6 or 7."""

    t: Literal["hello"] = "hello"
    protocol: int
    session: Annotated[Word, Field(min_length=1, max_length=40)]
    kind: Literal["arm", "tracker", "radar"]
    model: Word
    serial: Word
    rate_hz: Annotated[float, Field(gt=0, le=10_000)]
    axes: Annotated[int, Field(ge=0, le=20)] = 0

    def message(self) -> Hello:
        if self.protocol not in SPOKEN:
            spoken = " and ".join(map(str, SPOKEN))
            raise DeviceError(
                f"The instrument speaks version {self.protocol} of the protocol; this link speaks {spoken}.",
                "Nothing was changed.",
                "Update the older of the two.",
            )
        return self


class _Sample(_Valid):
    """The last axis, or a range ``r`` mm, azimuth ``az`` from X toward Y and elevation ``el`` up from the XY plane, rad."""

    n: Count
    at: Seconds
    p: tuple[Place, Place, Place] | None = None
    q: tuple[Turn, Turn, Turn, Turn] | None = None
    r: Annotated[float, Field(gt=0, le=1e6)] | None = None
    az: Angle | None = None
    el: Annotated[float, Field(ge=-UPRIGHT, le=UPRIGHT)] | None = None
    face: Literal[1, 2] = 1

    @model_validator(mode="after")
    def _is_a_place(self):
        if self.r is not None:
            if self.az is None or self.el is None:
                raise ValueError("a range wants both angles")
        elif self.p is None or self.q is None or abs(math.hypot(*self.q) - 1) > ROUNDED:
            raise ValueError("a pose wants a place, and a turn of length 1")
        return self

    def pose(self) -> PoseMessage:
        if self.r is None:
            return PoseMessage(self.n, self.at, (*self.p, *self.q))  # type: ignore[misc]
        azimuth, elevation = self.az or 0.0, self.el or 0.0
        level = self.r * math.cos(elevation)
        place = (level * math.cos(azimuth), level * math.sin(azimuth), self.r * math.sin(elevation))
        return PoseMessage(self.n, self.at, (*place, 1.0, 0.0, 0.0, 0.0), self.face, ranged=True)


class _Pose(_Sample):
    t: Literal["pose"]

    def message(self) -> PoseMessage:
        return self.pose()


class _Press(_Sample):
    t: Literal["button"]
    e: Count
    name: Button
    down: bool
    look: Count | None = None

    def message(self) -> Press:
        return Press(self.e, self.name, self.down, self.pose(), self.look)


class _Stripe(_Sample):
    """``points`` as pairs, or ``packed``: base64 of float32."""

    t: Literal["stripe"]
    points: Annotated[tuple[tuple[Place, Place], ...], Field(max_length=STRIPE_POINTS)] = ()
    packed: Annotated[str, Field(max_length=-(-STRIPE_POINTS * POINT_BYTES // 3) * 4)] | None = None

    @field_validator("packed")
    @classmethod
    def _is_packed(cls, packed: str | None) -> str | None:
        if packed is not None:
            _unpacked(packed)
        return packed

    @model_validator(mode="after")
    def _says_points_once(self):
        if self.packed is not None and self.points:
            raise ValueError("its points are told twice, as pairs and packed")
        return self

    def message(self) -> Stripe:
        return Stripe(self.pose(), stripe_of_pairs(self.points) if self.packed is None else _unpacked(self.packed))


def _unpacked(packed: str) -> Packed:
    try:
        data = base64.b64decode(packed, validate=True)
    except ValueError:
        raise ValueError("it is not base64") from None
    return stripe_of_bytes(data)


class State(_Valid):
    """The weather at the instrument; None where it has no such sensor."""

    t: Literal["state"] = "state"
    temperature_c: Annotated[float, Field(ge=-100, le=200)] | None = None
    pressure_hpa: Annotated[float, Field(ge=0, le=2000)] | None = None
    humidity_percent: Annotated[float, Field(ge=0, le=100)] | None = None


class LevelMessage(_Valid):
    """The way up in the instrument's own frame, with its standard uncertainty (rad)."""

    t: Literal["level"] = "level"
    up: tuple[Turn, Turn, Turn]
    u_rad: Annotated[float, Field(ge=0, le=1)]

    @model_validator(mode="after")
    def _is_a_direction(self):
        if abs(math.hypot(*self.up) - 1) > 1e-3:
            raise ValueError("a level wants a direction of length 1")
        return self


class TargetMessage(_Valid):
    """Whether the beam holds its target."""

    t: Literal["target"] = "target"
    state: Literal["locked", "lost", "searching"]


class Event(_Valid):
    """Something happened to the instrument."""

    t: Literal["event"] = "event"
    what: Literal["knock", "head_off", "head_on"]


class AnswerMessage(_Valid):
    """Whether the instrument will look as it was asked, by the number ``o`` of that; ``why`` not."""

    t: Literal["answer"] = "answer"
    o: Count
    ok: bool
    why: Annotated[str, Field(max_length=200, pattern=PRINTED)] = ""


Message = Hello | PoseMessage | Press | Stripe | State | LevelMessage | TargetMessage | Event | AnswerMessage
_Incoming = Hello | _Pose | _Press | _Stripe | State | LevelMessage | TargetMessage | Event | AnswerMessage
_BORDER: TypeAdapter[Any] = TypeAdapter(Annotated[_Incoming, Field(discriminator="t")])


def decode(line: bytes) -> Message:
    """One message. Raises DeviceError for anything that is not one, NaN and infinity included; it names what does not fit."""
    try:
        return _BORDER.validate_json(line).message()
    except ValidationError as error:
        raise _refused(error) from None


OWN_WORDS = {"string_pattern_mismatch": "it holds signs that are no letters", "finite_number": "it is not a number"}
ADVICE = {"hello": "Look at its software; it is asked again."}


def _refused(error: ValidationError) -> DeviceError:
    """The first fault, in words."""
    first = error.errors(include_url=False, include_input=False, include_context=False)[0]
    kind, *where = [str(part) for part in first["loc"]] or [""]
    if first["type"].startswith("union_tag") and first["type"] != "union_tag_not_found":
        happened = "The instrument sent a message of an unknown kind."
    elif first["type"] == "json_invalid" or not kind:
        happened = "The instrument sent something that is no message."
    else:
        reason = OWN_WORDS.get(first["type"], first["msg"].removeprefix("Value error, "))
        field = f" in “{'.'.join(where)}”" if where else ""
        happened = f"The instrument's {kind} does not fit{field}: {reason[0].lower()}{reason[1:]}."
    return DeviceError(
        happened, "It was not kept; all earlier hits are.", ADVICE.get(kind, "Take the hit again; look at the cable.")
    )
