"""What was worked out of scans: kept in the database under its key, asked for where it is not there yet."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping
from dataclasses import fields
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, undefer

from ...core.cloud.deviating import DeviationResult, Places
from ...core.cloud.edges import Edges
from ...core.cloud.giving import GivenPoints
from ...core.cloud.points import CloudPoints
from ...core.sheet.clouds import Asked, FoundCloud, Kept
from ...core.sheet.maps.found import FoundMap
from ...store.database import only_reads, transaction
from ...store.scans import Cloud
from ..queue import defer

UNIT = 32_767  # of a normal, packed
EDGES = {each.name: np.float32 for each in fields(Edges)} | {"points": np.float64, "lines": np.int32}
PLACES = {
    "points": np.float32, "normals": np.float32, "faces": np.int32, "lines": np.int32, "counts": np.int32, "means": np.float32,
}  # fmt: skip
WHOLE = {"faces", "lines", "counts"}  # numbers of a place that are no lengths


def packed(what: str, result: Any) -> bytes:
    """What was worked out, in numpy's open form (.npz)."""
    file = io.BytesIO()
    np.savez(file, **FORMS[what][0](result))  # type: ignore[arg-type]
    return file.getvalue()


def unpacked(what: str, key: str, data: bytes) -> Any:
    """What ``packed`` has made of it, as a node's value."""
    with np.load(io.BytesIO(data), allow_pickle=False) as file:
        return FORMS[what][1](key, file)


def _of_cloud(result: FoundCloud) -> dict[str, NDArray[Any]]:
    each = {"counts": np.array([result.read, result.kept, result.cells])}
    each |= {f"edges_{name}": getattr(result.edges, name).astype(kind) for name, kind in EDGES.items()}
    each |= _of_points(result.points)
    for row, given in result.given.items():
        each |= {f"points_{row}": given.points, f"lines_{row}": given.lines.astype(np.int32)}
    return each


def _cloud_of(key: str, file: Any) -> FoundCloud:
    rows = [int(name.removeprefix("lines_")) for name in file.files if name.startswith("lines_")]
    given = {row: GivenPoints(file[f"points_{row}"], file[f"lines_{row}"].astype(np.int64)) for row in rows}
    edges = Edges(*(file[f"edges_{name}"].astype(np.int64 if name == "lines" else float) for name in EDGES))
    read, kept, cells = (int(n) for n in file["counts"])
    return FoundCloud("done", "", 0, key, read, kept, cells, edges, _points_of(file), given)


def _of_points(points: CloudPoints) -> dict[str, NDArray[Any]]:
    """About a middle as float32, normals as shares of 32,767: so many numbers are kept small."""
    middle = points.points.mean(axis=0) if len(points) else np.zeros(3)
    normals = np.round(np.nan_to_num(points.normals) * UNIT).astype(np.int16)
    places = (points.points - middle).astype(np.float32)
    return {
        "seen_middle": middle, "seen_places": places, "seen_normals": normals, "seen_lines": points.lines.astype(np.int32),
        "seen_brightness": points.brightness.astype(np.float16),
    }  # fmt: skip


def _of_map(found: FoundMap) -> dict[str, NDArray[Any]]:
    result, places = found.result, found.places
    each = {name: getattr(places, name).astype(kind) for name, kind in PLACES.items()}
    return each | {"counts_of_all": np.array([result.read, result.off]), "step_mm": np.array(result.step_mm)}


def _map_of(key: str, file: Any) -> FoundMap:
    places = Places(*(file[name].astype(np.int64 if name in WHOLE else float) for name in PLACES))
    read, off = (int(n) for n in file["counts_of_all"])
    return FoundMap("done", "", key, DeviationResult(read, off, float(file["step_mm"]), places))


def _points_of(file: Mapping[str, NDArray[Any]]) -> CloudPoints:
    normals = file["seen_normals"].astype(float)
    normals[~normals.any(axis=1)] = np.nan  # none is sure
    places = file["seen_places"].astype(float) + file["seen_middle"]
    return CloudPoints(places, normals / UNIT, file["seen_lines"].astype(np.int64), file["seen_brightness"].astype(float))


FORMS: dict[str, tuple[Callable[[Any], dict[str, NDArray[Any]]], Callable[[str, Any], Any]]] = {
    "points": (_of_cloud, _cloud_of),
    "rows": (_of_cloud, _cloud_of),
    "map": (_of_map, _map_of),
}


def kept_in(session: Session) -> Kept:
    """Looks a key up."""
    return partial(_kept, session)


def _kept(session: Session, key: str) -> Any:
    cloud = session.scalar(select(Cloud).where(Cloud.key == key, Cloud.state != "making").options(undefer(Cloud.given)))
    if cloud is None:
        return None
    if cloud.state == "failed" or cloud.given is None:
        return FoundCloud("failed", cloud.message, key=key)
    return unpacked(cloud.what, key, cloud.given)


def ask_for(session: Session, job_id: int, wanted: Mapping[str, Asked]) -> None:
    """Put what is not asked for yet in the queue, once for all processes; also where somebody only looks."""
    if wanted and only_reads(session):
        with transaction() as apart:
            _ask_for(apart, job_id, wanted)
    else:
        _ask_for(session, job_id, wanted)


def _ask_for(session: Session, job_id: int, wanted: Mapping[str, Asked]) -> None:
    for key, asked in wanted.items():
        new = (
            insert(Cloud)
            .values(key=key, job_id=job_id, row_id=asked.row, what=asked.what)
            .on_conflict_do_nothing()
            .returning(Cloud.id)
        )
        if (cloud_id := session.scalar(new)) is not None:
            defer(session, "work_out_cloud", cloud_id=cloud_id)
