"""Recipes as forms and back: filled with a recipe's texts, drawn by one template, read into a recipe's data.

``data_of(texts_of(recipe))`` is the recipe again, in mm as in inches, to the eight digits that a text has.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ...core.errors import InputError
from ...core.sheet import KINDS, RowRecipe
from ...core.units import Unit, Units, length_from_text, number_from_text, quantity_from_text, quantity_value, whole_number
from ..words import WORDS, KindWords
from ..words._shared import CHOICES
from .form_specs import CHOICE, Group, Leaf, LimitsSpec, Many, OneOf, Spec, Vector, spec_of_model

KEPT = "The row was left as it was."
AXES = "XYZ"
IJK = "IJK"
MAIN = ("name", "asked", "hits", "taking", "spacing_mm", "every_s", "datum", "terms", "inside", "criterion")
Texts = Mapping[str, str]
Rows = Mapping[str, Sequence[tuple[str, str]]]


@dataclass(frozen=True)
class FormField:
    """One field, or a group or list of fields, as the template draws it.

    ``kind``: text, choice, check, group, list, limits. ``path`` is its name in the form; ``more``: of a list, the
    number of its next item, where another may follow. ``main``: it stands in front.
    """

    path: str
    label: str
    kind: str
    value: str = ""
    unit: str = ""
    choices: tuple[tuple[str, str], ...] = ()
    parts: tuple[FormField, ...] = ()
    more: int | None = None
    main: bool = False


# ---- from a recipe to texts --------------------------------------------------------------------


def texts_of(recipe: RowRecipe, units: Units, available: Sequence[tuple[str, Unit]] = ()) -> dict[str, str]:
    """The texts of a recipe's form, in a person's units; ``available``: its characteristics and their units."""
    kind = recipe.kind
    data, texts = recipe.model_dump(mode="json"), {}
    texts["terms"] = str(data.get("terms", ""))
    _fill(spec_of_model(KINDS[kind]), data, "", texts, units, KINDS[kind])
    unit_of = dict(available)
    for k, asked in enumerate(recipe.asked):
        factor, base = recipe.share_of(asked.key), f"asked.{asked.key}"
        texts[f"{base}.on"] = "1"
        for side, limit in (("lower", asked.lower), ("upper", asked.upper)):
            if limit is not None:
                texts[f"{base}.{side}"] = _plain(quantity_value(factor * limit, unit_of.get(asked.key, "mm"), units))
        if k == 0:
            texts["asked.first"] = asked.key
    return {path: text for path, text in texts.items() if text != ""}


def _plain(value: float) -> str:
    return f"{value:.8g}"


def _fill(spec: Spec, value: Any, path: str, texts: dict[str, str], units: Units, kind: type[RowRecipe]) -> None:
    if value is None or isinstance(spec, LimitsSpec):
        return
    if isinstance(spec, Leaf):
        texts[path] = _leaf_text(spec, value, path, texts, units, kind)
    elif isinstance(spec, Vector):
        for k, number in enumerate(value):
            texts[f"{path}.{k}"] = _plain(quantity_value(number, "mm", units) if spec.kind == "length" else number)
    elif isinstance(spec, Group):
        for name, part in spec.parts:
            _fill(part, value.get(name), f"{path}.{name}".lstrip("."), texts, units, kind)
    elif isinstance(spec, Many):
        for k, item in enumerate(value):
            _fill(spec.item, item, f"{path}.{k}", texts, units, kind)
    elif isinstance(spec, OneOf):
        name = value[spec.inside] if spec.inside else _arm_of(spec, value)
        texts[f"{path}.{spec.inside or CHOICE}"] = name
        arm = dict(spec.arms)[name]
        if arm is not None:
            _fill(arm, value, f"{path}.{name}" if not spec.inside else path, texts, units, kind)


def _arm_of(spec: OneOf, value: Any) -> str:
    if isinstance(value, str):
        return value
    wanted = Group if isinstance(value, dict) else Leaf
    return next(name for name, arm in spec.arms if isinstance(arm, wanted))


def _leaf_text(spec: Leaf, value: Any, path: str, texts: Texts, units: Units, kind: type[RowRecipe]) -> str:
    if spec.kind == "check":
        return "1" if value else "0"
    if spec.kind in ("length", "angle"):
        factor = kind.drawn(path, texts)[1]
        return _plain(quantity_value(factor * value, "mm" if spec.kind == "length" else "rad", units))
    return _plain(value) if spec.kind == "number" else str(value)


# ---- from texts to a recipe's data -------------------------------------------------------------


def data_of(
    kind_key: str, texts: Texts, units: Units, base: Mapping[str, Any] | None = None, available: Sequence[tuple[str, Unit]] = ()
) -> dict[str, Any]:
    """A recipe's data from the texts of its form. What no text names stays as in ``base``.

    Raises InputError naming the field that is no number, or no choice.
    """
    if kind_key not in KINDS:
        raise InputError("There is no such kind of row.", "Nothing was planned.", "Choose one from the list.")
    kind, words = KINDS[kind_key], WORDS[kind_key]
    tree = _tree(texts)
    found: dict[str, Any] = {**(base or {}), "kind": kind_key}
    for name, spec in spec_of_model(kind).parts:
        if name not in tree:
            continue
        if isinstance(spec, LimitsSpec):
            terms = texts.get("terms") or str(found.get("terms", ""))
            found["asked"] = _limits(tree[name], terms, units, available, kind)
            continue
        value = _read(spec, tree[name], name, words.field(name), texts, units, kind)
        if value is None and name not in (base or {}):
            continue
        found[name] = value
    return found


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


def _blank(tree: Any, spec: Spec) -> bool:
    """Nothing was typed: choices that always say something do not count."""
    if isinstance(spec, Leaf):
        return spec.kind in ("choice", "check") or not isinstance(tree, str) or tree == ""
    if not isinstance(tree, dict):
        return True
    if isinstance(spec, Vector):
        return all(text in ("", None) for text in tree.values())
    if isinstance(spec, Group):
        return all(_blank(tree.get(name, ""), part) for name, part in spec.parts)
    if isinstance(spec, Many):
        return all(_blank(item, spec.item) for item in tree.values())
    if isinstance(spec, OneOf):
        name = tree.get(spec.inside or CHOICE, "")
        if name and name not in dict(spec.arms):
            return False
        arm = dict(spec.arms).get(name)
        return arm is None or _blank(tree if spec.inside else tree.get(name, {}), arm)
    return True


def _empty(item: Any, spec: Spec) -> bool:
    """An item of a list that was left out."""
    return item == "" if isinstance(spec, Leaf) else _blank(item, spec)


def _read(spec: Spec, tree: Any, path: str, label: str, texts: Texts, units: Units, kind: type[RowRecipe]) -> Any:
    if isinstance(spec, Leaf):
        return _leaf(spec, tree if isinstance(tree, str) else "", path, label, texts, units, kind)
    if not isinstance(tree, dict):
        return None
    if isinstance(spec, Many):
        items = [(k, item) for k, item in sorted(tree.items(), key=_number) if not _empty(item, spec.item)]
        return [
            _read(spec.item, item, f"{path}.{k}", f"{label} {n}", texts, units, kind) for n, (k, item) in enumerate(items, 1)
        ]
    if isinstance(spec, OneOf):
        name = tree.get(spec.inside or CHOICE, "")
        arms = dict(spec.arms)
        if name not in arms:
            raise InputError(f"“{str(name)[:20]}” in {label.lower()} is none of the choices.", KEPT, "Choose one.")
        if arms[name] is None:
            return name
        value = _read(arms[name], tree if spec.inside else tree.get(name, {}), path, label, texts, units, kind)  # type: ignore[arg-type]
        return {**value, spec.inside: name} if spec.inside else value
    if _blank(tree, spec):
        return None
    if isinstance(spec, Vector):
        names = AXES if spec.kind == "length" else IJK
        return [_vector_part(tree.get(str(k), ""), spec, f"{label}, {names[k]}", units) for k in range(3)]
    if isinstance(spec, Group):
        words = WORDS[kind.key()]
        read = {
            name: _read(part, tree.get(name, ""), f"{path}.{name}", f"{label}, {words.field(name).lower()}", texts, units, kind)
            for name, part in spec.parts
        }
        return {**dict(spec.constant), **{name: value for name, value in read.items() if value is not None}}
    return None


def _number(item: tuple[str, Any]) -> int:
    number = whole_number(item[0], 99_999)
    return 10**6 if number is None else number


def _vector_part(text: str, spec: Vector, label: str, units: Units) -> float:
    if not isinstance(text, str):
        text = ""
    return length_from_text(text, units, label) if spec.kind == "length" else number_from_text(text, label)


def _leaf(spec: Leaf, text: str, path: str, label: str, texts: Texts, units: Units, kind: type[RowRecipe]) -> Any:
    if spec.kind == "check":
        return text == "1"
    if text == "":
        return None
    if spec.kind in ("row", "whole"):
        number = whole_number(text)
        if number is None:
            raise InputError(f"“{text[:20]}” in {label.lower()} is no whole number.", KEPT, "Type a number, or choose a row.")
        return number
    if spec.kind == "choice":
        if text not in spec.options:
            raise InputError(f"“{text[:20]}” in {label.lower()} is none of the choices.", KEPT, "Choose one.")
        return int(text) if text.lstrip("-").isdigit() else text
    if spec.kind == "length":
        return length_from_text(text, units, label) / kind.drawn(path, texts)[1]
    if spec.kind == "angle":
        return quantity_from_text(text, "rad", units, label)
    return number_from_text(text, label) if spec.kind == "number" else text


def _limits(
    tree: Any, terms: str, units: Units, available: Sequence[tuple[str, Unit]], kind: type[RowRecipe]
) -> list[dict[str, Any]]:
    """What is asked, the one for the row's line first."""
    if not isinstance(tree, dict):
        return []
    unit_of, found = dict(available), []
    for key, texts in tree.items():
        if not isinstance(texts, dict) or texts.get("on") != "1":
            continue
        unit = unit_of.get(key, "mm")
        limits: dict[str, Any] = {"key": key}
        for side in ("lower", "upper"):
            text = texts.get(side, "")
            if text != "":
                typed = quantity_from_text(text, unit, units, f"the {side} limit of {key}")
                limits[side] = typed / kind.share_in(key, terms)
        found.append(limits)
    first = tree.get("first", "")
    return sorted(found, key=lambda limits: limits["key"] != first)


