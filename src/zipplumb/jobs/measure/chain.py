"""Dimensions as one goes: a feature is finished, and what is between it and the one before stands on the sheet.

Which dimension that is, or none, is chosen from the device, like what something touched may be. It may be chosen until the
next feature is finished, or a finish settles it, or a person types what it should be.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Literal, cast

from pydantic import BaseModel
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.sheet import RowRecipe, SheetRow
from ...core.sheet.kinds.dimension import DimensionRecipe
from ...core.units import Unit, quantity_text
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..editions import edition_of, must_be_as_seen
from ..plan import derive
from ..plan.adding import add_rows, named
from ..state.recipes import recipe_of, rewrite
from ..state.results import JobResults, load

Way = Literal["", "last", "pairs"]
WAYS: dict[Way, str] = {"": "No", "last": "Each to the one before", "pairs": "In pairs"}
NONE = "none"


class Chain(BaseModel):
    """How a job's dimensions follow its features.

    ``way``: not at all, from each feature to the one before, or of every two; ``begin``: the feature that the next
    dimension begins at; ``last``: that was finished last; ``offer``: the row that may still be another, ``of`` which two.
    """

    way: Way = ""
    begin: int | None = None
    last: int | None = None
    offer: int | None = None
    of: tuple[int, int] | None = None

    @classmethod
    def of_job(cls, job: Job) -> Chain:
        return cls.model_validate(job.chain)

    def keep(self, job: Job, **changed) -> None:
        job.chain = self.model_copy(update=changed).model_dump(mode="json")


@dataclass(frozen=True)
class Offer:
    """A dimension that may still be another: its row, the features' names, and what it may be, as prompts have it."""

    row: int
    title: str
    options: tuple[tuple[str, str, bool], ...]


def set_way(actor: Actor, job_id: int, way: str, seen: str | None = None) -> str:
    """From now on; what stands on the sheet stays. Returns what is seen of it now."""
    actor.must_change()
    if way not in WAYS:
        raise InputError("That is no way of taking dimensions.", "Nothing was changed.", "Choose one on the page.")
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        before = Chain.of_job(job).way
        must_be_as_seen(edition_of(Chain.of_job(job), "way"), seen, "How dimensions are taken as one goes")
        Chain(way=way).keep(job)
        record(session, actor, job_id, "dimensions as one goes", before={"way": before}, after={"way": way})
        tell(session, job_id, "sheet", tone="moved")
        return edition_of(Chain.of_job(job), "way")


def follow(session: Session, actor: Actor, job: Job, row_id: int) -> None:
    """A feature is done: the dimension to the one before is planned, where the job wants that."""
    chain = Chain.of_job(job)
    if not chain.way or row_id == chain.last:
        return
    state = load(session, job.id)
    begin = chain.begin if chain.begin in state.sheet.index else None
    found = _between(state, (begin, row_id)) if begin is not None else []
    offer = add_rows(session, actor, job.id, named(session, job.id, [found[0].raw]))[0] if found else None
    of = (begin, row_id) if offer is not None else None
    opens = chain.way == "last" or begin is None
    chain.keep(job, begin=row_id if opens else None, last=row_id, offer=offer, of=of)


def _between(state: JobResults, of: tuple[int, int]) -> list[derive.Choice]:
    """The dimensions that two features have, in the order in which they are mostly wanted.

    Asked at every hit, and the same while these features and the system stay as they are.
    """
    if any(i not in state.sheet.index or (f := state.results[i].feature) is None or f.feature is None for i in of):
        return []
    now = of, *(state.results[i].feature for i in of), state.alignment  # the very same objects while nothing changed
    kept = state.remembered.get("between")
    if kept is None or kept[0] != now:
        kept = state.remembered["between"] = now, [c for c in derive.derived_of(state, of) if c.unit and not c.why_not]
    return kept[1]


