"""Bringing CAD in."""

from __future__ import annotations

import hashlib
import tempfile
from dataclasses import asdict
from pathlib import Path

from ..cad import read_step
from ..core.errors import InputError, PlumbError
from ..store.database import stored, tell, transaction
from ..store.models import Job, Part
from .actor import Actor, record

LARGEST_MB = 200


def add_part(actor: Actor, name: str, file_name: str, file: bytes) -> int:
    """Keep an uploaded file; reading it is long work and comes after. Returns the part's id."""
    actor.must_change()
    if not file:
        raise InputError("No file came with the form.", "Nothing was kept.", "Choose a STEP file.")
    with transaction() as session:
        part = Part(
            name=name.strip()[:80] or Path(file_name).stem[:80] or "Part",
            file_name=Path(file_name).name[:120] or "part.step",
            sha256=hashlib.sha256(file).hexdigest(),
            file=file,
        )
        session.add(part)
        session.flush()
        record(session, actor, None, "upload", part=part.id, file=part.file_name, bytes=len(file))
        return part.id


def import_part(part_id: int) -> None:
    """Read a kept file (in the worker); how far it is, and what came of it, is on the part."""
    with transaction() as session:
        part = stored(session, Part, part_id)
        file, file_name = part.file, part.file_name
    try:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / file_name
            path.write_bytes(file)
            model = read_step(path, lambda share, words: _progress(part_id, share, words))
    except PlumbError as error:
        with transaction() as session:
            part = stored(session, Part, part_id)
            part.state, part.words = "failed", str(error)
            tell(session, None, "part", part=part_id)
        return
    with transaction() as session:
        part = stored(session, Part, part_id)
        part.model = model.pack()
        part.units = model.units
        part.bodies = [asdict(b) for b in model.bodies]
        part.faces = [asdict(f) for f in model.faces]
        part.state, part.share, part.words = "ready", 1.0, "Read"
        tell(session, None, "part", part=part_id)


def _progress(part_id: int, share: float, words: str) -> None:
    with transaction() as session:
        part = stored(session, Part, part_id)
        part.share, part.words = share, words


def choose_bodies(actor: Actor, job_id: int, kept: list[int]) -> None:
    """Keep some of a part's bodies on the stage; the file itself stays whole."""
    actor.must_change()
    with transaction() as session:
        part = stored(session, Job, job_id).part
        known = {b["index"] for b in part.bodies}
        if not kept or not set(kept) <= known:
            raise InputError("At least one body has to stay.", "Nothing was changed.", "Choose one or more bodies.")
        part.kept_bodies = sorted(kept)
        record(session, actor, job_id, "bodies", kept=sorted(kept))
        tell(session, job_id, "part")
