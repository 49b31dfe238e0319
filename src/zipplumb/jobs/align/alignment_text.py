"""Alignments in words: which feature holds which freedom, how well the pose is known, what another alignment would change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from ...core.alignment import Alignment
from ...core.alignment.ledger import Freedom, HoldLedger
from ...core.alignment.reference_points import EXPANSION, REFERENCE_C
from ...core.alignment.steps import difference
from ...core.frames import Array
from ...core.sameness import Layered
from ...core.sheet import RowResult, SheetRow
from ...core.sheet.bases.systems import SystemRecipe
from ...core.sheet.results import COVERAGE
from ...core.units import Units, degrees_text, length_text, quantity_text
from ..state.results import JobResults
from ..words import words_for

FREE, MOST_NAMED = 6, 3
COLDEST_C, HOTTEST_C = 5.0, 40.0  # of a shop
NARROW = 0.4  # of the part's extent
MOST_COMPARED = 40  # rows, those that change the most


@dataclass(frozen=True)
class FreedomText:
    """One of the six. ``axis``: X, Y or Z; ``turns``: or else it slides; ``by``: who holds it, with shares."""

    axis: str
    turns: bool
    grip: str
    words: str
    by: str
    u: str


@dataclass(frozen=True)
class Sway:
    """A motion that nothing holds, or hardly anything does: six numbers about the part's origin, mm and rad."""

    words: str
    motion: tuple[float, ...]
    loose: bool


@dataclass(frozen=True)
class Left:
    """The residuals of one row in the directions it holds. ``off``: the largest, as text."""

    name: str
    off: str
    each: str


@dataclass(frozen=True, eq=False)
class AlignmentText:
    """One alignment for its page."""

    row: SheetRow
    noun: str
    active: bool
    message: str
    worth: str = ""
    verdict: str = ""
    proven: bool = False
    freedoms: tuple[FreedomText, ...] = ()
    sways: tuple[Sway, ...] = ()
    squareness: tuple[tuple[str, str, str, str], ...] = ()
    left: tuple[Left, ...] = ()
    difference: tuple[str, ...] = ()
    against: str = ""
    worst: str = ""
    worst_at: tuple[float, ...] = ()
    scale: str = ""
    covers: str = ""
    checks: bool = False


def alignment_text_of(state: JobResults, row: SheetRow) -> AlignmentText:
    found, units = state.results[row.id], state.job.units
    base = AlignmentText(row, words_for(row.recipe).noun, row.id == state.job.alignment_row_id, found.message)
    alignment = found.alignment
    if alignment is None or found.system is None:
        return base
    ledger, worst = alignment.ledger, _worst(state, row.id, alignment)
    sways = [Sway(loose.words, six_of(loose.motion), True) for loose in ledger.loose]
    if ledger.weak is not None:
        sways.append(Sway(ledger.weak.words, six_of(ledger.weak.motion), False))
    against = row.recipe.seen_from
    place, u = worst if worst is not None else (None, 0.0)
    return AlignmentText(
        row, base.noun, base.active, found.message, worth(state, row.id), ledger.verdict,
        not alignment.doubt and ledger.spare > 0 and ledger.rank == FREE,
        freedom_texts(ledger, units), tuple(sways),
        tuple(
            (f"{s.first} to {s.second}", degrees_text(s.error_rad), length_text(s.over_mm, units), s.went_to)
            for s in alignment.squareness
        ),
        _left(alignment, units),
        () if found.system.difference is None else six_texts(found.system.difference, units),
        state.row(against).recipe.name if against else "",
        "" if place is None else length_text(COVERAGE * u, units),
        () if place is None else tuple(round(float(v), 3) for v in place),
        "" if alignment.scale == 1.0 else _scale_words(alignment),
        _covers(alignment.rests_at, state.reach), len(state.reach) > 0,
    )  # fmt: skip


def _covers(rests_at: Array, reach: Array) -> str:
    """How much of the part's length, width and height some places on it span."""
    if not len(rests_at) or not len(reach):
        return ""
    shares = np.clip(np.ptp(rests_at, axis=0) / np.maximum(np.ptp(reach, axis=0), 1e-9), 0, 1)
    told = ", ".join(f"{100 * share:.0f} % in {axis}" for axis, share in zip("XYZ", shares, strict=True))
    narrow = [axis for axis, share in zip("XYZ", shares, strict=True) if share < NARROW]
    more = f" Touch farther apart in {' and '.join(narrow)}: what lies beyond follows by its turns alone." if narrow else ""
    return f"The touches span the part by {told}.{more}"


