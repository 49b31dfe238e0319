"""Details that are moved until they sit: their targets, their adjusters, and which of these to turn, round after round."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Annotated, Any

import numpy as np
from pydantic import Field, ValidationError, model_validator
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.frames import Array
from ...core.placing import Adjuster, Effect, Lies, TurnPlan
from ...core.sheet.base import Model, RowRef
from ...core.sheet.planned import Rename, renamed
from ...store.database import stored, tell, transaction
from ...store.models import Detail, Job
from ..actor import Actor, record
from ..align.guided import open_anew
from ..editions import edition_of, must_be_as_seen
from ..state.results import JobResults, load
from .adjuster_lines import AdjusterRecipe, adjusters_from
from .belongs import AtNominal, Belongs, TargetSight
from .placement import Placing

AT_NOMINAL: Mapping[str, str] = {"where": "nominal"}
FIELDS = {"name": "The name", "targets": "The targets", "belongs": "Where it belongs", "adjusters": "The list of adjusters"}


class DetailRecipe(Model):
    """``targets``: rows of places on it; ``belongs``: where these are to be; ``body``: of the part's CAD, where it is one."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    targets: Annotated[tuple[RowRef, ...], Field(min_length=1, max_length=50)]
    adjusters: Annotated[tuple[AdjusterRecipe, ...], Field(max_length=24)] = ()
    belongs: Belongs = AtNominal()
    body: Annotated[int, Field(ge=0, lt=2**31)] | None = None

    @model_validator(mode="after")
    def _told_apart(self):
        if len({a.name for a in self.adjusters}) < len(self.adjusters):
            raise ValueError("two adjusters have the same name")
        if self.belongs.under_targets:
            over = [a.under for a in self.adjusters]
            if None in over:
                raise ValueError("give the target over each: what is levelled is moved corner by corner")
            if any(abs(a.direction[2]) < max(abs(v) for v in a.direction) for a in self.adjusters):
                raise ValueError("what is levelled is moved up and down only")
            if len(set(over)) < len(over):
                raise ValueError("two adjusters are under one target")
        return self


@dataclass(frozen=True, eq=False)
class PlacedDetail:
    """A detail in its present position.

    ``seen``: rows of targets that are measured, with their places; ``to_see``: names of those that are not, and ``wanted``
    of those without which it is not said what to turn.
    ``off_mm`` (n, 3): how far each that is seen is off; ``found``: how it lies as a whole, where it moves so; ``plan``: what
    to turn, where it has adjusters and is not fixed. ``refused``: why there is no result; ``said``: what is to be known beside.
    ``first``: where targets were when it was looked at first; ``nominal``, ``first_nominal``: where they belong, now and
    then; ``zones``, mm, of all that are looked for.
    """

    id: int
    recipe: DetailRecipe
    rounds: int
    seen: Mapping[int, Array]
    to_see: tuple[str, ...]
    wanted: tuple[str, ...] = ()
    found: Lies | None = None
    off_mm: Array | None = None
    plan: TurnPlan | None = None
    refused: str = ""
    said: tuple[str, ...] = ()
    nominal: Mapping[int, Array] = field(default_factory=dict)
    first: Mapping[int, Array] = field(default_factory=dict)
    first_nominal: Mapping[int, Array] = field(default_factory=dict)
    zones: Mapping[int, float] = field(default_factory=dict)
    fixed: bool = False

    @property
    def zones_mm(self) -> Array:
        """(n,) of each that is seen."""
        return np.array([self.zones[row] for row in self.seen])


# ---- what there is -----------------------------------------------------------------------------


def details_of(session: Session, state: JobResults) -> list[PlacedDetail]:
    return [placed(state, detail) for detail in kept_of(session, state.job.id)]


def kept_of(session: Session, job_id: int) -> Sequence[Detail]:
    """The details of a job, as they are stored."""
    query = select(Detail).where(Detail.job_id == job_id, Detail.removed_at.is_(None)).order_by(Detail.id)
    return session.scalars(query).all()


def movable_bodies(session: Session, job_id: int) -> list[int]:
    """The bodies of the part's CAD that are moved."""
    return bodies_of(kept_of(session, job_id))


def bodies_of(details: Sequence[Detail]) -> list[int]:
    """The bodies of the part's CAD that these details are."""
    return [body for detail in details if (body := detail.recipe.get("body")) is not None]


