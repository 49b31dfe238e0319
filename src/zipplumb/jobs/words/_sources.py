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


_OF_ROW = {
    "hits": "hits of {}",
    "plane hits": "hits of the plane of {}",
    "laid": "touches or light that {} rests on",
    "form": "the part's own form, where {} is laid on it",
    "edges": "where between two points of light the edges of {} lie",
}


def source_words(source: Source, names: Mapping[int, str]) -> str:
    """A source, in words; ``names`` of rows by id."""
    if source.what in _OF_ROW and isinstance(source.whose, int):
        return _OF_ROW[source.what].format(names.get(source.whose, "a row that is gone"))
    return _WHAT.get(source.what, source.what)


_REMEDY = {
    "hits": "four times as many hits on {}", "plane hits": "four times as many hits on the plane of {}",
    "laid": "four times as many touches for {}", "tip": "a tip's radius known twice as well",
    "offset": "a probe's offset known twice as well", "station": "a station known twice as well",
    "level": "a level twice as good", "temperature": "a temperature known twice as well",
    "form": "a part whose form is known to be half as far off under {}", "edges": "points of light half as far apart on {}",
}  # fmt: skip


def remedy_words(source: Source, names: Mapping[int, str]) -> str:
    """How to halve a source's share, in words; "" where nothing does."""
    words = _REMEDY.get(source.what, "")
    return words.format(names.get(source.whose, "a row that is gone") if isinstance(source.whose, int) else source.whose)


_ANEW = {
    "plane hits": "The plane of {} touched anew", "laid": "{} laid on the part anew, by more touches",
    "tip": "The probe calibrated anew", "offset": "The probe calibrated anew",
    "station": "The instrument's place tied anew, by more points", "level": "The instrument levelled anew",
    "temperature": "The part's temperature and expansion told", "hold": "The alignment's hold {} measured anew",
    "contradiction": "The holds that contradict measured anew", "edges": "The edges of {} scanned anew",
    "form": "The form under {} scanned",
}  # fmt: skip


def anew_words(source: Source, names: Mapping[int, str]) -> str:
    """What is done so that something is known better, beginning a sentence."""
    whose = names.get(source.whose, "a row that is gone") if isinstance(source.whose, int) else source.whose
    return _ANEW.get(source.what, f"What comes from {source.what} known anew").format(whose)