def at_20_words(recipe: SystemRecipe) -> str:
    """The sentence that lengths are stated at 20 °C, and what for; "" where they are as they were."""
    warm = recipe.measured_warm
    return "" if warm is None else f"at 20 °C ({warm.material}, measured at {warm.temperature_c:g} °C)"


def _scale_words(alignment: Alignment) -> str:
    """The scale, and what it would say about the temperature were the part of some material: plausible, or not."""
    scale = alignment.scale
    told = f"Lengths are taken times {scale:.7f}."
    if alignment.uncertainty.size < 7:
        return told
    u = COVERAGE * float(np.sqrt(alignment.covariance[6, 6]))
    told = f"Lengths are taken times {scale:.7f} ± {u:.7f}."
    warm = {name: REFERENCE_C + (1 / scale - 1) / (alpha * 1e-6) for name, alpha in EXPANSION.items()}
    likely = [f"{name} at {t:.1f} °C" for name, t in warm.items() if COLDEST_C <= t <= HOTTEST_C]
    if not likely:
        return f"{told} No metal asks for that in a shop: look at the list's unit, and at a point that moved."
    return f"{told} That would be {', '.join(likely[:MOST_NAMED])}."


def worth(state: JobResults, row_id: int) -> str:
    """In a few words: how many freedoms are held, how many holds are spare, and how well the part's place is known at worst."""
    alignment = state.results[row_id].alignment
    if alignment is None:
        return "not solved yet"
    worst = _worst(state, row_id, alignment)
    return worth_of(alignment, None if worst is None else worst[1], state.job.units)


def worth_of(alignment: Alignment, worst_mm: float | None, units: Units) -> str:
    """Summary of the quality of an alignment in a few words. ``worst_mm``: standard uncertainty at the worst known place, or
    None."""
    ledger = alignment.ledger
    held = f"{ledger.rank} of {FREE}"
    if ledger.rank < FREE:
        return f"{held}: loose"
    if alignment.doubt:
        return f"{held}: in doubt"
    if not ledger.spare:
        return f"{held}, 0 spare: unproven"
    known = "" if worst_mm is None else f", U {length_text(COVERAGE * worst_mm, units)}"
    return f"{held}, {ledger.spare} spare{known}"


def proofs_of(state: JobResults) -> list[tuple[str, str]]:
    """Proof points in the active alignment, each with its deviation."""
    found = []
    for row in state.measured:
        off = state.results[row.id].off_part
        if row.recipe.rests_on_surfaces and off is not None:
            found += [
                (f"{row.recipe.name}, {k}", length_text(float(v), state.job.units, sign=True)) for k, v in enumerate(off, 1)
            ]
    return found


def known_at(state: JobResults, row_id: int, point_part: Sequence[float]) -> str:
    """How well a place of the part is known in an alignment."""
    alignment = state.results[state.row(row_id).id].alignment
    if alignment is None:
        return ""
    if alignment.ledger.rank < FREE:
        return "loose"
    u = float(alignment.u_at(np.clip(np.array(point_part, float), -1e6, 1e6))[0])
    return f"U {length_text(COVERAGE * u, state.job.units)} here"


def _worst(state: JobResults, row_id: int, alignment: Alignment) -> tuple[Array, float] | None:
    """Where on the part its place is known worst, and the standard uncertainty there; None where it is loose.

    Kept with the job while the alignment is the same.
    """
    kept = state.remembered.setdefault("worst", {})
    if row_id in kept and kept[row_id][0] is alignment:
        return kept[row_id][1]
    found = None
    if len(state.reach) and alignment.ledger.rank == FREE:
        u = alignment.u_at(state.reach)
        found = state.reach[int(np.argmax(u))], float(u.max())
    kept[row_id] = alignment, found
    return found


def freedom_texts(ledger: HoldLedger, units: Units) -> tuple[FreedomText, ...]:
    return tuple(_freedom(f, units) for f in ledger.freedoms)


