"""A scan laid on the CAD: from an alignment, from three pairs of places, or found from no start at all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from threading import Lock

import numpy as np

from ...cad.surfaces import Surfaces
from ...core.alignment.anywhere import Placed, Samples, anywhere
from ...core.alignment.similarity import similarity
from ...core.errors import InputError
from ...core.frames import Array, Motion
from ...core.sheet import kind_of
from ...core.units import Units, length_text
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ..actor import Actor
from ..plan.adding import add_rows, named
from ..state.part_model import model_of
from ..state.results import JobResults

LOOKED_AT, ALL_OVER = 100_000, 20_000  # points of the scans, and places on the part
FORM_MM = 0.05  # how far a part's own form is off, unless a person says otherwise
PAIRS = 3
ONE_LINE = 0.05  # places whose breadth is a smaller share of their length lie on one line
_one_at_a_time = Lock()  # each takes all of a processor for seconds


@dataclass(frozen=True)
class Scanned:
    """A scan that may be laid: its row, its name, and whether it is worked out."""

    row: int
    name: str
    ready: bool


def scans_of(state: JobResults) -> list[Scanned]:
    found = ((row, state.results[row.id].cloud) for row in state.rows if kind_of(row.recipe.model_dump()).takes_light)
    return [Scanned(row.id, row.recipe.name, len(cloud.points) > 0) for row, cloud in found if cloud is not None]


def starts_of(state: JobResults) -> list[tuple[int, str]]:
    """Alignments that are worked out, the active one first."""
    there = [r for r in state.rows if (found := state.results[r.id].system) is not None and found.alignment is not None]
    there.sort(key=lambda row: row.id != state.job.alignment_row_id)
    return [(row.id, row.recipe.name) for row in there]


def found_places(state: JobResults, scan_ids: Sequence[int]) -> list[Placed]:
    """Where the part may lie, from no start: the best place, and others that are as good."""
    points, normals = seen(state, scan_ids)
    model = model_of(state.job.part)
    if model is None:
        raise InputError("The part has no CAD.", "Nothing was planned.", "Bring in its CAD.")
    if not _one_at_a_time.acquire(blocking=False):  # who waited here would keep others from their pages
        raise InputError("Another part is being looked for.", "Nothing was planned.", "Press it again in a few seconds.")
    try:
        surfaces = Surfaces(model)
        return anywhere(Samples(points, normals), Samples(*surfaces.spread(ALL_OVER)), surfaces.nearest, FORM_MM)
    finally:
        _one_at_a_time.release()


def seen(state: JobResults, scan_ids: Sequence[int]) -> tuple[Array, Array]:
    """Points (n, 3) of scans in the world, and which way the surface faces there."""
    _checked(state, scan_ids)
    points, normals = [], []
    for scan_id in scan_ids:
        cloud = state.results[scan_id].cloud
        assert cloud is not None
        sure = np.isfinite(cloud.points.normals[:, 0])
        points.append(cloud.points.points[sure])
        normals.append(cloud.points.normals[sure])
    every = np.vstack(points), np.vstack(normals)
    some = np.linspace(0, len(every[0]) - 1, min(len(every[0]), LOOKED_AT)).astype(int)
    return every[0][some], every[1][some]


def _checked(state: JobResults, scan_ids: Sequence[int]) -> None:
    ready = {scan.row: scan.ready for scan in scans_of(state)}
    if not scan_ids:
        raise InputError("No scan is chosen.", "Nothing was planned.", "Choose one at least.")
    if any(scan_id not in ready for scan_id in scan_ids):
        raise InputError("That is no scan of this job.", "Nothing was planned.", "Choose a scan of the list.")
    if not all(ready[scan_id] for scan_id in scan_ids):
        raise InputError(
            "A scan has no points yet.",
            "Nothing was planned.",
            "Finish it, wait until it is worked out, and let all of it count.",
        )


def numbers_of(motion: Motion) -> list[float]:
    """A rotation vector and a shift."""
    return [*motion.rotvec.tolist(), *np.asarray(motion.translation).tolist()]


def motion_of(numbers: Sequence[float]) -> Motion:
    return Motion.from_rotvec(numbers[:3], numbers[3:])


def words_of(placed: Placed, units: Units) -> str:
    """How well a place fits."""
    off = f"{length_text(placed.off_mm, units)} {units} off on average"
    return f"{100 * placed.lies:.1f} % of what was scanned lies on the part, {off}"


@dataclass(frozen=True, eq=False)
class Pairs:
    """Places (n, 3) on the part, and the same of the scan, in the world."""

    on_part: Array
    on_scan: Array

    @property
    def wants(self) -> str:
        """Where the next one is to be picked; "" where all are."""
        return "part" if len(self.on_part) < PAIRS else "scan" if len(self.on_scan) < PAIRS else ""

    def motion(self) -> tuple[Motion, float]:
        """Part from world, and how far (mm) the pairs are off each other at most. Raises InputError."""
        for each in (self.on_part, self.on_scan):
            spread = np.linalg.svd(each - each.mean(axis=0), compute_uv=False)
            if spread[1] <= ONE_LINE * spread[0]:
                raise InputError("The places lie on one line.", "Nothing was planned.", "Pick three that make a wide triangle.")
        found = similarity(self.on_scan, self.on_part)
        return found.motion, float(np.linalg.norm(found.points(self.on_scan) - self.on_part, axis=1).max())


def plan(actor: Actor, job_id: int, state: JobResults, scan_ids: Sequence[int], start: int | Motion, as_good: int = 0) -> int:
    """An alignment that lays the scans on the CAD, from an alignment (its row) or from a place; it is in use then.

    Returns its row.
    """
    actor.must_change()
    _checked(state, scan_ids)
    raw: dict = {"kind": "laid_scan", "scans": list(scan_ids), "as_good": as_good}
    if isinstance(start, Motion):
        numbers = numbers_of(start)
        raw |= {"turn": numbers[:3], "shift": numbers[3:]}
    else:
        raw["start"] = start
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        row = add_rows(session, actor, job_id, named(session, job_id, [raw], "Laid scan"))[0]
        job.alignment_row_id = row
        tell(session, job_id, "sheet")
        return row
