"""What evaluate() is given and what it gives."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

from ..alignment import Alignment
from ..alignment.surfaces import Nearest
from ..calibration import ProbeCalibration
from ..deriving import PlaneDistance
from ..fitting import FitResult
from ..frames import Array, Motion
from ..probing import Side
from ..tolerances import Verdict


def fingerprint(*parts: object) -> str:
    """A short name for some values, the same for the same values."""
    return hashlib.blake2b("\x1f".join(map(str, parts)).encode(), digest_size=12).hexdigest()


@dataclass(frozen=True, eq=False)
class SheetRow:
    """One row as asked. ``finished``: a person has said that its hits are complete."""

    id: int
    recipe: Any
    finished: bool = False

    @cached_property
    def digest(self) -> str:
        """Of what was asked; the same for the same."""
        return fingerprint(self.recipe.model_dump_json(), self.finished)


@dataclass(frozen=True)
class Sheet:
    """Rows in order, and the row of the alignment that is active (None: not aligned)."""

    rows: tuple[SheetRow, ...]
    alignment: int | None = None


@dataclass(frozen=True, eq=False)
class Reading:
    """One row's raw readings, as they came.

    Attributes
    ----------
    keys : names of the hits, in time order; they also are the fingerprint of the readings
    poses : (n, 7) last axis at each hit, instrument frame
    approach : (n, 7) last axis shortly before; NaN where it is not known
    aside : (n,) bool, hits that do not count (set aside or undone)
    stations, calibrations : (n,) ids
    times : (n,) seconds since 1970
    pull_off : (7,) pose at the finish, or None
    """

    keys: tuple[str, ...]
    poses: Array
    approach: Array
    aside: Array
    stations: Array
    calibrations: Array
    times: Array
    pull_off: Array | None = None
    pull_off_station: int | None = None
    pull_off_calibration: int | None = None

    @cached_property
    def digest(self) -> str:
        """Of what was read and which of it counts; raw readings are named by their keys."""
        pull_off = b"" if self.pull_off is None else self.pull_off.tobytes()
        marks = (self.aside.tobytes(), self.stations.tobytes(), self.calibrations.tobytes())
        return fingerprint(self.keys, marks, pull_off, self.pull_off_station, self.pull_off_calibration)


@dataclass(frozen=True, eq=False)
class Station:
    """Where an instrument stands; ``up`` (3,): its level's way up, in its own frame, if it has one."""

    id: int
    world_from_station: Motion
    up: Array | None = None
    u_level_rad: float = 0.0


@dataclass(frozen=True, eq=False)
class PartSurfaces:
    """The nominal surfaces: ``nearest`` gives feet and outward normals; ``digest`` names the CAD they are of."""

    digest: str
    nearest: Nearest


@dataclass(frozen=True, eq=False)
class Kit:
    stations: dict[int, Station]
    calibrations: dict[int, ProbeCalibration]


State = Literal["todo", "taking", "asks", "done", "waits", "failed"]


@dataclass(frozen=True, eq=False)
class RowResult:
    """What was found for one row. Lengths mm.

    ``state``: todo (nothing yet), taking (hits but not finished), asks (a question must be
    answered), done, waits (for another row), failed (``message`` says why).
    ``quantity`` names what nominal, actual and deviation are of. ``held``: the active alignment
    rests on this row, so its deviation is zero by construction and is not given. ``facing`` (3,):
    where the tip went, of planes and surface points, world. ``tip_off``: the radius is off a
    surface point already. ``doubts``: why its kit is in doubt.
    ``difference`` (6,): how an alignment stands in the one that it is
    ``against``, slides (mm) and a rotation vector (rad).
    """

    row: int
    key: str
    state: State = "todo"
    message: str = ""
    quantity: str = ""
    nominal_mm: float | None = None
    actual_mm: float | None = None
    deviation_mm: float | None = None
    U_mm: float | None = None
    verdict: Verdict | None = None
    hits: int = 0
    fit: FitResult | None = None
    side: Side | None = None
    surface_world: Any = None
    surface_part: Any = None
    centers_world: Array | None = None
    contacts_world: Array | None = None
    contacts_part: Array | None = None
    counted: tuple[str, ...] = ()
    residuals: Array | None = None
    facing: Array | None = None
    tip_off: bool = False
    alignment: Alignment | None = None
    difference: Array | None = None
    aligned_by: int | None = None
    held: bool = False
    distance: PlaneDistance | None = None
    components: tuple[float, float, float] | None = None
    uses: tuple[int, ...] = ()
    warnings: tuple[str, ...] = field(default=())
    doubts: tuple[str, ...] = field(default=())