def placed(state: JobResults, detail: Detail) -> PlacedDetail:
    """How a detail lies now, and what to turn, by all that was seen of it so far."""
    recipe = DetailRecipe.model_validate(detail.recipe)
    sight = recipe.belongs.sight(state, recipe.targets)
    to_see = tuple(state.row(row).recipe.name for row in sight.rows if row not in sight.seen)
    zones = {row: sight.zones_mm[row] for row in sight.rows if row in sight.zones_mm}
    base = PlacedDetail(
        detail.id, recipe, len(detail.rounds), sight.seen, to_see, refused=sight.refused, said=sight.said,
        nominal=sight.nominal, zones=zones, fixed=detail.fixed_at is not None,
    )  # fmt: skip
    if sight.refused:
        return base
    first = {row: place for row, place in _places(detail.first or {}).items() if row in sight.rows}
    if first:
        base = replace(base, first=first, first_nominal=recipe.belongs.nominal_of(first, sight))
    if not sight.seen:
        return base
    base = replace(base, found=recipe.belongs.lies(sight), off_mm=sight.off_mm())
    over = {*sight.nominal, *sight.seen}
    if not recipe.adjusters or base.fixed or any(a.under not in over for a in recipe.adjusters if a.under is not None):
        return base
    wanted = tuple(state.row(row).recipe.name for row in recipe.belongs.wanted(sight, recipe.adjusters))
    if wanted:
        return replace(base, wanted=wanted)
    effects = _effects(recipe, detail.rounds, sight)
    base = replace(base, said=(*base.said, *_against(recipe, effects, sight)))
    left = _left([sight.over(a) for a in recipe.adjusters], detail.rounds)
    return replace(base, plan=recipe.belongs.plan(sight, recipe.adjusters, left, effects))


def _places(kept: Mapping[str, Any]) -> dict[int, Array]:
    return {int(row): np.array(place, float) for row, place in kept.items()}


def _kept(places: Mapping[int, Array]) -> dict[str, Any]:
    return {str(row): np.asarray(place).tolist() for row, place in places.items()}


def _effects(recipe: DetailRecipe, rounds: list[Any], sight: TargetSight) -> Sequence[Effect]:
    """Effects of the adjusters, estimated from all rounds of turns and the positions before and after each."""
    effects: Sequence[Effect] = [Effect.stated(sight.over(a)) for a in recipe.adjusters]
    looks = [*(_places(r["seen"]) for r in rounds), sight.seen]
    for one, before, after in zip(rounds, looks, looks[1:], strict=False):
        if len(one["turns"]) == len(effects):
            effects = recipe.belongs.learned(sight, recipe.adjusters, effects, np.array(one["turns"]), before, after)
    return effects


def _against(recipe: DetailRecipe, effects: Sequence[Effect], sight: TargetSight) -> tuple[str, ...]:
    """Sentences about adjusters that moved the detail the wrong way."""
    names = [sight.over(adjuster).name for adjuster in recipe.adjusters]
    wrong = [name for name, effect in zip(names, effects, strict=True) if effect.against]
    other = [name for name, effect in zip(names, effects, strict=True) if effect.sense < 0]
    said = []
    if wrong:
        said.append(
            f"{' and '.join(wrong)} moved it against what was asked: was it turned the other way? Look before you turn."
        )
    if other:
        said.append(f"{' and '.join(other)} goes the other way than is stated: up and down are exchanged from here on.")
    return tuple(said)


def _left(adjusters: list[Adjuster], rounds: list[Any]) -> list[Adjuster]:
    """With the turns that are left of each range."""
    used = np.sum([r["turns"] for r in rounds if len(r["turns"]) == len(adjusters)], axis=0) if rounds else 0.0
    used = np.broadcast_to(used, len(adjusters)).tolist()
    return [replace(a, least=min(a.least - u, 0.0), most=max(a.most - u, 0.0)) for a, u in zip(adjusters, used, strict=True)]


# ---- acts --------------------------------------------------------------------------------------


