"""A plan that proves: asked for, worked out by a worker, shown as a difference, and taken over row by row."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from math import isfinite
from typing import Any, cast

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from ...core.errors import InputError
from ...core.frames import Array
from ...core.sheet import MeasuredRecipe, SheetRow
from ...core.sheet.proving.planning import ProvingPlan, plan_that_proves
from ...core.sheet.proving.rehearsal import ExpectedTouches
from ...core.sheet.proving.way import Work
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ...store.proofs import ProofPlan
from ..actor import Actor, record
from ..queue import defer, said_where_it_fails
from ..rehearsal import MOST_HITS, Rehearsal, rehearsal_of, some_of
from ..state.recipes import changed, recipe_of
from ..state.results import JobResults, load
from .work import work_of

NOTHING = "Nothing was planned."
USED = 0.75  # of its tolerance, that a part uses where nothing is said
MOST_ROWS = 300


def ask(actor: Actor, job_id: int, instrument_id: int, used: float, far_mm: float, high_mm: float, orders: bool = False) -> int:
    """Have a plan worked out. Returns its id.

    Parameters
    ----------
    used : the share of its tolerance that a part uses that is still to be proven
    far_mm, high_mm : how far off the part an instrument may stand that sees it from afar, and how high
    orders : the other orders of the datums are compared too
    """
    actor.must_change()
    if not 0 <= used < 1:
        raise InputError("A part that uses all of its tolerance is never proven.", NOTHING, "Type a share under 100 %.")
    if not 0 < far_mm < 1e5 or abs(high_mm) > 1e5:
        raise InputError("Nobody stands so far off.", NOTHING, "Type how far from the part, and how high.")
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        if session.scalar(select(ProofPlan.id).where(ProofPlan.job_id == job_id, ProofPlan.state == "making").limit(1)):
            raise InputError("A plan is being worked out.", NOTHING, "Wait until it is there.")
        rehearsal_of(session, load(session, job_id), instrument_id, MOST_ROWS)  # what can be said at once
        asked = {"instrument": instrument_id, "used": used, "far_mm": far_mm, "high_mm": high_mm, "orders": orders}
        plan = ProofPlan(job_id=job_id, by=actor.id, asked=asked)
        session.add(plan)
        session.flush()
        defer(session, "plan_proof", plan_id=plan.id)
        return plan.id


def has_orders(state: JobResults) -> bool:
    """The datums of its active alignment have an order of precedence."""
    row = state.sheet.alignment
    return row is not None and next(state.row(row).recipe.other_orders, None) is not None


def work_out(plan_id: int) -> None:
    """Work a plan out, and keep it (in the worker)."""

    def fail(message: str) -> None:
        _write(plan_id, state="failed", message=message)

    with said_where_it_fails("a plan that proves", fail, "It could not be worked out. The sheet is as it was."):
        with transaction() as session:
            plan = stored(session, ProofPlan, plan_id)
            job_id = plan.job_id
            state = load(session, job_id)
            there = rehearsal_of(session, state, plan.asked["instrument"], MOST_ROWS)
            asked, work = plan.asked, work_of(state)
        found = _best(there, asked, work, lambda share: _write(plan_id, share=share))
        _write(plan_id, state="ready", share=1.0, found=found)


def left(plan_id: int) -> None:
    """No try came to an end."""
    _write(plan_id, state="failed", message="It could not be worked out, however often it was tried. The sheet is as it was.")


def _write(plan_id: int, **values: Any) -> None:
    with transaction() as session:
        session.execute(update(ProofPlan).where(ProofPlan.id == plan_id).values(**values))


def _best(there: Rehearsal, asked: Mapping[str, Any], work: Work, told: Callable[[float], None]) -> dict[str, Any]:
    """From the place from which the most is proven, in the least time."""
    polar = there.instrument.stated is not None
    stands = there.stands(asked["far_mm"], asked["high_mm"]) if polar else [there.box.mean(axis=0)]
    others = there.in_other_orders() if asked.get("orders") else []
    count = len(stands) + len(others)

    def from_(there: Rehearsal, stand: Array, before: int) -> ProvingPlan:
        return _from(there, stand, asked["used"], polar, lambda share: told((before + share) / count))

    tried = [(stand, from_(there, stand, k)) for k, stand in enumerate(stands)]
    stand, plan = min(tried, key=lambda each: (-each[1].proven, -len(each[1].proofs), _takes_s(each[1], work)))
    ordered = [(each, from_(each, stand, len(stands) + k)) for k, each in enumerate(others)]
    return {
        "orders": [
            {"datums": each.datums, "proven": by.proven, "hits": by.hits, "takes_s": _takes_s(by, work)}
            for each, by in ([(there, plan), *ordered] if ordered else [])
        ],
        "stands": [
            {"at": at.round(1).tolist(), "proven": each.proven, "hits": each.hits, "takes_s": _takes_s(each, work)}
            for at, each in tried
        ] if polar else [],
        "stand": stand.round(1).tolist(),
        "rows": {str(row): _spots(there, each) for row, each in plan.touched.items()},
        "aimed": [str(row) for row, each in plan.touched.items() if len(each.centers) > least_hits(there.state.row(row))],
        "unseen": sorted(there.places.keys() - plan.touched.keys()),
        "borrowed": sorted(borrowed_by(there, stand)) if polar else [],
        "proofs": {
            str(row): {"key": proof.key, "U": proof.U if isfinite(proof.U) else None, "wanted": proof.wanted,
                       "source": list(proof.source) if proof.source is not None else None}
            for row, proof in plan.proofs.items()
        },
        "takes_s": _takes_s(plan, work),
    }  # fmt: skip


def _takes_s(plan: ProvingPlan, work: Work) -> float:
    return plan.hits * work.hit_s + len(plan.touched) * work.row_s


def _spots(there: Rehearsal, touches: ExpectedTouches) -> list[list[float]]:
    """On the surface, in the part."""
    return (touches.centers - there.instrument.tip_radius_mm * touches.outward).round(4).tolist()


def _from(there: Rehearsal, stand: Array, used: float, polar: bool, told: Callable[[float], None]) -> ProvingPlan:
    """What the alignment rests on is taken as another place sees it, where this one does not."""
    places, borrowed = dict(there.places), borrowed_by(there, stand) if polar else frozenset()
    if polar:
        seen = {row: each if row in borrowed else there.seen_of(each, stand) for row, each in places.items()}
        places = {row: each for row, each in seen.items() if len(each.centers)}
    least = {row: some_of(there.state.row(row), each, least_hits(there.state.row(row))) for row, each in places.items()}
    places = {row: each if there.state.row(row).recipe.takes_more else least[row] for row, each in places.items()}
    return plan_that_proves(lambda touched: there.found(touched, stand), places, least, stand, used, told)


def borrowed_by(there: Rehearsal, stand: Array) -> frozenset[int]:
    """Rows on which the alignment rests and that a place does not see at all."""
    active = there.state.sheet.alignment
    needed = [] if active is None else [row for row in there.rests_on(active) if row in there.places]
    return frozenset(row for row in needed if not len(there.seen_of(there.places[row], stand).centers))


def least_hits(row: SheetRow) -> int:
    """By so many hits a row is measured at least: by good practice, else as it is planned."""
    return min(row.recipe.practice_hits or row.recipe.wanted_hits, MOST_HITS)


def newest(session: Session, job_id: int) -> ProofPlan | None:
    """The plan that was asked for last."""
    mine = select(ProofPlan).where(ProofPlan.job_id == job_id).order_by(ProofPlan.id.desc()).limit(1)
    return session.scalar(mine)


def take_over(actor: Actor, job_id: int, plan_id: int, rows: Sequence[int]) -> int:
    """Give rows the hits of a plan. Those that are measured, or gone, stay as they are. Returns how many have changed."""
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        plan = session.get(ProofPlan, plan_id)
        if plan is None or plan.job_id != job_id or plan.found is None:
            raise InputError("That plan is not there any more.", NOTHING, "Have one worked out.")
        kept = {row.id: row for row in session.scalars(select(Row).where(Row.job_id == job_id, Row.removed_at.is_(None)))}
        recipes = {row: recipe_of(kept[row]) for row in rows if row in kept and kept[row].finished_at is None}
        wanted = {row: cast(MeasuredRecipe, r) for row, r in recipes.items() if r.takes_more and str(row) in plan.found["rows"]}
        if not wanted:
            raise InputError("None of these rows can take its hits from it.", NOTHING, "Choose rows that are not measured.")
        for row, recipe in wanted.items():
            spots = plan.found["rows"][str(row)]
            changed(kept[row], **recipe.asking(len(spots), spots if str(row) in plan.found["aimed"] else []))
        before = {str(row): recipe.wanted_hits for row, recipe in wanted.items()}
        record(session, actor, job_id, "take a plan that proves over", plan=plan_id, rows=list(wanted), before=before)
        plan.state = "taken"
        tell(session, job_id, "sheet")
        return len(wanted)
