"""Bringing CAD in."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import asdict
from functools import partial
from pathlib import PurePath
from typing import IO

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...cad import CadModel, read_cad
from ...cad.formats import NAMES
from ...cad.scratch import scratch
from ...cad.spline_pack import pack_splines
from ...core.errors import FileError, InputError
from ...store.database import stored, tell, transaction
from ...store.models import Job, Part
from ..actor import Actor, record
from ..file_pieces import OF_PARTS
from ..queue import defer, said_where_it_fails

LARGEST_MB = 200
MESH_UNITS = ("mm", "in", "m")


def add_part(actor: Actor, name: str, file_name: str, file: IO[bytes], units: str = "mm") -> int:
    """Keep an uploaded file; reading it is long work, and is put in the queue with it. Returns the part's id.

    ``units``: of length, where the file's format does not say them.
    """
    actor.must_change()
    if units not in MESH_UNITS:
        raise InputError("Lengths of a mesh are mm, in or m.", "Nothing was kept.", "Choose one of them.")
    called = PurePath(file_name.replace("\\", "/")).name
    called = "part.step" if called in ("", ".", "..") else called
    with transaction() as session:
        part = Part(
            name=name.strip()[:80] or PurePath(called).stem[:80],
            file_name=called[:120],
            sha256="",
            units=units,
        )
        session.add(part)
        session.flush()
        size, part.sha256 = OF_PARTS.keep(session, part.id, file)
        if not size:
            raise InputError("No file came with the form.", "Nothing was kept.", f"Choose a {NAMES} file.")
        record(session, actor, None, "upload", part=part.id, file=part.file_name, bytes=size)
        defer(session, "import_part", part_id=part.id)
        return part.id


def add_without_cad(session: Session, name: str) -> Part:
    """A part of which there is no CAD: all nominals of it are typed, or come from a list."""
    part = Part(name=name, file_name="", sha256=hashlib.sha256(b"").hexdigest())
    _keep_model(part, CadModel.empty())
    session.add(part)
    session.flush()
    return part


def import_part(part_id: int) -> None:
    """Read a kept file (in the worker); how far it is, and what came of it, is on the part, whatever happens."""
    with transaction() as session:
        part = stored(session, Part, part_id)
        if part.state != "importing":
            return  # stopped, or read by another worker
        file_name, units = part.file_name, part.units
    otherwise = f"{file_name} could not be read. Nothing of it was kept. Export it again, if possible as STEP AP242."
    with said_where_it_fails(f"import of part {part_id}", partial(_fail, part_id), otherwise), scratch() as folder:
        suffix = "".join(filter(str.isalnum, PurePath(file_name).suffix))[:8]
        path = folder / f"part.{suffix}"
        with transaction() as session:
            OF_PARTS.write_to(session, part_id, path)
        model = read_cad(path, lambda share, words: _progress(part_id, share, words), called=file_name, units=units or "mm")
        with transaction() as session:
            part = stored(session, Part, part_id, lock=True)
            if part.state == "importing":
                _keep_model(part, model)
            tell(session, None, "part", part=part_id)


def _keep_model(part: Part, model: CadModel) -> None:
    part.model = model.pack()
    part.units = model.units
    part.bodies = [asdict(b) for b in model.bodies]
    part.faces = [asdict(f) for f in model.faces]
    part.missing = list(model.missing)
    part.splines = pack_splines(model.splines) if model.splines else None
    part.callouts = model.callouts.to_data() if model.callouts else {}
    part.edges = [asdict(e) for e in model.edges if e.nominal]
    part.state, part.share, part.words = "ready", 1.0, "Read"


def _fail(part_id: int, words: str) -> None:
    with transaction() as session:
        part = stored(session, Part, part_id, lock=True)
        if part.state == "importing":
            part.state, part.words = "failed", words
        tell(session, None, "part", part=part_id)


def import_left(part_id: int) -> None:
    """No try to read it came to an end."""
    _fail(part_id, "Reading it ended the reader each time. Nothing of it was kept. Export it again, with fewer bodies.")


def stop_import(actor: Actor, part_id: int) -> None:
    """Stop reading a file."""
    actor.must_change()
    with transaction() as session:
        part = stored(session, Part, part_id, lock=True)
        if part.state != "importing":
            raise InputError("It is not being read any more.", "Nothing was changed.", "Look at what came of it.")
        part.state, part.words = "failed", "It was stopped. Nothing of it was kept."
        record(session, actor, None, "stop import", part=part_id)
        tell(session, None, "part", part=part_id)


def remove_part(actor: Actor, part_id: int) -> None:
    """Take a part away on which there is no job."""
    actor.must_change()
    with transaction() as session:
        part = stored(session, Part, part_id, lock=True)
        if session.scalar(select(Job.id).where(Job.part_id == part_id).limit(1)) is not None:
            raise InputError("There is a job on this part.", "Nothing was removed.", "The part stays as long as the job does.")
        record(session, actor, None, "remove part", part=part_id, file=part.file_name, sha256=part.sha256)
        session.delete(part)
        tell(session, None, "part", part=part_id)


def _progress(part_id: int, share: float, words: str) -> None:
    with transaction() as session:
        part = session.get(Part, part_id)
        if part is None or part.state != "importing":
            raise FileError("Reading it was stopped.", "Nothing of it was kept.", "")
        part.share, part.words = share, words


def choose_bodies(actor: Actor, job_id: int, kept: list[int]) -> None:
    """Keep some of a part's bodies on the stage; the file itself stays whole."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id)
        job.kept_bodies = checked_bodies(job.part, kept)
        record(session, actor, job_id, "bodies", kept=sorted(kept))
        tell(session, job_id, "part")


def checked_bodies(part: Part, kept: Iterable[int]) -> list[int]:
    """Bodies of a part, one at least. Raises InputError."""
    chosen = sorted(set(kept))
    if not chosen or not set(chosen) <= {b["index"] for b in part.bodies}:
        raise InputError("At least one body has to stay.", "Nothing was changed.", "Choose one or more bodies.")
    return chosen
