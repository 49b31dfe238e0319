"""Settings for many rows at once: which rows, what is set, what that changes and where it cannot be."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from sqlalchemy import select

from ...core.errors import InputError, PlumbError
from ...core.fingerprints import fingerprint
from ...core.fitting import CRITERIA
from ...core.sheet import RowRecipe, SheetRow, recipe_from_dict
from ...store.database import stored, tell, transaction
from ...store.models import Job, Row
from ..actor import Actor, record
from ..state.recipes import rewrite
from ..state.results import JobResults, load
from ..words import words_for
from ..words._shared import CHOICES
from .form_specs import parts_of_model
from .forms import data_of, texts_of

# what may be set for many: the field of a row's form
SETTINGS = ("name", "hits", "taking", "spacing_mm", "every_s", "inside", "terms", "criterion", "note")


def criteria() -> list[tuple[str, str]]:
    """Every criterion of a fit, with its words."""
    return [(key, CHOICES[key]) for key in CRITERIA]


@dataclass(frozen=True)
class RowChoice:
    """Which rows: those of these ids (none: all), of a kind, with these letters in their name; "" leaves none out."""

    kind: str = ""
    name: str = ""
    ids: frozenset[int] = frozenset()

    def of(self, rows: Sequence[SheetRow]) -> list[SheetRow]:
        """The chosen rows, in order."""
        wanted = self.name.strip().lower()
        return [
            row for row in rows
            if (not self.kind or row.recipe.kind == self.kind) and wanted in row.recipe.name.lower()
            and (not self.ids or row.id in self.ids)
        ]  # fmt: skip


@dataclass(frozen=True)
class Setting:
    """Values to set, as typed; "" leaves it as it is. ``key``: the characteristic that limits are set of.

    In a name "#" stands for the number of each row among those chosen.
    """

    texts: Mapping[str, str]
    key: str = ""
    lower: str = ""
    upper: str = ""

    def of_number(self, number: int) -> Setting:
        """With a row's number in its name."""
        name = self.texts.get("name", "")
        return replace(self, texts={**self.texts, "name": name.replace("#", str(number))}) if name else self

    @property
    def is_none(self) -> bool:
        return not self.key and not any(text.strip() for text in self.texts.values())


@dataclass(frozen=True)
class SettingChange:
    """The change of one row: how it would be (None: it cannot), in words what changes, or why not."""

    row: SheetRow
    recipe: RowRecipe | None
    words: str

    @property
    def is_one(self) -> bool:
        return self.recipe is not None and self.recipe != self.row.recipe


def changes(state: JobResults, choice: RowChoice, setting: Setting) -> list[SettingChange]:
    """The change of each chosen row by the setting. Raises InputError if nothing is set or no row is chosen."""
    if setting.is_none:
        raise InputError("Nothing is to be set.", "Nothing was changed.", "Type what the rows are to have.")
    rows = choice.of(state.rows)
    if not rows:
        what = "Choose rows on the sheet or on the part, or another kind or name."
        raise InputError("No row is chosen.", "Nothing was changed.", what)
    name = setting.texts.get("name", "").strip()
    if name and "#" not in name and len(rows) > 1:
        happened = f"{len(rows)} rows would all be called “{name}”."
        raise InputError(happened, "Nothing was changed.", "Type # where each has its number: Hole #.")
    return [_change(state, row, setting.of_number(number)) for number, row in enumerate(rows, start=1)]


def seen_of(found: Sequence[SettingChange]) -> str:
    """Names what a person saw before they said yes."""
    return fingerprint(*(f"{c.row.id} {c.row.digest} {c.recipe.model_dump_json() if c.recipe else ''}" for c in found))


def set_many(actor: Actor, job_id: int, choice: RowChoice, setting: Setting, seen: str) -> int:
    """Set it, in one act, wherever it can be; what cannot is left as it is. Returns how many rows changed.

    ``seen``: of the changes as the person saw them (see ``seen_of``).
    """
    actor.must_change()
    with transaction() as session:
        stored(session, Job, job_id, lock=True)
        found = changes(load(session, job_id), choice, setting)
        if seen != seen_of(found):
            raise InputError("The sheet was changed meanwhile.", "Nothing was set.", "Look at what would change once more.")
        new = {c.row.id: c.recipe for c in found if c.recipe is not None and c.is_one}
        rows = session.scalars(select(Row).where(Row.id.in_(new))).all()
        before = {str(row.id): rewrite(row, new[row.id]) for row in rows}
        record(session, actor, job_id, "set many", before=before, after={str(row.id): row.recipe for row in rows})
        tell(session, job_id, "sheet")
        return len(new)


def _change(state: JobResults, row: SheetRow, setting: Setting) -> SettingChange:
    recipe, units = row.recipe, state.job.units
    available = state.available(row.id)
    now = texts_of(recipe, units, available)
    words = words_for(recipe)
    typed = {name: text.strip() for name, text in setting.texts.items() if text.strip()}
    lacking = [words.field(name).lower() for name in typed if name not in dict(parts_of_model(type(recipe)).parts)]
    if lacking:
        return SettingChange(row, None, f"A {words.noun} has no {' and no '.join(lacking)}.")
    if setting.key:
        if setting.key not in dict(available):
            return SettingChange(row, None, f"A {words.noun} has no {words.label(recipe, setting.key)}.")
        asked = [a.key for a in recipe.asked] or [key for key, _ in available]
        typed |= {f"asked.{key}.on": "1" for key in (*asked, setting.key)}
        typed |= {path: text for path, text in now.items() if path.startswith("asked.") and path not in typed}
        typed |= {f"asked.{setting.key}.lower": setting.lower, f"asked.{setting.key}.upper": setting.upper}
        typed |= {"asked.first": now.get("asked.first", asked[0])}
    try:
        raw = data_of(recipe.kind, {**({"terms": now["terms"]} if "terms" in now else {}), **typed}, units,
                      recipe.model_dump(mode="json"), available)  # fmt: skip
        new = recipe_from_dict(raw)
    except PlumbError as error:
        return SettingChange(row, None, error.happened)
    then = texts_of(new, units, available)
    told = [
        f"{_called(words, recipe, path)} {now.get(path, '–')} → {then.get(path, '–')}"
        for path in dict.fromkeys((*now, *then))
        if now.get(path, "") != then.get(path, "") and not path.endswith(".on") and path != "asked.first"
    ]
    return SettingChange(row, new, "; ".join(told) or "as it is already")


def _called(words, recipe: RowRecipe, path: str) -> str:
    way = path.split(".")
    if way[0] == "asked":
        return f"{words.label(recipe, way[1])}, {way[2]} limit"
    return words.field(way[0]).lower()