def _freedom(freedom: Freedom, units: Units) -> FreedomText:
    several, more = len(freedom.shares) > 1, len(freedom.shares) - MOST_NAMED
    by = ", ".join(f"{name} {100 * share:.0f} %" if several else name for name, share in freedom.shares[:MOST_NAMED])
    by += f" and {more} more" if more > 0 else ""
    turns = freedom.name.startswith("turns")
    u = "" if freedom.grip == "loose" else quantity_text(COVERAGE * freedom.u, "rad" if turns else "mm", units)
    return FreedomText(freedom.name[-1], turns, freedom.grip, freedom.name, by or "nothing", u)


def _left(alignment: Alignment, units: Units) -> tuple[Left, ...]:
    """The residuals by row, the worst first; of a scan its spread alone."""
    rows = sorted(alignment.residuals.items(), key=lambda item: -float(np.abs(item[1]).max(initial=0.0)))
    return tuple(
        Left(name, length_text(float(np.abs(values).max(initial=0.0)), units), _each(values, units))
        for name, values in rows[:MOST_COMPARED]
    )


def _each(values: Array, units: Units) -> str:
    if len(values) > FREE:
        return f"{len(values)} places"
    return " ".join(length_text(float(v), units, sign=True) for v in values)


def six_texts(six: Array, units: Units) -> tuple[str, ...]:
    """A small motion: three lengths and three angles."""
    return (*(length_text(float(v), units, sign=True) for v in six[:3]), *(degrees_text(float(v), sign=True) for v in six[3:]))


def six_of(motion: Array) -> tuple[float, ...]:
    """A small motion as six numbers for the stage."""
    return tuple(float(f"{v:.6g}") for v in motion)


# ---- two compared -----------------------------------------------------------------------------


@dataclass(frozen=True)
class RowChange:
    """The first characteristic of a row in both systems."""

    name: str
    label: str
    before: str
    after: str
    by: str
    word_before: str
    word_after: str


@dataclass(frozen=True)
class Comparison:
    """``six``: how the part lies in the one, seen from the other; none where one is not solved."""

    six: tuple[str, ...]
    changes: tuple[RowChange, ...]
    alike: int
    message: str = ""


def compared(
    state: JobResults, before: Layered[int, RowResult], after: Layered[int, RowResult], one: int | None, other: int | None
) -> Comparison:
    """Two states of the same rows. ``one``, ``other``: the alignments' rows, None for the instrument's own system."""
    was = before[one].alignment if one else None
    now = after[other].alignment if other else None
    message = after[other].message if other and now is None else ""
    six = six_texts(difference(now.part_from_world, was.part_from_world), state.job.units) if was and now else ()
    found: list[tuple[float, RowChange]] = []
    alike = 0
    for row in state.rows:
        change = _change(state, row, before[row.id], after[row.id])
        if change is None:
            alike += 1
        else:
            found.append(change)
    found.sort(key=lambda pair: -pair[0])
    return Comparison(six, tuple(change for _, change in found[:MOST_COMPARED]), alike, message)


def _change(state: JobResults, row: SheetRow, was: RowResult, now: RowResult) -> tuple[float, RowChange] | None:
    """The characteristic that changes the most; None where all that is shown stays as it is."""
    largest: tuple[float, RowChange] | None = None
    before = {c.key: c for c in was.characteristics}
    for after in now.characteristics:
        had, unit = before.get(after.key), after.unit
        factor = row.recipe.share_of(after.key)

        def shown(value: float | None, held: bool, unit=unit, factor=factor) -> str:
            return "held" if held else "–" if value is None else quantity_text(factor * value, unit, state.job.units, True)

        texts = [shown(None if c is None else c.deviation, c is not None and c.held) for c in (had, after)]
        if texts[0] == texts[1]:
            continue
        both = had is not None and had.deviation is not None and after.deviation is not None
        size = abs(after.deviation - had.deviation) if both else np.inf  # type: ignore[operator, union-attr]
        if largest is None or size > largest[0]:
            by = shown(after.deviation - had.deviation, False) if both else ""  # type: ignore[operator, union-attr]
            words = [c.verdict.word if c is not None and c.verdict else "" for c in (had, after)]
            label = words_for(row.recipe).label(row.recipe, after.key)
            largest = size, RowChange(row.recipe.name, label, texts[0], texts[1], by, words[0], words[1])
    return largest
