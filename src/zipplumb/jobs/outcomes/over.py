"""The pieces of a job together: each characteristic as a run over them, with what it says of the process."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import lru_cache

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.pieces.capability import Capability, capability
from ...core.pieces.run import Run, run_of
from ...core.units import Unit
from ...exchange.symbols import SYMBOL_OF
from ...store.models import Job
from ...store.pieces import Outcome
from .kept import keep, outcomes_of

MOST_PIECES = 500  # the newest, of which is told together
STATISTICS_KEPT = 20_000


@dataclass(frozen=True)
class Piece:
    """``words``: how many rows stand how; None while that is worked out."""

    id: int
    called: str
    identity: tuple[tuple[str, str], ...]
    begun: datetime
    words: dict[str, int] | None

    @property
    def word(self) -> str:
        """The worst of its rows."""
        there = self.words or {}
        return next((word for word in ("out", "not proven", "close", "in", "done") if there.get(word)), "to do")

    @property
    def shape(self) -> str:
        return SYMBOL_OF[self.word]


@dataclass(frozen=True)
class Found:
    """Of one piece: ``at`` is its place among them; ``U`` None where it is not known."""

    at: int
    value: float
    U: float | None
    word: str


@dataclass(frozen=True)
class Characteristic:
    """One characteristic of a row of the plan over the pieces.

    ``found``: deviations, or, where there is no nominal, what it is; mm or rad, as ``unit`` says. ``lower``, ``upper``: of the
    newest piece; ``limits_differ``: others had others. ``is_zone``: it is the width of a zone, which is never below zero.
    """

    row: int
    name: str
    label: str
    unit: Unit
    nominal: float | None
    lower: float | None
    upper: float | None
    limits_differ: bool
    is_zone: bool
    found: tuple[Found, ...]
    run: Run
    capability: Capability

    @property
    def out(self) -> int:
        return sum(each.word == "out" for each in self.found)

    @property
    def judged(self) -> bool:
        return self.lower is not None or self.upper is not None


@dataclass(frozen=True)
class Together:
    """``pieces``: in the order in which they were begun; ``characteristics``: in the order of the newest plan."""

    pieces: tuple[Piece, ...]
    characteristics: tuple[Characteristic, ...]

    def with_only(self, characteristics: Collection[Characteristic]) -> Together:
        return Together(self.pieces, tuple(characteristics))

    @property
    def waiting(self) -> int:
        """Pieces of which it is still worked out what was found."""
        return sum(each.words is None for each in self.pieces)


def pieces_of(session: Session, job_id: int) -> list[Job]:
    """All pieces of the job to which one belongs, in the order in which they were begun; removed ones are not of them."""
    of_job = select(Job.of_job).where(Job.id == job_id).scalar_subquery()
    newest = select(Job).where(Job.of_job == of_job, Job.removed_at.is_(None)).order_by(Job.id.desc()).limit(MOST_PIECES)
    return list(session.scalars(newest))[::-1]


def together(session: Session, job_id: int, at_once: bool = False) -> Together:
    """``at_once``: what is not kept is worked out now, and not left to the worker."""
    there = pieces_of(session, job_id)
    kept = outcomes_of(session, [piece.id for piece in there])
    if at_once:
        kept |= {piece.id: keep(session, piece.id) for piece in there if piece.id not in kept}
    pieces = tuple(_piece(piece, number, kept.get(piece.id)) for number, piece in enumerate(there, start=1))
    return Together(pieces, tuple(_characteristics([kept.get(piece.id) for piece in there])))


def _piece(job: Job, number: int, outcome: Outcome | None) -> Piece:
    identity = tuple((name, value) for name, value in job.identity)
    return Piece(job.id, job.serial or str(number), identity, job.created_at, None if outcome is None else outcome.words)


def _characteristics(outcomes: Sequence[Outcome | None]) -> list[Characteristic]:
    by_key: dict[tuple[int, str, str], list[tuple[int, dict, dict]]] = {}
    order: dict[tuple[int, str, str], None] = {}
    for at, outcome in reversed(list(enumerate(outcomes))):
        for row in outcome.rows if outcome is not None else ():
            for raw in row["chars"]:
                key = row["row"], raw["of"], raw["key"]
                order.setdefault(key)
                by_key.setdefault(key, []).append((at, row, raw))
    made = (_over(key[0], by_key[key][::-1]) for key in order)
    return [each for each in made if each is not None]


def _over(row_id: int, seen: list[tuple[int, dict, dict]]) -> Characteristic | None:
    """``seen``: place of the piece, row and characteristic, as kept; None where no piece has a number to be told."""
    _, row, newest = seen[-1]
    told = "actual" if newest["nominal"] is None else "deviation"  # which what holds the part has none of
    found = tuple(Found(at, raw[told], raw["U"], raw["word"]) for at, _, raw in seen if raw[told] is not None)
    if not found:
        return None
    lower, upper = newest["lower"], newest["upper"]
    is_zone = newest["nominal"] == 0 and lower is None and upper is not None and all(each.value >= 0 for each in found)
    run, said = _statistics(tuple(each.value for each in found), lower, upper, is_zone)
    differ = any((raw["lower"], raw["upper"]) != (lower, upper) for _, _, raw in seen)
    return Characteristic(
        row_id, row["name"], newest["label"], newest["unit"], newest["nominal"], lower, upper, differ, is_zone, found, run, said
    )  # fmt: skip


@lru_cache(STATISTICS_KEPT)
def _statistics(
    values: tuple[float, ...], lower: float | None, upper: float | None, is_zone: bool
) -> tuple[Run, Capability]:  # fmt: skip
    """Tests of trend and of distribution take most of a look at the pieces, and few numbers change from one to the next."""
    run = run_of(values)
    return run, capability(run, lower, upper, zero_bounded=is_zone)


def judged_first(found: Collection[Characteristic]) -> list[Characteristic]:
    """What is judged before the rest, what is worst first among these: by what is out, then by how little room there is."""
    return sorted(found, key=lambda c: (not c.judged, -c.out, _room(c)))


def _room(found: Characteristic) -> float:
    """From the mean to the nearer limit, in standard deviations of the pieces."""
    s = found.run.s
    if not s or s != s:
        return float("inf")
    reaches = [found.run.mean - found.lower] if found.lower is not None else []
    reaches += [found.upper - found.run.mean] if found.upper is not None else []
    return min(reaches, default=float("inf")) / s
