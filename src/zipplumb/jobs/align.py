"""Coordinate systems of a job."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from scipy.spatial.transform import Rotation
from sqlalchemy import select

from ..core.alignment import Alignment
from ..core.errors import InputError
from ..core.frames import Array
from ..core.sheet import kind_of
from ..store.database import stored, tell, transaction
from ..store.models import Job, Row
from .actor import Actor, record
from .planning import add_row, named
from .results import load


def plan_datum_planes(actor: Actor, job_id: int, row_ids: list[int] | None = None) -> int:
    """An alignment on three planes: those given, or those with the first three datum letters.

    The first planned alignment becomes the active one. Returns the new row's id.
    """
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        if row_ids is None:
            rows = session.scalars(select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None))).all()
            lettered = sorted((r.recipe["datum"], r.id) for r in rows if r.recipe.get("datum"))
            row_ids = [i for _, i in lettered[:3]]
        if len(set(row_ids)) < 3:
            raise InputError(
                "An alignment needs three different planes.",
                "Nothing was planned.",
                "Set datum letters A, B and C on three planes.",
            )
        names = dict(zip(("primary", "secondary", "tertiary"), row_ids, strict=True))
        return add_row(session, actor, job_id, named(session, job_id, [{"kind": "datum_planes", **names}])[0])


def places_of(alignment: Alignment | None) -> list[tuple[str, Array]]:
    """Where the part may lie, in words, and as a rotation vector, part from world; none where there is one place only."""
    if alignment is None or not alignment.others:
        return []
    found = [("as it is drawn now", alignment.part_from_world)]
    found += [(place.words, place.part_from_world) for place in alignment.others]
    return [(words, Rotation.from_matrix(motion.rotation).as_rotvec()) for words, motion in found]


def settle(actor: Actor, job_id: int, row_id: int, turn: Sequence[float]) -> None:
    """Say in which of several places that fit equally well the part lies: the one nearest to a turn, see ``places_of``."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        places = [Rotation.from_rotvec(place) for _, place in places_of(state.results[state.row(row_id).id].alignment)]
        if not places:
            raise InputError("That alignment has one place only.", "Nothing was changed.", "Look at the page again.")
        wanted = Rotation.from_rotvec(np.clip(turn, -7, 7))
        x, y, z = min(places, key=lambda place: (place * wanted.inv()).magnitude()).as_rotvec().tolist()
        settled = state.row(row_id).recipe.settled((x, y, z))
        if settled is None:
            raise InputError("That alignment has one place only.", "Nothing was changed.", "Look at the page again.")
        row = stored(session, Row, row_id)
        before, row.recipe = row.recipe, settled.model_dump(mode="json")
        record(session, actor, job_id, "edit", row=row_id, before=before, after=row.recipe)
        tell(session, job_id, "sheet", row=row_id)


def activate(actor: Actor, job_id: int, row_id: int | None) -> None:
    """Choose the coordinate system in which everything is judged; None for the instrument's own."""
    actor.must_change()
    with transaction() as session:
        row = None if row_id is None else session.get(Row, row_id)
        if row_id is not None and (
            row is None or row.job_id != job_id or row.removed_at or kind_of(row.recipe).role != "system"
        ):
            raise InputError("That row is no alignment.", "Nothing was changed.", "Choose an alignment.")
        stored(session, Job, job_id).alignment_row_id = row_id
        record(session, actor, job_id, "activate alignment", row=row_id)
        tell(session, job_id, "sheet")
