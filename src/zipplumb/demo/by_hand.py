"""Jobs measured for the demo as a hand would measure them: each hit comes in and goes off along the way out of the surface."""

from __future__ import annotations

import itertools
import json
from collections.abc import Mapping
from pathlib import Path

import numpy as np

from ..core.frames import Array, Motion
from ..devices.hits import HitBatch
from ..devices.sim.real_part import RealFace
from ..jobs.actor import Actor
from ..jobs.align import systems
from ..jobs.link import presses
from ..jobs.measure import measuring
from ..jobs.state.results import JobResults, load
from ..store.database import transaction
from .carrier_real import PLACE
from .seed import DIAMETER_MM, OFFSET_MM

RADIUS_MM, NOISE_MM, BACK_MM, FEWEST = DIAMETER_MM / 2, 0.004, 15.0, 8


def real_faces(folder: Path) -> dict[int, RealFace]:
    """The carrier as it really is, by faces of its CAD."""
    return {raw["index"]: RealFace.from_dict(raw) for raw in json.loads((folder / "real.json").read_text())["faces"]}


def some_of(count: int, wanted: int) -> list[int]:
    """So many places of a list, evenly."""
    return np.unique(np.linspace(0, count - 1, wanted).astype(int)).tolist()


def touch_all(
    actor: Actor, job: int, arm: int, faces: dict[int, RealFace], seed: int = 7, off: Mapping[str, float] | None = None,
    fewest: int = FEWEST,
) -> None:  # fmt: skip
    """Every row that takes hits, as a hand would: along the way out of the surface, and off again.

    ``seed``: of the hand's noise; ``off``: how far (mm) the surface of a row lies out on this piece, by its name; ``fewest``:
    hits of a row that does not say where.
    """
    off = off or {}
    random, numbers = np.random.default_rng(seed), itertools.count(1)
    world_from_part = Motion.from_quaternion(PLACE["quaternion"], PLACE["translation_mm"])
    for row in _state(job).measured:
        measuring.make_current(actor, job, row.id)
        recipe = row.recipe
        at = recipe.targets if recipe.cad_face is None else None
        face = faces[recipe.cad_face] if recipe.cad_face is not None else _nearest(faces, at)
        if at is None:
            at = face.spots[some_of(len(face.spots), max(recipe.wanted_hits, fewest))]
        for place in at:
            real, out = face.touch(place)
            center = real + (RADIUS_MM + off.get(recipe.name, 0.0) + random.normal(0, NOISE_MM)) * out
            way = world_from_part.points(np.array([center, center + BACK_MM * out]))
            presses.keep(arm, _batch(job, "press", number := next(numbers), *way), number)
        away = world_from_part.points((center + 2 * BACK_MM * out)[None])[0]
        presses.finish(arm, _batch(job, "pull_off", number := next(numbers), away, None), number)
    state = _state(job)
    system = next(row.id for row in state.rows if row.recipe.role == "system")
    systems.activate(actor, job, system)


def _nearest(faces: dict[int, RealFace], at: Array | None) -> RealFace:
    assert at is not None
    return min(faces.values(), key=lambda face: face.how_near(at[0]))


def _batch(job: int, kind: str, number: int, center: Array, came_from: Array | None) -> HitBatch:
    nowhere = (float("nan"),) * 7
    way_in = nowhere if came_from is None else _pose(came_from)
    return HitBatch(kind, f"by hand, job {job}", number, (number,), (float(number),), _pose(center), way_in)


def _pose(center: Array) -> tuple[float, ...]:
    """The last axis, upright, for a tip at ``center``."""
    return (*(center - OFFSET_MM).tolist(), 1.0, 0.0, 0.0, 0.0)


def _state(job: int) -> JobResults:
    with transaction() as session:
        return load(session, job)