def changed(texts: Texts, before: Texts) -> dict[str, str]:
    """Texts of the fields in which something was typed anew; a field is left or taken whole."""
    fields = {path.partition(".")[0] for path in texts}
    told = {path: text for path, text in texts.items() if text.strip() != ""}

    def of(field: str, among: Texts) -> dict[str, str]:
        return {p: t.strip() for p, t in among.items() if p.partition(".")[0] == field}

    new = {field for field in fields if of(field, told) != of(field, before)}
    return {path: text for path, text in texts.items() if path.partition(".")[0] in new}


# ---- drawing it --------------------------------------------------------------------------------


def fields_of(
    kind_key: str,
    texts: Texts,
    units: Units,
    rows: Rows,
    available: Sequence[tuple[str, Unit]] = (),
    recipe: RowRecipe | None = None,
) -> tuple[FormField, ...]:
    """The fields of a kind's form, filled with texts.

    Parameters
    ----------
    rows : of "feature", "system", "station": what may be named, as (id, words)
    available : characteristics that may be asked, with their units; none: they are not asked about
    """
    kind, words, tree = KINDS[kind_key], WORDS[kind_key], _tree(texts)
    found = []
    for name, spec in spec_of_model(kind).parts:
        if isinstance(spec, LimitsSpec):
            if available:
                found.append(_limits_field(texts, units, available, words, recipe))
            continue
        drawn = _drawn(spec, tree.get(name), name, words.field(name), _Context(texts, units, rows, kind, words))
        found.append(drawn if name not in MAIN else FormField(**{**drawn.__dict__, "main": True}))
    return tuple(found)


