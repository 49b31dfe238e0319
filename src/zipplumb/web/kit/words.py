"""Shared by the pages of the kit: the units of a person, and the words for a calibration."""

from __future__ import annotations

from datetime import datetime
from typing import cast

from flask import request, session

from ...core.units import Units, length_text, units_named
from ...store.models import Calibration

METHODS = {
    "pivot": "pivot", "sphere": "sphere, touched", "scanner": "sphere, scanned", "stated": "stated by its maker",
    "drawn": "not calibrated: as drawn",
}  # fmt: skip


def units() -> Units:
    """mm or inch, as chosen last on these pages."""
    return cast(Units, session.get("units", "mm"))


def choose_units() -> None:
    session["units"] = units_named(request.form.get("units", "")) or "mm"


def shown(mm: float | None, sign: bool = False) -> str:
    return length_text(mm, units(), sign)


def when(at: datetime | None) -> str:
    return f"{at.astimezone():%-d %b %Y, %H:%M}" if at else "–"


def from_s(at_s: float) -> str:
    return when(datetime.fromtimestamp(at_s).astimezone())


def calibration_line(cal: Calibration | None) -> str:
    """One line that can be believed or not."""
    if cal is None:
        return "no probe on it"
    if cal.method == "drawn":
        return f"{cal.probe.name}, never calibrated here"
    if cal.method == "stated":
        return f"{cal.probe.name}, as its maker states"
    return f"{cal.probe.name}, calibrated on {when(cal.made_at)} ({METHODS[cal.method]}), rms {shown(cal.rms_mm)}"