def offered(state: JobResults) -> Offer | None:
    """The dimension that is offered now, or None: its measure is not chosen yet, and no feature is being measured."""
    chain, current = Chain.of_job(state.job), state.current
    if chain.offer is None or chain.of is None or (current is not None and _under_way(state, current)):
        return None
    row = state.row(chain.offer) if chain.offer in state.sheet.index else None  # off the sheet where none is wanted
    found = _between(state, chain.of)
    if not found or (row is not None and not _may_change(row.recipe)):
        return None
    now = NONE if row is None else cast(DimensionRecipe, row.recipe).measure
    chosen = next((c for c in found if c.key == now), None)
    first, second = (state.row(i).recipe.name for i in chain.of)
    told = ": no dimension"
    if chosen is not None:
        told = f", {chosen.words.lower()}: {quantity_text(chosen.value, _unit(chosen), state.job.units)}"
    options = [(c.key, c.words, c.key == now) for c in found]
    return Offer(chain.offer, f"{first} to {second}{told}", (*options, (NONE, "No dimension", now == NONE)))


def _unit(choice: derive.Choice) -> Unit:
    return "rad" if choice.unit == "rad" else "mm"


def _may_change(recipe: RowRecipe) -> bool:
    dimension = cast(DimensionRecipe, recipe)
    return not dimension.asked and dimension.nominal_mm is None and dimension.nominal_rad is None


def _under_way(state: JobResults, row: SheetRow) -> bool:
    """It has hits, and is not done."""
    found = state.results[row.id]
    return bool(found.hits) and not (row.finished and found.state == "done")


def step(session: Session, actor: Actor, job: Job, by: int) -> bool:
    """The next thing that it may be, or the one before. False where nothing is offered."""
    if Chain.of_job(job).offer is None:
        return False
    state = load(session, job.id)
    offer = offered(state)
    if offer is None:
        return False
    at = next((k for k, (_, _, now) in enumerate(offer.options) if now), 0)
    _choose(session, actor, job, state, offer.options[(at + by) % len(offer.options)][0])
    return True


def choose(actor: Actor, job_id: int, row_id: int, code: str) -> bool:
    """The one that a person pointed at. False where that row is not the one that is offered."""
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        if Chain.of_job(job).offer != row_id:
            return False
        state = load(session, job_id)
        offer = offered(state)
        if offer is None or code not in {each for each, _, _ in offer.options}:
            raise InputError("That is not proposed any more.", "Nothing was changed.", "Choose one that is.")
        _choose(session, actor, job, state, code)
        return True


def _choose(session: Session, actor: Actor, job: Job, state: JobResults, code: str) -> None:
    chain = Chain.of_job(job)
    assert chain.of is not None
    row = stored(session, Row, chain.offer)
    before, row.removed_at = row.recipe, datetime.now(UTC)  # so that its name is free
    session.flush()
    if code != NONE:
        raw = next(c.raw for c in _between(state, chain.of) if c.key == code)
        rewrite(row, named(session, job.id, [raw])[0])
        row.removed_at = None
    if chain.way == "pairs":  # of what has no dimension to the one before, the next has one to it
        chain.keep(job, begin=chain.last if code == NONE else None)
    record(session, actor, job.id, "choose the dimension", row=row.id, before=before, after=row.recipe, code=code)
    tell(session, job.id, "sheet", tone="moved")


def settle(session: Session, job: Job) -> bool:
    """A finish with nothing under way: what was offered stays as it is. False where nothing was."""
    chain = Chain.of_job(job)
    if chain.offer is None or offered(load(session, job.id)) is None:
        return False
    chain.keep(job, offer=None, of=None)
    tell(session, job.id, "sheet", tone="finished")
    return True


def take_back(session: Session, job: Job, row_id: int) -> None:
    """A feature is open again: it is as if it had not come yet. A dimension that is not settled goes with it."""
    chain = Chain.of_job(job)
    if chain.last != row_id:
        return
    begin = None if chain.begin == row_id else chain.begin
    if chain.of is not None:
        begin, row = chain.of[0], stored(session, Row, chain.offer)
        if _may_change(recipe_of(row)):
            row.removed_at = row.removed_at or datetime.now(UTC)
    chain.keep(job, begin=begin, last=None, offer=None, of=None)