@dataclass(frozen=True)
class _Context:
    texts: Texts
    units: Units
    rows: Rows
    kind: type[RowRecipe]
    words: KindWords


def _drawn(spec: Spec, tree: Any, path: str, label: str, around: _Context) -> FormField:
    if isinstance(spec, Leaf):
        return _drawn_leaf(spec, tree if isinstance(tree, str) else "", path, label, around)
    tree = tree if isinstance(tree, dict) else {}
    if isinstance(spec, Vector):
        names, unit = (AXES, around.units) if spec.kind == "length" else (IJK, "")
        parts = tuple(FormField(f"{path}.{k}", names[k], "text", tree.get(str(k), ""), unit) for k in range(3))
        return FormField(path, label, "vector", unit=unit, parts=parts)
    if isinstance(spec, Group):
        parts = tuple(_drawn(p, tree.get(n), f"{path}.{n}", around.words.field(n), around) for n, p in spec.parts)
        return FormField(path, label, "group", parts=parts)
    if isinstance(spec, Many):
        numbers = [k for k, _ in sorted(tree.items(), key=_number)] or ["0"]
        parts = tuple(_drawn(spec.item, tree.get(k), f"{path}.{n}", f"{n + 1}", around) for n, k in enumerate(numbers))
        return FormField(path, label, "list", parts=parts, more=len(numbers) if len(numbers) < spec.most else None)
    if isinstance(spec, OneOf):
        return _drawn_one_of(spec, tree, path, label, around)
    return FormField(path, label, "text")


