"""Words of where an uncertainty comes from."""

from __future__ import annotations

from collections.abc import Mapping

from ...core.uncertainty import Source

_WHAT = {
    "tip": "the tip's radius",
    "offset": "the probe's offset",
    "station": "where the instrument stands",
    "level": "the instrument's level",
    "temperature": "the temperature and the expansion",
    "contradiction": "the spare holds' contradiction",
}


def source_words(source: Source, names: Mapping[int, str]) -> str:
    """A source, in words; ``names`` of rows by id."""
    if source.what in ("hits", "laid") and isinstance(source.whose, int):
        row = names.get(source.whose, "a row that is gone")
        return f"hits of {row}" if source.what == "hits" else f"touches that {row} rests on"
    return _WHAT.get(source.what, source.what)
