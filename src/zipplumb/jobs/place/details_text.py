"""How a detail lies, and what to turn, in words that are read from three metres."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from ...core.frames import Array
from ...core.placing import TurnPlan
from ...core.units import Units, length_text
from ...exchange.detail_table import DetailTable
from ..align.alignment_text import six_texts
from ..state.results import JobResults
from .adjuster_lines import AdjusterRecipe
from .details import PlacedDetail
from .inspection import detail_table
from .placement import Placing

AXIS = 0.999  # cosine beyond which a direction is called by its axis
SIX = ("slides along X", "slides along Y", "slides along Z", "turns about X", "turns about Y", "turns about Z")


@dataclass(frozen=True)
class TurnText:
    """``turns``: how many, in words; ``hand``: which way it is turned, seen from its head, where its thread is known; ``way``:
    where the detail goes with it; ``note``: why no more."""

    name: str
    turns: str
    hand: str
    way: str
    note: str


@dataclass(frozen=True)
class DetailText:
    """``word``: sits, close (it does, but not by more than is uncertain), move, or look; ``off``: the largest that is
    missing; ``said``: what is to be known beside; ``then``: what will be left after the turns. ``fixed``: nothing of it is
    moved any more. ``table``: how it was found and left, once it was looked at again.
    """

    id: int
    name: str
    rounds: int
    word: str
    off: str
    look: str
    turns: tuple[TurnText, ...]
    then: str
    notes: tuple[str, ...]
    six: tuple[str, ...]
    said: tuple[str, ...] = ()
    fixed: bool = False
    table: DetailTable | None = None


def detail_text(state: JobResults, now: PlacedDetail) -> DetailText:
    units, placing = state.job.units, Placing.of_job(state.job)
    found, plan = now.found, now.plan
    look = f"Look at {', '.join(now.to_see)}." if now.to_see else ""
    if now.wanted:
        look = f"Look at {' and '.join(now.wanted)} first: without {'them' if now.wanted[1:] else 'it'} a turn may spoil more."
    refused = (now.refused,) if now.refused else ()
    base = DetailText(
        now.id, now.recipe.name, now.rounds, "look", "", look, (), "", refused, (), now.said, now.fixed,
        detail_table(state, now) if now.first else None,
    )  # fmt: skip
    if now.refused or now.off_mm is None:
        return base
    off = np.linalg.norm(now.off_mm, axis=1)
    sits = plan.rests if plan is not None else bool(np.all(off <= now.zones_mm))
    notes = _notes(now, units)
    then = ""
    turns: tuple[TurnText, ...] = ()
    if plan is not None and not plan.rests:
        after = float(np.linalg.norm(plan.left_mm, axis=1).max())
        then = f"Then {length_text(after, units)} is left at most{': in' if plan.inside else '; that is not in yet'}."
        by_name = {a.name: a for a in now.recipe.adjusters}
        turns = tuple(
            TurnText(t.name, turns_text(t.turns, by_name[t.name].step), by_name[t.name].hand(t.turns),
                     way_text(by_name[t.name], t.move_mm, placing, units), "at its end" if t.at_end else "")
            for t in plan.turns
        )  # fmt: skip
        notes += _limits(plan)
    word = "sits" if sits else "close" if np.all(off <= now.zones_mm) else "move"
    return replace(
        base, word=word, off=length_text(float(off.max()), units), turns=turns, then=then,
        notes=tuple(notes), six=six_texts(found.motion, units) if found is not None else (),
    )  # fmt: skip


def turns_text(turns: float, step: float) -> str:
    """How many turns, without a sign: which way it goes says the detail itself."""
    count = abs(turns)
    if step >= 1:
        return f"{count:.0f}"
    return f"{count:.2f} turn{'' if round(count, 2) == 1 else 's'}"


def way_text(adjuster: AdjusterRecipe, move_mm: float, placing: Placing, units: Units) -> str:
    """How far, and which way, the detail goes there."""
    if move_mm == 0.0:
        return "no farther"
    direction: Array = np.sign(move_mm) * np.array(adjuster.direction, float) / np.linalg.norm(adjuster.direction)
    axis = int(np.argmax(np.abs(direction)))
    sign = "+" if direction[axis] > 0 else "-"
    words = placing.words[sign + "XYZ"[axis]] if abs(direction[axis]) > AXIS else "along it" if move_mm > 0 else "back"
    return f"{length_text(abs(move_mm), units)} {words}"


def _notes(now: PlacedDetail, units: Units) -> list[str]:
    """Notes: freedoms that the targets do not determine, and their deviations from a rigid motion."""
    notes: list[str] = []
    if now.found is None:
        return notes
    if now.found.untold.size:
        count = now.found.untold.shape[1]
        notes.append(f"So few targets leave {count} of 6 motions untold: three that are not on a line tell all.")
    left = np.linalg.norm(now.found.left_mm, axis=1)
    if len(left) > 3 and np.any(left > now.zones_mm):
        notes.append(f"The targets do not move as one: {length_text(float(left.max()), units)} is left of a rigid motion.")
    return notes


def _limits(plan: TurnPlan) -> list[str]:
    notes = []
    if plan.unmoved.size:
        loose = [SIX[int(np.argmax(np.abs(column)))] for column in plan.unmoved.T]
        notes.append(f"No adjuster does it where it {' and '.join(dict.fromkeys(loose))}.")
    if plan.fights:
        notes.append(f"Turn {', '.join(plan.fights)} together: one alone works against the others.")
    if any(t.at_end for t in plan.turns):
        notes.append(f"At the end of its way: {', '.join(t.name for t in plan.turns if t.at_end)}.")
    return notes