def _drawn_one_of(spec: OneOf, tree: dict[str, Any], path: str, label: str, around: _Context) -> FormField:
    named, which = spec.inside or CHOICE, tree.get(spec.inside or CHOICE, spec.arms[0][0])
    options = tuple((name, CHOICES.get(name, around.words.field(name))) for name, _ in spec.arms)
    parts = [FormField(f"{path}.{named}", label, "choice", which, choices=options)]
    arm = dict(spec.arms).get(which)
    if isinstance(arm, Group):
        inner = tree if spec.inside else tree.get(which, {})
        inner = inner if isinstance(inner, dict) else {}
        base = path if spec.inside else f"{path}.{which}"
        parts += [_drawn(p, inner.get(n), f"{base}.{n}", around.words.field(n), around) for n, p in arm.parts]
    elif arm is not None:
        parts.append(_drawn(arm, tree.get(which), f"{path}.{which}", around.words.field("feature"), around))
    return FormField(path, label, "one_of", parts=tuple(parts))


def _drawn_leaf(spec: Leaf, text: str, path: str, label: str, around: _Context) -> FormField:
    if spec.kind == "check":
        default = around.kind.model_fields[path].default if path in around.kind.model_fields else False
        return FormField(path, label, "check", text or ("1" if default is True else "0"))
    if spec.kind == "row":
        return FormField(path, label, "choice", text, choices=(("", "–"), *around.rows.get(spec.of, ())))
    own = around.words.choices(path)
    if own is not None:
        return FormField(path, label, "choice", text, choices=tuple(own))
    if spec.kind == "choice":
        options = tuple((option, CHOICES.get(option, option)) for option in spec.options)
        if path.rpartition(".")[2].isdigit():  # of a list: it may be left out
            options = (("", "–"), *options)
        return FormField(path, label, "choice", text or _default(around.kind, path), choices=options)
    name = around.kind.drawn(path, around.texts)[0]
    unit = around.units if spec.kind == "length" else "°" if spec.kind == "angle" else ""
    return FormField(path, name.capitalize() if name else label, "text", text, unit)


def _default(kind: type[RowRecipe], path: str) -> str:
    field = kind.model_fields.get(path)
    return "" if field is None or field.is_required() or field.default is None else str(field.default)


def _limits_field(
    texts: Texts, units: Units, available: Sequence[tuple[str, Unit]], words: KindWords, recipe: RowRecipe | None
) -> FormField:
    chosen = [key for key, _ in available if f"asked.{key}.on" in texts] or [key for key, _ in available]
    first = texts.get("asked.first", chosen[0] if chosen else "")
    parts = []
    for key, unit in sorted(available, key=lambda a: a[0] != first):
        sides = tuple(
            FormField(f"asked.{key}.{side}", side.capitalize(), "text", texts.get(f"asked.{key}.{side}", ""))
            for side in ("lower", "upper")
        )
        on = "1" if key in chosen else "0"
        label = words.label(recipe, key) if recipe is not None else key
        parts.append(FormField(f"asked.{key}.on", label, "asked", on, "°" if unit == "rad" else units, parts=sides))
    return FormField("asked.first", "Limits of the deviation", "limits", first, parts=tuple(parts), main=True)
