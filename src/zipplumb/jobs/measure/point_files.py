"""Scans that come as files of points: kept, read by a worker, and then a row like any scan."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from pathlib import PurePath
from typing import IO, Any

import numpy as np
from sqlalchemy import func, insert, select
from sqlalchemy.orm import Session

from ...cad.scratch import scratch
from ...core.errors import FileError, InputError
from ...core.frames import Motion
from ...core.sheet.kinds.scan import ScanRecipe
from ...exchange.clouds.reading import Asked, Piece, Seen, pieces_of, read_points
from ...store.database import stored, tell, transaction
from ...store.models import Calibration, Instrument, Job, Probe, Reading, Row, Station, User
from ...store.scans import PointFile
from ..actor import Actor, record
from ..file_pieces import OF_POINTS
from ..plan.adding import add_rows, named
from ..queue import defer, said_where_it_fails

LARGEST_MB, MOST_AT_ONCE = 1500, 5
UNIT_MM = {"": 0.0, "mm": 1.0, "in": 25.4, "m": 1000.0}  # "": as the file says
LEAST_U_MM, MOST_U_MM = 1e-4, 100.0
STEP = 0.02  # of the file: how often it is told how far it is
KEPT = "Nothing of it was kept."
UPRIGHT = (1.0, 0.0, 0.0, 0.0)


@dataclass(frozen=True)
class TypedFile:
    """``unit``: of lengths, "" as the file says; ``seen``: from where, and the ``place`` (mm) of that; ``u_mm``: U (95 %) of
    one point; ``station``: in whose coordinates it is, None: in its own."""

    unit: str
    u_mm: float
    seen: Seen = "file"
    place: tuple[float, float, float] | None = None
    station: int | None = None

    def check(self) -> None:
        """Raises InputError."""
        if self.unit not in UNIT_MM:
            raise InputError("Lengths in such a file are mm, in or m.", KEPT, "Choose one of them.")
        if not LEAST_U_MM <= self.u_mm <= MOST_U_MM:
            raise InputError(
                "How sure one point is lies between 0.0001 mm and 100 mm.", KEPT, "Type what its scanner's maker states."
            )
        if self.seen not in ("file", "place", "round") or (self.seen == "place") != (self.place is not None):
            raise InputError("From where it was seen is not said.", KEPT, "Choose it, and type the place where there is one.")

    def data(self) -> dict[str, Any]:
        return {"unit": self.unit, "u_mm": self.u_mm, "seen": self.seen, "place": self.place}


def bring(actor: Actor, job_id: int, file_name: str, file: IO[bytes], typed: TypedFile) -> int:
    """Keep a file of points; reading it is long work. Returns its id."""
    actor.must_change()
    typed.check()
    called = PurePath(file_name.replace("\\", "/")).name[:80] or "points"
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        reading = PointFile.job_id == job_id, PointFile.state == "reading"
        if (session.scalar(select(func.count()).where(*reading)) or 0) >= MOST_AT_ONCE:
            raise InputError(f"{MOST_AT_ONCE} files are being read for this job already.", KEPT, "Wait until one is read.")
        if typed.station is not None:
            station = session.get(Station, typed.station)
            if station is None or station.job_id != job_id:
                raise InputError("That is no station of this job.", KEPT, "Choose one of the list.")
        kept = PointFile(job_id=job_id, user_id=actor.id, station_id=typed.station, name=called, asked=typed.data())
        session.add(kept)
        session.flush()
        size, _ = OF_POINTS.keep(session, kept.id, file)
        if not size:
            raise InputError("No file came with the form.", KEPT, "Choose an E57, PLY or text file.")
        record(session, actor, job_id, "bring in points", file=called, bytes=size, **typed.data())
        defer(session, "read_points", file_id=kept.id)
        tell(session, job_id, "files")
        return kept.id


def of_job(session: Session, job_id: int) -> list[PointFile]:
    """Files that are being read, or could not be."""
    mine = PointFile.job_id == job_id, PointFile.state.in_(("reading", "failed"))
    return list(session.scalars(select(PointFile).where(*mine).order_by(PointFile.id)))


def forget(actor: Actor, job_id: int, file_id: int) -> None:
    """Stop reading a file, or take what could not be read off the list."""
    actor.must_change()
    with transaction() as session:
        kept = stored(session, PointFile, file_id, lock=True)
        if kept.job_id != job_id or kept.state == "read":
            raise InputError("It is read already.", "Nothing was changed.", "Remove its row, if it is not wanted.")
        OF_POINTS.forget(session, file_id)
        session.delete(kept)
        record(session, actor, job_id, "forget points", file=kept.name)
        tell(session, job_id, "files")


def read(file_id: int) -> None:
    """Read a kept file (in the worker); what came of it is a row, or said on the file, whatever happens."""
    otherwise = f"It could not be read. {KEPT} Export it again, as E57, PLY or a list of text."
    with said_where_it_fails(f"points {file_id}", partial(_fail, file_id), otherwise):
        _read(file_id)


def left(file_id: int) -> None:
    """No try to read it came to an end."""
    _fail(file_id, f"Reading it ended the reader each time. {KEPT} Export it thinned.")


def _read(file_id: int) -> None:
    with transaction() as session:
        kept = session.get(PointFile, file_id)
        if kept is None or kept.state != "reading":
            return  # stopped, or read by another worker
        told = kept.asked
    asked = Asked(UNIT_MM[told["unit"]], told["seen"], None if told["place"] is None else tuple(told["place"]))
    with scratch() as folder:
        source, target = folder / "points", folder / "read"
        with transaction() as session:
            OF_POINTS.write_to(session, file_id, source)
        size, before = source.stat().st_size, 0.0

        def progress(share: float, points: int) -> None:
            nonlocal before
            share = share or min(0.9, points * 30 / size)  # a line of text is about so long
            if share >= before + STEP:
                before = share
                _told(file_id, share, points)

        read_points(source, target, asked, progress)
        source.unlink()
        with transaction() as session:
            kept = stored(session, PointFile, file_id, lock=True)
            if kept.state == "reading":
                _keep(session, kept, pieces_of(target))
                OF_POINTS.forget(session, file_id)
                tell(session, kept.job_id, "sheet")


def _told(file_id: int, share: float, points: int) -> None:
    with transaction() as session:
        kept = session.get(PointFile, file_id)
        if kept is None or kept.state != "reading":
            raise FileError("Reading it was stopped.", KEPT)
        kept.share, kept.words = share, f"{points:,} points".replace(",", " ")
        tell(session, kept.job_id, "files")


def _fail(file_id: int, words: str) -> None:
    with transaction() as session:
        kept = session.get(PointFile, file_id)
        if kept is None or kept.state != "reading":
            return
        kept.state, kept.words = "failed", words
        OF_POINTS.forget(session, file_id)
        tell(session, kept.job_id, "files")


def _keep(session: Session, kept: PointFile, pieces: Iterator[Piece]) -> None:
    """As a scan of a scanner of its own, which nobody can connect to: all in one transaction."""
    job, u_mm = stored(session, Job, kept.job_id, lock=True), kept.asked["u_mm"] / 2
    now = datetime.now(UTC)
    scanner = Instrument(name=f"File {kept.name}", kind="file", host="", port=0, u_hit_mm=0.0, removed_at=now)
    head = Probe(name=f"File {kept.name}", kind="scanner", diameter_mm=0.0, removed_at=now)
    session.add_all([scanner, head])
    session.flush()
    stated = Calibration(
        probe_id=head.id, instrument_id=scanner.id, offset_mm=[0.0, 0.0, 0.0], diameter_mm=0.0, rms_mm=u_mm, u_radius_mm=0.0,
        method="stated", note=f"A point of the file is sure to {2 * u_mm:g} mm, as was typed.",
        detail={"axis_from_scanner": Motion.identity().as_list()},
    )  # fmt: skip
    session.add(stated)
    if kept.station_id is None:
        station = Station(job_id=job.id, instrument_id=scanner.id, name=kept.name)
        session.add(station)
        session.flush()
        kept.station_id = station.id
    session.flush()
    user = session.get(User, kept.user_id) if kept.user_id else None
    actor = Actor(kept.user_id, user.name if user else "a worker", "technician")
    raw = {"kind": ScanRecipe.key(), "note": f"From {kept.name}"}
    current = job.current_row_id
    (row_id,) = add_rows(session, actor, job.id, named(session, job.id, [raw]))
    job.current_row_id = current
    first = 0
    for number, piece in enumerate(pieces, start=1):
        count = len(piece.counts)
        poses = np.hstack([piece.places, np.tile(UPRIGHT, (count, 1))])
        values = {
            "instrument_id": scanner.id, "job_id": job.id, "row_id": row_id, "station_id": kept.station_id,
            "calibration_id": stated.id, "kind": "spots", "session": f"file {kept.id}", "first_n": first, "sweep": number,
            "ns": list(range(first, first + count)), "times": [now.timestamp()] * count, "poses": poses.ravel().tolist(),
            "approach": [float("nan")] * (7 * count), "points": piece.points, "counts": piece.counts.tolist(),
            "conditions": {"u_hit_mm": 0.0},
        }  # fmt: skip
        session.execute(insert(Reading), values)
        first += count
    stored(session, Row, row_id).finished_at = now
    kept.row_id, kept.state, kept.share = row_id, "read", 1.0
