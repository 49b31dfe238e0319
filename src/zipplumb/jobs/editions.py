"""Editions (optimistic locking): a form states which version it was filled from, so that later changes are not overwritten."""

from __future__ import annotations

import json
from typing import Any

from ..core.errors import InputError
from ..core.fingerprints import fingerprint
from ..store.models import Detail, Instrument, Probe, User

EDITED: dict[type, tuple[str, ...]] = {
    Probe: ("name", "kind", "diameter_mm", "drawn_offset_mm", "maker_states"),
    Instrument: ("name", "host", "port", "spec"),
    User: ("name", "role", "active"),
    Detail: ("recipe", "rounds", "fixed_at"),
}  # what a form of each may change


def edition_of(stored: Any, *fields: str) -> str:
    """Names the values that a form was filled with: of ``fields``, else of all that the form of such an object may change."""
    said = [getattr(stored, field) for field in fields or EDITED[type(stored)]]
    return fingerprint(json.dumps(said, sort_keys=True, default=str))


def must_be_as_seen(now: str, seen: str | None, name: str) -> None:
    """``seen``: None where nobody looked, as in a script. Raises InputError where the edition is another by now."""
    if seen is not None and seen != now:
        raise InputError(
            f"{name} was changed by somebody else since you opened it.",
            "Your change was not kept, theirs stands.",
            "Open it again, and type yours anew.",
        )
