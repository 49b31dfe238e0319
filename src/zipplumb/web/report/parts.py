"""The parts of a report as its form has them: shown, and read again in the order in which they stand there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from werkzeug.datastructures import MultiDict

from ...core.errors import InputError
from ...jobs.report.documents import part_of
from ...jobs.report.parts import KINDS, Part


@dataclass(frozen=True)
class PartField:
    """``options``: of one that is chosen: key, words, and whether it is; ``high``: lines of one that is typed."""

    name: str
    words: str
    value: str
    high: int
    options: tuple[tuple[str, str, bool], ...]


@dataclass(frozen=True)
class PartShown:
    """``key``: by which the form tells it from the others."""

    key: str
    noun: str
    title: str
    fields: tuple[PartField, ...]


def parts_shown(raws: Sequence[Mapping[str, Any]]) -> list[PartShown]:
    return [_shown(str(place), part_of(raw)) for place, raw in enumerate(raws)]


def _shown(key: str, part: Part) -> PartShown:
    told = part.shown()
    fields = tuple(
        PartField(
            f"{key}.{name}", words, told[name], high,
            tuple((each, said, each == told[name]) for each, said in part.choices.get(name, ())),
        )
        for name, words, high in part.fields
    )  # fmt: skip
    return PartShown(key, part.noun, part.title, fields)


def parts_typed(before: Sequence[Mapping[str, Any]], form: MultiDict[str, str]) -> list[dict[str, Any]]:
    """The parts as they stand in a form: those there were, by their places, and a new one. Raises InputError."""
    found = []
    for key in form.getlist("part"):
        if not key.isdecimal() or int(key) >= len(before):
            raise InputError("That part is not there any more.", "The report was left as it was.", "Open it again.")
        found.append(_typed(before[int(key)], key, form))
    found = moved(found, form.getlist("part"), form.get("move", ""))
    kind = form.get("add", "")
    if kind:
        if kind not in KINDS:
            raise InputError("A report has no such part.", "The report was left as it was.", "Choose one of the list.")
        found.append({"kind": kind})
    return found


def _typed(raw: Mapping[str, Any], key: str, form: MultiDict[str, str]) -> dict[str, Any]:
    """A part with what was typed; what the form does not show of it stays."""
    kind = KINDS[str(raw["kind"])]
    texts = {name: form.get(f"{key}.{name}", "") for name, _, _ in part_of(raw).fields if f"{key}.{name}" in form}
    typed = kind.typed(texts) if texts else {}
    title = {"title": " ".join(form[f"{key}.title"].split())[:200]} if f"{key}.title" in form else {}
    return {**raw, **typed, **title}


def moved(parts: list[dict[str, Any]], keys: Sequence[str], move: str) -> list[dict[str, Any]]:
    """One of them moved up or down, or taken out: "2:up", "2:down", "2:out"."""
    key, _, where = move.partition(":")
    if key not in keys:
        return parts
    place = list(keys).index(key)
    rest = parts[:place] + parts[place + 1 :]
    to = {"up": place - 1, "down": place + 1}.get(where)
    if to is None:
        return rest if where == "out" else parts
    at = min(max(to, 0), len(rest))
    return [*rest[:at], parts[place], *rest[at:]]
