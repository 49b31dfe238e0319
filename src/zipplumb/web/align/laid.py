"""The page of a scan laid on the CAD: found from no start, from an alignment, or from three pairs of places."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from flask import Blueprint, g, render_template, request
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.frames import Array, Motion
from ...core.units import length_text, number_from_text
from ...jobs.align import laid
from ...jobs.state.results import JobResults, as_it_stands
from ...store.database import snapshot
from .. import params
from ..answers import go_on
from ..doors import changes, reads

blueprint = Blueprint("laid", __name__, url_prefix="/jobs/<int:job_id>/laid")
MARKED = 250  # points of the scan that show how a place would be
MOST_AS_GOOD, MOST_RAD = 100, 10.0


def laid_page(session: Session, state: JobResults) -> str:
    scans = laid.scans_of(state)
    picked = laid.Pairs(np.empty((0, 3)), np.empty((0, 3)))
    return render_template(
        "_laid.html", scans=scans, starts=laid.starts_of(state), job=state.job, pairs=_pairs(state, picked, scans)
    )


@dataclass(frozen=True)
class PlaceShown:
    """A place that was found: in words, the share that lies on the part, its numbers, and some points as they would lie."""

    words: str
    lies: float
    place: str
    dots: list[list[float]]


@blueprint.get("/places")
@reads
def places(job_id: int):
    """Where the part may lie by some scans, from no start."""
    scan_ids = params.ids("scan")
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        found = laid.found_places(state, scan_ids)
        points, _ = laid.seen(state, scan_ids)
        some = points[:: max(1, len(points) // MARKED)]
        each = [
            PlaceShown(
                laid.words_of(one, state.job.units), one.lies, _text_of(one.part_from_world),
                one.part_from_world.points(some).round(2).tolist(),
            )
            for one in found
        ]  # fmt: skip
        return render_template("_laid_places.html", each=each, scans=scan_ids, job_id=job_id)


@blueprint.post("/pairs")
@changes
def pick(job_id: int):
    """One more place of a pair; nothing is kept."""
    found = _typed_pairs()
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        return _pairs(state, _with_one_more(found, state), laid.scans_of(state))


def _with_one_more(found: laid.Pairs, state: JobResults) -> laid.Pairs:
    """With the place that was clicked, where the next one is wanted."""
    if not request.form.get("point"):
        return found
    at = np.array([params.numbers("point", 3)])
    if not np.all(np.abs(at) <= params.MOST_MM):
        raise InputError("So far out there is no part.", "Nothing was picked.", "Click on the part, or on the scan.")
    if found.wants == "part":
        return laid.Pairs(np.vstack([found.on_part, at]), found.on_scan)
    if found.wants == "scan":
        return laid.Pairs(found.on_part, np.vstack([found.on_scan, state.drawn_from_world.inverse().points(at)]))
    return found


def _pairs(state: JobResults, found: laid.Pairs, scans: list[laid.Scanned]) -> str:
    ready = [scan for scan in scans if scan.ready]
    scan = ready[0].row if ready else 0
    on_part, on_scan = found.on_part, state.drawn_from_world.points(found.on_scan)
    apart = wrong = ""
    if not found.wants:
        try:
            _, off = found.motion()
            apart = f"{length_text(off, state.job.units)} {state.job.units}"
        except InputError as error:
            wrong = str(error)
    labelled = on_scan if found.wants == "scan" else on_part
    return render_template(
        "_laid_pairs.html", found=found, on_part=_list_text(found.on_part), on_scan=_list_text(found.on_scan), apart=apart,
        wrong=wrong, scan=scan, shown=scan if found.wants == "scan" else 0, job=state.job,
        labels=[{"at": p.tolist(), "text": str(k + 1)} for k, p in enumerate(labelled)],
    )  # fmt: skip


@blueprint.post("")
@changes
def plan(job_id: int):
    """Lay it: from a place that was found, from three pairs, or from an alignment."""
    scan_ids = params.ids("scan")
    as_good = params.one_id("as_good") or 0
    with snapshot() as session:
        state = as_it_stands(session, job_id)
        start: int | Motion | None
        if request.form.get("place"):
            start = _motion(params.numbers("place", 6))
        elif request.form.get("on_part"):
            start, _ = _whole(_typed_pairs()).motion()
        else:
            start = params.one_id("start")
        if start is None:
            raise InputError("No start is chosen.", "Nothing was planned.", "Choose an alignment, or let it be found.")
        laid.plan(g.actor, job_id, state, scan_ids, start, min(as_good, MOST_AS_GOOD))
    return go_on(job_id, "align")


def _whole(pairs: laid.Pairs) -> laid.Pairs:
    if pairs.wants:
        raise InputError("Three pairs are wanted.", "Nothing was planned.", "Click the places that are missing.")
    return pairs


def _motion(numbers: list[float]) -> Motion:
    if not (np.all(np.abs(numbers[:3]) < MOST_RAD) and np.all(np.abs(numbers[3:]) <= params.MOST_MM)):
        raise InputError("That is no place of the part.", "Nothing was planned.", "Let it be found once more.")
    return laid.motion_of(numbers)


def _text_of(motion: Motion) -> str:
    return ",".join(f"{v:.8f}" for v in laid.numbers_of(motion))


def _typed_pairs() -> laid.Pairs:
    """As the page sends them back; those of the scan are in the world."""
    return laid.Pairs(_listed("on_part"), _listed("on_scan"))


def _listed(name: str) -> Array:
    texts = [text for text in request.values.get(name, "").split(";") if text]
    if len(texts) > laid.PAIRS:
        raise InputError("Three pairs are enough.", "Nothing was planned.", "Begin again.")
    found = np.empty((0, 3))
    for text in texts:
        numbers = [number_from_text(each, "the place") for each in text.split(",")]
        if len(numbers) != 3 or not np.all(np.abs(numbers) <= params.MOST_MM):
            raise InputError("A picked place is no place.", "Nothing was planned.", "Pick it again.")
        found = np.vstack([found, numbers])
    return found


def _list_text(points: Array) -> str:
    return ";".join(",".join(f"{v:.4f}" for v in p) for p in points)