def add(
    actor: Actor,
    job_id: int,
    name: str,
    targets: Sequence[int],
    adjusters: str,
    belongs: Mapping[str, str] = AT_NOMINAL,
    body: int | None = None,
) -> int:
    """A detail: its name, the rows of its targets, its adjusters, a line each, where it belongs, and its body in the CAD.

    Returns its id.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        state = load(session, job_id)
        names = {state.row(row).recipe.name: row for row in targets if row in state.sheet.index}
        words = Placing.of_job(job).words
        if body is not None and body not in {each["index"] for each in job.part.bodies}:
            raise InputError("The part has no such body.", "Nothing was kept.", "Choose a body of the list.")
        if body is not None and body in movable_bodies(session, job_id):
            raise InputError("That body is another detail's already.", "Nothing was kept.", "Choose another body.")
        fields = {"name": name.strip(), "targets": tuple(dict.fromkeys(targets)), "belongs": dict(belongs), "body": body}
        recipe = _recipe(**fields)
        may = {row.id for row in recipe.belongs.may_be(state)}
        if wrong := [row for row in recipe.targets if row not in may]:
            raise InputError(
                f"Row {wrong[0]} is no place {recipe.belongs.whose} of this job.", "Nothing was kept.",
                "Choose targets of the list.",
            )  # fmt: skip
        recipe = _recipe(**fields, adjusters=adjusters_from(adjusters, words, names, job.units))
        detail = Detail(job_id=job_id, recipe=recipe.model_dump(mode="json"))
        session.add(detail)
        session.flush()
        record(session, actor, job_id, "add a detail", detail=detail.id, recipe=detail.recipe)
        tell(session, job_id, "sheet")
        return detail.id


def _recipe(**raw: Any) -> DetailRecipe:
    try:
        return DetailRecipe.model_validate(raw)
    except ValidationError as error:
        what = error.errors()[0]
        field = FIELDS[str(what["loc"][0]) if what["loc"] else "adjusters"]
        reason = what["msg"].removeprefix("Value error, ")
        reason = reason[0].lower() + reason[1:]
        raise InputError(f"{field} cannot be so: {reason}.", "Nothing was kept.", "Correct it.") from None


def copied(session: Session, job_id: int, other_id: int, rename: Rename) -> None:
    """The details of a job in another that has the same rows, as nobody has seen them there yet. ``rename``: of the rows."""
    for detail in kept_of(session, job_id):
        try:
            recipe = DetailRecipe.model_validate(renamed(DetailRecipe.model_validate(detail.recipe), rename))
        except ValidationError:
            continue  # its targets are of that job alone
        session.add(Detail(job_id=other_id, recipe=recipe.model_dump(mode="json")))


def remove(actor: Actor, job_id: int, detail_id: int, seen: str | None = None) -> None:
    """Out of the page; what was measured of it stays."""
    actor.must_change()
    with transaction() as session:
        detail = _of_job(session, job_id, detail_id)
        _as_seen(detail, seen)
        detail.removed_at = datetime.now(UTC)
        record(session, actor, job_id, "remove a detail", detail=detail_id)
        tell(session, job_id, "sheet")


def turned(actor: Actor, job_id: int, detail_id: int, round_number: int) -> None:
    """It was turned as was proposed: its targets are looked at again, and what each adjuster did is learned from that.

    ``round_number``: of the proposal that the person saw.
    """
    actor.must_change()
    with transaction() as session:
        job = stored(session, Job, job_id, lock=True)
        detail = _of_job(session, job_id, detail_id)
        now = placed(load(session, job_id), detail)
        if round_number != len(detail.rounds) or now.plan is None or not now.plan.turns:
            raise InputError(
                "That proposal is not the newest any more.", "Nothing was changed.", "Look at what is proposed now."
            )
        by_name = {turn.name: turn.turns for turn in now.plan.turns}
        turns = [by_name.get(a.name, 0.0) for a in now.recipe.adjusters]
        detail.rounds = [*detail.rounds, {"turns": turns, "seen": _kept(now.seen)}]
        _look(session, actor, job, detail, now)
        record(session, actor, job_id, "turn adjusters", detail=detail_id, turns=by_name)
        tell(session, job_id, "sheet", tone="moved")


def look_again(actor: Actor, job_id: int, detail_id: int) -> None:
    """Its targets are measured anew; nothing was turned on purpose."""
    actor.must_change()
    with transaction() as session:
        job, detail = stored(session, Job, job_id, lock=True), _of_job(session, job_id, detail_id)
        _look(session, actor, job, detail, placed(load(session, job_id), detail))
        record(session, actor, job_id, "look at a detail again", detail=detail_id)
        tell(session, job_id, "sheet", tone="moved")


def fix(actor: Actor, job_id: int, detail_id: int, seen: str | None = None) -> None:
    """It is fixed: nothing of it is to be turned any more, and its targets are measured as it was left."""
    actor.must_change()
    with transaction() as session:
        job, detail = stored(session, Job, job_id, lock=True), _of_job(session, job_id, detail_id)
        now = placed(load(session, job_id), detail)
        if detail.fixed_at is not None:
            raise InputError("It is fixed already.", "Nothing was changed.", "Measure its targets, or loosen it.")
        _as_seen(detail, seen)
        if now.refused or now.to_see or not now.seen:
            raise InputError(
                "Not all of its targets are seen.", "Nothing was changed.", now.refused or f"Look at {', '.join(now.to_see)}."
            )
        detail.fixed_at = datetime.now(UTC)
        _look(session, actor, job, detail, now)
        record(session, actor, job_id, "fix a detail", detail=detail_id)
        tell(session, job_id, "sheet", tone="moved")


def loosen(actor: Actor, job_id: int, detail_id: int, seen: str | None = None) -> None:
    """It is moved again."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        detail = _of_job(session, job_id, detail_id)
        _as_seen(detail, seen)
        detail.fixed_at = None
        record(session, actor, job_id, "loosen a detail", detail=detail_id)
        tell(session, job_id, "sheet")


def _look(session: Session, actor: Actor, job: Job, detail: Detail, now: PlacedDetail) -> None:
    """Its targets are to be measured anew; where they were at first is kept."""
    detail.first = _kept(now.seen) | (detail.first or {})
    for row in now.seen:
        open_anew(session, actor, row)
    first = next(iter(now.seen), None)
    if first is not None:
        job.current_row_id, job.touching = first, ""


def _as_seen(detail: Detail, seen: str | None) -> None:
    must_be_as_seen(edition_of(detail), seen, detail.recipe["name"])


def _of_job(session: Session, job_id: int, detail_id: int) -> Detail:
    detail = stored(session, Detail, detail_id, lock=True)
    if detail.job_id != job_id or detail.removed_at is not None:
        raise InputError("That detail is not in this job any more.", "Nothing was changed.", "Choose another.")
    return detail
