"""What a worker does with scans: works them out, and tells how far it is."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from sqlalchemy import delete, select, update
from sqlalchemy.orm import Session

from ...cad.near import FacesNear
from ...core.cloud.light import Chunk
from ...core.readings import HitSet
from ...core.stripes import NUMBERS
from ...store.database import stored, tell, transaction
from ...store.models import Reading
from ...store.scans import Cloud
from ..queue import said_where_it_fails
from ..state.clouds import packed
from ..state.part_model import model_of
from ..state.results import load

KEPT = 6  # of what was worked out of a scan
STEP = 0.05  # of the work: how often it is told how far it is
NOT_MADE = "It could not be worked out. All that was read is kept. Change the scan, or try again."


def work_out(cloud_id: int) -> None:
    """Work out what was asked for; what went wrong is said on the scan itself."""
    with said_where_it_fails(f"cloud {cloud_id}", partial(_failed, cloud_id), NOT_MADE):
        _work_out(cloud_id)


def left(cloud_id: int) -> None:
    """No try to work it out came to an end."""
    _failed(cloud_id, "Working it out ended the worker each time. All that was read is kept. Scan less at once.")


def _failed(cloud_id: int, message: str) -> None:
    with transaction() as session:
        cloud = session.get(Cloud, cloud_id)
        if cloud is None or cloud.state != "making":
            return
        cloud.state, cloud.message = "failed", message
        tell(session, cloud.job_id, "sheet", row=cloud.row_id)


def _work_out(cloud_id: int) -> None:
    with transaction() as session:
        cloud = session.get(Cloud, cloud_id)
        if cloud is None or cloud.state != "making":
            return  # another worker has done it
        state = load(session, cloud.job_id)
        asked = state.wanted.get(cloud.key)
        if asked is None:  # changed meanwhile: nobody waits for it
            session.delete(cloud)
            return
        reading, model = state.readings[asked.of_scan], model_of(state.job.part)
        pieces = _pieces(session, asked.of_scan, reading)
        job_id, row_id = cloud.job_id, asked.row
    faces = FacesNear(model, asked.faces) if model is not None and asked.on_cad else None
    told = 0.0

    def progress(share: float) -> None:
        nonlocal told
        if share >= told + STEP:
            told = share
            with transaction() as session:
                session.execute(update(Cloud).where(Cloud.id == cloud_id).values(share=share))
                tell(session, job_id, "hits", row=row_id)

    given = packed(asked.what, asked.run(_chunks(pieces, reading), len(pieces), faces, progress))
    with transaction() as session:
        cloud = stored(session, Cloud, cloud_id, lock=True)
        cloud.given, cloud.state, cloud.share = given, "ready", 1.0
        _forget_older(session, cloud)
        tell(session, job_id, "sheet", row=row_id)


def _forget_older(session: Session, cloud: Cloud) -> None:
    """A few are kept, so that a cut which is taken back costs nothing; one that is wanted again is worked out again."""
    alike = Cloud.row_id == cloud.row_id, Cloud.what == cloud.what, Cloud.state != "making"
    older = select(Cloud.id).where(*alike).order_by(Cloud.id.desc()).offset(KEPT)
    session.execute(delete(Cloud).where(Cloud.id.in_(older), Cloud.id != cloud.id))


def _pieces(session: Session, row_id: int, reading: HitSet) -> list[tuple[int, int]]:
    """The readings of a scan that hold light, in order, and the number of the first line of each."""
    first: dict[int, int] = {}
    for place, key in enumerate(reading.keys):
        first.setdefault(int(key.partition(".")[0]), place)
    with_light = select(Reading.id).where(Reading.row_id == row_id, Reading.points != b"").order_by(Reading.id)
    return [(reading_id, first[reading_id]) for reading_id in session.scalars(with_light) if reading_id in first]


def _chunks(pieces: list[tuple[int, int]], reading: HitSet) -> Iterator[Chunk]:
    """One after another, each fetched when it is wanted."""
    for reading_id, first in pieces:
        with transaction() as session:
            columns = Reading.points, Reading.counts, Reading.kind
            points, counts, kind = session.execute(select(*columns).where(Reading.id == reading_id)).one()
        some = slice(first, first + len(counts))
        yield Chunk(
            reading.poses[some], points, tuple(counts), reading.aside[some].astype(bool), int(reading.stations[first]),
            int(reading.calibrations[first]), first, NUMBERS[kind],
        )  # fmt: skip
