"""Recipes as forms and back: filled with a recipe's texts, drawn by one template, read into a recipe's data.

``data_of(texts_of(recipe))`` is the recipe again, in mm as in inches, to the eight digits that a text has.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from typing import Any

from ...core.errors import InputError
from ...core.sheet import KINDS, RowRecipe
from ...core.units import Unit, Units, quantity_from_text, quantity_value, typed_text
from ..words import WORDS, KindWords
from .form_parts import Form, FormField, Rows, Texts, branches, plain
from .form_specs import parts_of_model

MAIN = ("name", "hits", "taking", "spacing_mm", "every_s", "datum", "terms", "inside", "criterion")
LATER = ("note", "against", "warm")
Available = Sequence[tuple[str, Unit]]  # characteristics that may be asked, and their units
SIDES = ("lower", "upper")
TYPED_TERMS = "terms_typed"


def texts_of(recipe: RowRecipe, units: Units, available: Available = ()) -> dict[str, str]:
    """The texts of a recipe's form, in a person's units."""
    kind, data = KINDS[recipe.kind], recipe.model_dump(mode="json")
    form = Form(kind, WORDS[recipe.kind], units, {"terms": str(data.get("terms", ""))})
    texts = {**form.texts, **dict(parts_of_model(kind).texts(data, "", form)), **_limit_texts(recipe, units, available)}
    return {path: text for path, text in texts.items() if text != ""}


def data_of(
    kind_key: str, texts: Texts, units: Units, base: Mapping[str, Any] | None = None, available: Available = ()
) -> dict[str, Any]:
    """A recipe's data from the texts of its form. What no text names stays as in ``base``.

    Raises InputError naming the field that is no number, or no choice.
    """
    if kind_key not in KINDS:
        raise InputError("There is no such kind of row.", "Nothing was planned.", "Choose one from the list.")
    texts = in_its_terms(kind_key, texts, units, available)
    form, tree = Form(KINDS[kind_key], WORDS[kind_key], units, texts), _tree(texts)
    found: dict[str, Any] = {**(base or {}), "kind": kind_key}
    if "asked" in tree:
        terms = texts.get("terms") or str(found.get("terms") or form.kind.usual_terms())
        found["asked"] = _limits(tree["asked"], terms, units, available, form.kind)
    for name, part in parts_of_model(form.kind).parts:
        if name not in tree:
            continue
        value = part.read(tree[name], name, form.words.field(name), form)
        if value is None and name not in (base or {}):
            continue
        found[name] = value
    return found


def names_one(kind_key: str, texts: Texts) -> bool:
    """A row or a station was chosen in the form of a kind."""
    return kind_key in KINDS and parts_of_model(KINDS[kind_key]).names_one(_tree(texts))


def fields_of(
    kind_key: str, texts: Texts, units: Units, rows: Rows, available: Available = (), recipe: RowRecipe | None = None
) -> tuple[FormField, ...]:
    """The fields of a kind's form, filled with texts.

    Parameters
    ----------
    rows : of "feature", "system", "station": what may be named, as (id, words)
    available : none: characteristics are not asked about
    """
    usual = KINDS[kind_key].usual_terms()
    texts = {**({"terms": usual} if usual else {}), **in_its_terms(kind_key, texts, units, available)}
    recipe = recipe and recipe.in_terms(texts.get("terms", ""))
    form, tree = Form(KINDS[kind_key], WORDS[kind_key], units, texts, rows), _tree(texts)
    found: list[FormField] = []
    for name, part in parts_of_model(form.kind).parts:
        found.append(
            replace(
                part.drawn(tree.get(name), name, form.words.field(name), form),
                main=name in MAIN, follows=name == "terms", later=name in LATER,
            )
        )  # fmt: skip
    if available and "asked" in form.kind.model_fields:
        before = list(form.kind.model_fields).index("asked")
        place = sum(list(form.kind.model_fields).index(f.path) < before for f in found)
        found.insert(place, _limits_field(texts, units, available, form.words, recipe))
    return tuple(found)


def in_its_terms(kind_key: str, texts: Texts, units: Units, available: Available = ()) -> Texts:
    """The texts with their numbers in the terms that were chosen: where these were changed after they were typed, all turn.

    ``terms_typed`` among them: the terms in which the form told its numbers.
    """
    told = {path: text for path, text in texts.items() if path != TYPED_TERMS}
    was, now, kind, unit_of = texts.get(TYPED_TERMS, ""), told.get("terms", ""), KINDS[kind_key], dict(available)
    if not was or not now or was == now:
        return told
    for path, text in told.items():
        way = path.split(".")
        if way[0] == "asked" and len(way) == 3 and way[2] in SIDES:
            unit, factor = unit_of.get(way[1], "mm"), kind.share_in(way[1], now) / kind.share_in(way[1], was)
        else:
            unit, factor = "mm", kind.drawn(path, {"terms": now})[1] / kind.drawn(path, {"terms": was})[1]
        if factor != 1.0 and text.strip():
            with suppress(InputError):  # what is no number is told as such when it is read
                told[path] = _typed(factor * quantity_from_text(text, unit, units, path), unit, units)
    return told


def _typed(value: float, unit: Unit, units: Units) -> str:
    return typed_text(value, units) if unit == "mm" else plain(quantity_value(value, unit, units))


def _tree(texts: Texts) -> dict[str, Any]:
    root: dict[str, Any] = {}
    for path, text in texts.items():
        at = root
        *way, last = path.split(".")
        for step in way:
            inner = at.setdefault(step, {})
            at = inner if isinstance(inner, dict) else at.setdefault(f"{step}.", {})
        at[last] = text.strip()
    return root


def changed(texts: Texts, before: Texts) -> dict[str, str]:
    """Texts of the fields in which something was typed anew; a field is left or taken whole."""
    fields = {path.partition(".")[0] for path in texts}
    told = {path: text for path, text in texts.items() if text.strip() != ""}

    def of(field: str, among: Texts) -> dict[str, str]:
        return {p: t.strip() for p, t in among.items() if p.partition(".")[0] == field}

    new = {field for field in fields if of(field, told) != of(field, before)}
    return {path: text for path, text in texts.items() if path.partition(".")[0] in new}


# ---- the characteristics that are asked, each with its limits -----------------------------------


def _limit_texts(recipe: RowRecipe, units: Units, available: Available) -> dict[str, str]:
    texts, unit_of = {}, dict(available)
    for k, asked in enumerate(recipe.asked):
        factor, base = recipe.share_of(asked.key), f"asked.{asked.key}"
        texts[f"{base}.on"] = "1"
        for side in SIDES:
            if (limit := getattr(asked, side)) is not None:
                texts[f"{base}.{side}"] = _typed(factor * limit, unit_of.get(asked.key, "mm"), units)
        if k == 0:
            texts["asked.first"] = asked.key
    return texts


def _limits(tree: Any, terms: str, units: Units, available: Available, kind: type[RowRecipe]) -> list[dict[str, Any]]:
    """The asked characteristics with their limits; the one of the row's line first."""
    unit_of, found = dict(available), []
    for key, texts in branches(tree).items():
        if not isinstance(texts, dict) or texts.get("on") != "1":
            continue
        unit = unit_of.get(key, "mm")
        limits: dict[str, Any] = {"key": key}
        for side in SIDES:
            text = texts.get(side, "")
            if text != "":
                typed = quantity_from_text(text, unit, units, f"the {side} limit of {key}")
                limits[side] = typed / kind.share_in(key, terms)
        found.append(limits)
    first = branches(tree).get("first", "")
    return sorted(found, key=lambda limits: limits["key"] != first)


def _limits_field(texts: Texts, units: Units, available: Available, words: KindWords, recipe: RowRecipe | None) -> FormField:
    chosen = [key for key, _ in available if f"asked.{key}.on" in texts] or [key for key, _ in available]
    first = texts.get("asked.first", chosen[0] if chosen else "")
    parts = []
    for key, unit in sorted(available, key=lambda a: a[0] != first):
        sides = tuple(
            FormField(f"asked.{key}.{side}", side.capitalize(), "text", texts.get(f"asked.{key}.{side}", "")) for side in SIDES
        )
        on = "1" if key in chosen else "0"
        label = words.label(recipe, key) if recipe is not None else key
        parts.append(FormField(f"asked.{key}.on", label, "asked", on, "°" if unit == "rad" else units, parts=sides))
    return FormField("asked.first", "Limits of the deviation", "limits", first, parts=tuple(parts), main=True)
