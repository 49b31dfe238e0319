"""The kinds of instrument: what their makers state of them, and what can be done with them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import NamedTuple

AT_METRES = 3.0  # a hit of a beam is told for this distance
FACTOR = {"mm": 1.0, "µm": 1e-3, "µm/m": 1e-3, "µrad": 1e-6}
SUFFIX = {"mm": "mm", "µm": "mm", "µm/m": "mm", "µrad": "rad"}


class Stated(NamedTuple):
    """A number that a maker states: the field of its form, in words, its unit, and what is usual."""

    field: str
    words: str
    unit: str
    usual: float

    @property
    def key(self) -> str:
        """Under which it is kept, in mm or rad."""
        return f"{self.field}_{SUFFIX[self.unit]}"


@dataclass(frozen=True)
class InstrumentKind:
    """``u_hit``: the standard uncertainty (mm) of one hit, by what is stated; ``holds_probes``: probes are put on it and
    calibrated; ``usual_limit_mm``: of a check whose limit its maker does not state; ``touches_by``: the word for what
    touches or is sighted."""

    words: str
    stated: tuple[Stated, ...]
    u_hit: Callable[[Mapping[str, float]], float]
    holds_probes: bool = False
    usual_limit_mm: float = 0.06
    touches_by: str = "Sees by"


def _of_beam(spec: Mapping[str, float]) -> float:
    """The worse of along and across the beam."""
    return max(spec["range_mm"] + spec["range_per_m_mm"] * AT_METRES, spec["angle_rad"] * AT_METRES * 1000)


BEAM = (
    Stated("range", "Range", "µm", 5.0),
    Stated("range_per_m", "and per metre", "µm/m", 1.0),
    Stated("angle", "Angle", "µrad", 3.0),
    Stated("faces_limit", "Two faces, limit", "mm", 0.06),
    Stated("drift_limit", "Drift, limit", "mm", 0.06),
    Stated("length_limit", "Length, limit", "mm", 0.05),
)
ARM = (
    Stated("u_hit", "One hit, standard uncertainty", "mm", 0.012),
    Stated("point_limit", "Single point, limit", "mm", 0.05),
    Stated("length_limit", "Length, limit", "mm", 0.06),
    Stated("sphere_check_limit", "Sphere, limit", "mm", 0.05),
)
INSTRUMENT_KINDS = {
    "arm": InstrumentKind(
        "arm", ARM, lambda spec: spec["u_hit_mm"], holds_probes=True, usual_limit_mm=0.05, touches_by="Probe"
    ),
    "tracker": InstrumentKind("laser tracker", BEAM, _of_beam, touches_by="Reflector"),
    "radar": InstrumentKind("laser radar", BEAM, _of_beam),
}
