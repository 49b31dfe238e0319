"""Registry of calibrations and checks: what each needs before it starts, and how it evaluates its readings."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core import trials as core
from ...core.calibration import LIMIT_MM, KnownProbe, question_about
from ...core.errors import InputError
from ...core.frames import Array, Motion
from ...core.probing import ByDistance, ByTime, Taking
from ...core.readings import HitSet
from ...core.trials import Outcome
from ...core.units import length_from_text, unit_of, whole_number
from ...store.models import Instrument
from .nests import nests_read

POSE_S = 0.05  # between poses of a pivot
WANTED_HITS, WANTED_STRIPES = 60, 30
MOST_NESTS = 30
SAME_NEST_MM = 0.1  # by which a reflector that is set into its nest again may stand elsewhere
Form = Mapping[str, str]
NOTHING = "Nothing was begun."


@dataclass(frozen=True, eq=False)
class TrialInputs:
    """The inputs of a trial's evaluation besides the settings.

    ``offset_mm``, ``tip_mm``: of the calibration on the instrument; ``drawn_mm``: the probe's diameter in the
    library; ``others``: the other probes that it might be; ``rolls``: the handle has an axis of its own.
    """

    reading: HitSet
    settings: Mapping[str, Any]
    offset_mm: Array
    tip_mm: float
    drawn_mm: float
    others: Sequence[KnownProbe]
    rolls: bool

    @property
    def limit_mm(self) -> float:
        return float(self.settings["limit_mm"])


@dataclass(frozen=True)
class TrialField:
    """A field of the form with which one begins: one of ``choices``, a length ``with_unit``, or a number."""

    name: str
    words: str
    choices: tuple[str, ...] = ()
    with_unit: bool = False
    value: str = ""


@dataclass(frozen=True)
class TrialKind:
    """One calibration or check.

    Attributes
    ----------
    title, about : words
    makes : a calibration comes out, not only a verdict
    on : kinds of instrument
    outcome : of what was read so far
    settings : what its form says, beside the limit. Raises InputError
    limit_mm : of common practice; None: what the maker states
    taking : the way of taking while the button is held
    whole_press : undo takes back all that came with a press
    counts : what the large number counts
    needs_probe : a calibrated probe must be on
    scanner : it is of a scanner, not of a ball
    from_job : what its settings take from where the instrument stands. Raises InputError
    fields : what its form asks; ``short``, ``advice``: what the page of a probe says of a calibration
    again : it is taken again later, against the one with which the job began
    """

    title: str
    about: str
    makes: bool
    on: tuple[str, ...]
    outcome: Callable[[TrialInputs], Outcome]
    settings: Callable[[Form], dict[str, Any]] = field(default=lambda form: {})
    limit_mm: float | None = None
    taking: Callable[[], Taking] = field(default=lambda: ByDistance(4.0))
    whole_press: bool = False
    counts: str = "Taken"
    needs_probe: bool = True
    scanner: bool = False
    from_job: Callable[[Session, Instrument], dict[str, Any]] = field(default=lambda session, instrument: {})
    fields: tuple[TrialField, ...] = ()
    short: str = ""
    advice: str = ""
    again: bool = False


def _seat(form: Form) -> dict[str, Any]:
    if form.get("seat", "") not in core.SEATS:
        raise InputError("The seat was not chosen.", NOTHING, "Choose a cone, or a bore smaller than the ball.")
    return {"seat": form["seat"]}


def _certified(form: Form) -> dict[str, Any]:
    certified = length_from_text(form.get("certified", ""), unit_of(form, "certified"), "the certified diameter")
    asked = question_about("sphere", certified)
    if asked is not None and form.get("sure") != "1":
        raise InputError(asked.words, NOTHING, "Type the number on the sphere with its unit.")
    return {"certified_mm": certified}


def _length(form: Form) -> dict[str, Any]:
    return {"length_mm": length_from_text(form.get("length", ""), unit_of(form, "length"), "the certified length")}


def _nests(form: Form) -> dict[str, Any]:
    nests = whole_number(form.get("nests", "3"), MOST_NESTS)
    if not nests:
        raise InputError(f"The number of nests is not one from 1 to {MOST_NESTS}.", NOTHING, "Type how many there are.")
    return {"nests": nests, "before": None}


def _sphere(given: TrialInputs) -> Outcome:
    certified = given.settings["certified_mm"]
    return core.sphere_outcome(
        given.reading, certified, given.drawn_mm, given.offset_mm, WANTED_HITS, given.others, given.limit_mm
    )


def _scanner(given: TrialInputs) -> Outcome:
    start = Motion(np.eye(3), given.offset_mm)
    return core.scanner_outcome(given.reading, given.settings["certified_mm"], start, WANTED_STRIPES, given.limit_mm)


def _sphere_check(given: TrialInputs) -> Outcome:
    certified = given.settings["certified_mm"]
    return core.sphere_check_outcome(given.reading, given.offset_mm, given.tip_mm, certified, given.limit_mm, given.others)


def _reflector(given: TrialInputs) -> Outcome:
    asked = given.settings
    nests, library = [core.KnownNest(*each) for each in asked["known"]], [core.Reflector(*each) for each in asked["library"]]
    return core.reflector_outcome(given.reading, nests, core.Reflector(*asked["on"]), library, given.limit_mm)


NUMBER_ON_SPHERE = TrialField("certified", "Number on the sphere", with_unit=True)
TRIALS = {
    "pivot": TrialKind(
        "Pivot calibration", "The ball rests in a cone or a bore, and the arm swings.", True, ("arm",),
        lambda g: core.pivot_outcome(g.reading, g.settings["seat"], g.rolls, g.limit_mm),
        _seat, LIMIT_MM, lambda: ByTime(POSE_S), whole_press=True, counts="Done", needs_probe=False,
        fields=(TrialField("seat", "Seat", tuple(core.SEATS)),), short="pivot",
        advice="In a cone, or a bore smaller than the ball; a minute.",
    ),
    "sphere": TrialKind(
        "Sphere calibration", "60 hits all round a fixed reference sphere.", True, ("arm",), _sphere, _certified, LIMIT_MM,
        needs_probe=False, fields=(NUMBER_ON_SPHERE,), short="sphere",
        advice="60 hits all round a fixed sphere; after the scanner, on the same set-up.",
    ),
    "scanner": TrialKind(
        "Scanner calibration", "Stripes over the same sphere, before the probe.", True, ("arm",), _scanner, _certified,
        2 * LIMIT_MM, whole_press=True, needs_probe=False, scanner=True, fields=(NUMBER_ON_SPHERE,), short="sphere",
        advice="Stripes over a fixed sphere, before the probe.",
    ),
    "sphere_check": TrialKind(
        "Sphere check", "Nine hits on the certified sphere.", False, ("arm",), _sphere_check, _certified,
        fields=(NUMBER_ON_SPHERE,),
    ),
    "length": TrialKind(
        "Known length", "Both ends of a certified bar, three times.", False, ("arm", "tracker"),
        lambda g: core.length_outcome(g.reading, g.offset_mm, g.settings["length_mm"], g.limit_mm), _length,
        fields=(TrialField("length", "Length on the bar", with_unit=True),),
    ),
    "point": TrialKind(
        "Single point", "One seat from ten sides.", False, ("arm",),
        lambda g: core.single_point_outcome(g.reading, g.offset_mm, g.limit_mm),
    ),
    "faces": TrialKind(
        "Two faces", "Three targets, each in both faces.", False, ("tracker", "radar"),
        lambda g: core.faces_outcome(g.reading, g.limit_mm), needs_probe=False,
    ),
    "drift": TrialKind(
        "Drift nests", "The nests now, and again later.", False, ("tracker", "radar"),
        lambda g: core.drift_outcome(g.reading, g.settings["nests"], g.limit_mm, g.settings["before"]), _nests,
        needs_probe=False, fields=(TrialField("nests", "Nests", value="3"),), again=True,
    ),
    "reflector": TrialKind(
        "Which reflector", "One press in a nest that was read from here.", False, ("tracker",), _reflector,
        limit_mm=SAME_NEST_MM, from_job=nests_read,
    ),
}  # fmt: skip
