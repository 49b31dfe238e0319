"""A rough fit: places picked on the part's surfaces, what each of them would hold, and the rows that touch them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...cad import CadModel
from ...core.alignment.ledger import HoldLedger
from ...core.alignment.picks import better_place, ledger_of_places, ranks_of_places
from ...core.errors import InputError
from ...core.frames import Array, unit
from ...core.spots import spots_on
from ...store.database import stored, tell, transaction
from ...store.models import Job
from ..actor import Actor
from ..plan.adding import add_rows, named, surface_point
from ..state.results import JobResults

FREE, MOST = 6, 60
SPOTS_ON_FACE, FACES_LOOKED_AT = 8, 150
U_MM = 0.1  # of a touch, with what the surface itself is off: common practice after such a fit is some hundredths to 0.15 mm
NOTHING = np.empty((0, 3))


@dataclass(frozen=True)
class Pick:
    """A place on the part (3,), and the normal there out of the material."""

    point: tuple[float, float, float]
    normal: tuple[float, float, float]


@dataclass(frozen=True)
class Picked:
    """The holds of some picks. ``adds``: by pick, how many freedoms it adds; ``better``: the most informative next place."""

    picks: tuple[Pick, ...]
    adds: tuple[int, ...]
    ledger: HoldLedger | None
    better: Pick | None

    @property
    def enough(self) -> bool:
        return self.ledger is not None and self.ledger.rank == FREE


def picks_from(text: str) -> tuple[Pick, ...]:
    """From "x,y,z,i,j,k;…", as the page sends them back. Raises InputError."""
    wrong = InputError("A picked place is no place.", "Nothing was planned.", "Pick it again.")
    found = []
    for each in filter(None, text.split(";")):
        try:
            numbers = [float(v) for v in each.split(",")]
        except ValueError:
            raise wrong from None
        if len(numbers) != 6 or not np.all(np.isfinite(numbers)) or np.abs(numbers).max() > 1e7:
            raise wrong
        if not 0.5 < float(np.linalg.norm(numbers[3:])) < 2:
            raise wrong
        x, y, z, i, j, k = numbers
        i, j, k = unit(np.array([i, j, k])).tolist()
        found.append(Pick((x, y, z), (i, j, k)))
    if len(found) > MOST:
        raise InputError(f"{len(found)} places are picked; {MOST} are enough.", "Nothing was planned.", "Take some off.")
    return tuple(found)


def text_of(picks: Sequence[Pick]) -> str:
    return ";".join(",".join(f"{v:.5f}" for v in (*p.point, *p.normal)) for p in picks)


def looked_at(state: JobResults, picks: Sequence[Pick]) -> Picked:
    """Before anything is touched: as if the part were where the CAD has it."""
    if not picks:
        return Picked((), (), None, None)
    points, normals = np.array([p.point for p in picks]), np.array([p.normal for p in picks])
    names = [f"place {k + 1}" for k in range(len(picks))]
    ranks = ranks_of_places(points, normals)
    adds = np.diff([0, *ranks]).tolist()
    ledger = ledger_of_places(points, normals, names)
    spots, outward = _spots(state)
    better = None
    if len(spots) and (ledger.rank < FREE or ledger.spare < 1 or ledger.weak is not None):
        k = better_place(points, normals, spots, outward)
        better = Pick(tuple(spots[k].tolist()), tuple(outward[k].tolist()))  # type: ignore[arg-type]
    return Picked(tuple(picks), tuple(adds), ledger, better)


def _spots(state: JobResults) -> tuple[Array, Array]:
    """Places all over the part that a hand can reach, and their normals; of a part of many faces of the largest ones."""
    key = (state.job.part.sha256, state.job.kept_bodies)
    kept = state.remembered.get("rough spots")
    if kept is None or kept[0] != key:
        model = None if state.job.part.model is None else CadModel.unpack(state.job.part.model)
        found = (NOTHING, NOTHING) if model is None else _spread(model, state.job.kept_bodies)
        kept = state.remembered["rough spots"] = key, found
    return kept[1]


def _spread(model: CadModel, bodies: Sequence[int] | None) -> tuple[Array, Array]:
    faces = [f for f in model.faces if bodies is None or f.body in bodies]
    faces.sort(key=lambda f: -float(np.linalg.norm(np.subtract(f.box[3:], f.box[:3]))))
    each = [spots_on(*model.mesh_of(f.index), count=SPOTS_ON_FACE, seed=f.index) for f in faces[:FACES_LOOKED_AT]]
    if not each:
        return NOTHING, NOTHING
    return np.vstack([spots for spots, _ in each]), np.vstack([outward for _, outward in each])


def plan(actor: Actor, job_id: int, picks: Sequence[Pick]) -> int:
    """A row for each place, and the alignment that rests on them, in two acts. Returns the alignment's row."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        if len(picks) < FREE:
            raise InputError(
                f"{len(picks)} places are picked; six freedoms need six at least.", "Nothing was planned.", "Pick more places."
            )
        raws = [surface_point(p.point, p.normal) for p in picks]
        rows = add_rows(session, actor, job_id, named(session, job_id, raws, "Place"))
        laid = {"kind": "surfaces", "features": rows, "u_mm": U_MM}
        alignment = add_rows(session, actor, job_id, named(session, job_id, [laid], "Rough fit"))[0]
        job.alignment_row_id, job.current_row_id, job.touching = alignment, rows[0], ""
        tell(session, job_id, "sheet")
        return alignment


def plan_proof(actor: Actor, job_id: int, row_id: int | None = None) -> int:
    """The row that proof points go to becomes current; it is planned where there is none. Returns it."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        if job.part.model is None:
            raise InputError("The part has no CAD to compare with.", "Nothing was planned.", "Bring in its CAD.")
        proof = row_id or add_rows(session, actor, job_id, named(session, job_id, [{"kind": "proof"}]))[0]
        job.current_row_id, job.touching = proof, ""
        tell(session, job_id, "sheet")
        return proof
