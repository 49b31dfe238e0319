"""Trust in an instrument: what has happened since its last passed check, and which check is due."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

HOURS, DEGREES_C = 12.0, 2.0
HAPPENED = {
    "knock": "it was knocked",
    "head_off": "the head was off",
    "head_on": "the head was put on again",
}


@dataclass(frozen=True)
class LastFoundGood:
    """When the kit was last found good (s since 1970), by what, and at what temperature."""

    at_s: float
    by: str
    temperature_c: float | None


@dataclass(frozen=True)
class Happening:
    """Something that shook trust: one of HAPPENED, at a time (s since 1970)."""

    what: str
    at_s: float


def due(
    now_s: float,
    good: LastFoundGood | None,
    happenings: Sequence[Happening],
    temperature_c: float | None,
    job_began_s: float | None = None,
) -> tuple[str, ...]:
    """Why a check is due, in sentences; none where the kit may be believed.

    ``job_began_s``: when this job began; a check before that does not count for it.
    """
    if good is None:
        return ("It has never been calibrated or checked.",)
    found = []
    for what in dict.fromkeys(h.what for h in happenings if h.at_s > good.at_s):
        if not (what == "head_off" and any(h.what == "head_on" and h.at_s > good.at_s for h in happenings)):
            found.append(f"Since it was last found good, {HAPPENED.get(what, what)}.")
    if now_s - good.at_s > HOURS * 3600:
        found.append(f"It was last found good {(now_s - good.at_s) / 3600:.0f} hours ago; {HOURS:.0f} are the limit.")
    if temperature_c is not None and good.temperature_c is not None and abs(temperature_c - good.temperature_c) > DEGREES_C:
        change = temperature_c - good.temperature_c
        way = "warmer" if change > 0 else "colder"
        found.append(f"It is {abs(change):.1f} °C {way} than when it was last found good; {DEGREES_C:.0f} °C are the limit.")
    if job_began_s is not None and good.at_s < job_began_s:
        found.append("This job has begun since: check the kit once before you measure.")
    return tuple(found)
