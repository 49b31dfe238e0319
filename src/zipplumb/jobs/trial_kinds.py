"""What calibrations and checks there are."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Kind:
    """``makes``: a calibration comes out, not only a verdict; ``on``: kinds of instrument; ``minutes``: what it takes."""

    title: str
    makes: bool
    on: tuple[str, ...]
    about: str


KINDS = {
    "pivot": Kind("Pivot calibration", True, ("arm",), "The ball rests in a cone or a bore, and the arm swings."),
    "sphere": Kind("Sphere calibration", True, ("arm",), "60 hits all round a fixed reference sphere."),
    "scanner": Kind("Scanner calibration", True, ("arm",), "Stripes over the same sphere, before the probe."),
    "sphere_check": Kind("Sphere check", False, ("arm",), "Nine hits on the certified sphere."),
    "length": Kind("Known length", False, ("arm", "tracker"), "Both ends of a certified bar, three times."),
    "point": Kind("Single point", False, ("arm",), "One seat from ten sides."),
    "faces": Kind("Two faces", False, ("tracker", "radar"), "Three targets, each in both faces."),
    "drift": Kind("Drift nests", False, ("tracker", "radar"), "The nests now, and again later."),
}
