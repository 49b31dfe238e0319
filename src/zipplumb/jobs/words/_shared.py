"""Base class of the words of a kind."""

from __future__ import annotations

from typing import Any, ClassVar

from ...core.probing import Side
from ...core.units import Units

LABELS = {
    "highest": "most outside", "lowest": "most inside", "x": "X", "y": "Y", "z": "Z",
    "off": "distance off", "value": "value", "angle": "angle",
}  # fmt: skip
FIELDS = {
    "name": "Name", "asked": "Limits", "criterion": "Criterion", "note": "Note", "hits": "Hits", "taking": "While held, take",
    "spacing_mm": "Held: every", "every_s": "Held: every, s", "datum": "Datum letter", "nominal": "Nominal",
    "plane_hits": "Or its plane first, hits", "laid_by": "Or in the nominal's plane, as laid by",
    "inside": "Inside", "terms": "Terms", "plane": "Lies in the plane of", "against": "Compare with", "of": "Made of",
    "offset_mm": "Offset", "height_mm": "Height", "diameter_mm": "Diameter", "nominal_mm": "Nominal length",
    "nominal_rad": "Nominal angle", "u_mm": "Uncertainty", "point": "Point", "position": "Point", "center": "Center",
    "apex": "Apex", "normal": "Normal", "direction": "Direction", "radius": "Radius", "half_angle": "Half angle",
    "major_radius": "Radius of the ring", "minor_radius": "Radius of the tube", "length": "Length", "width": "Width",
    "ends": "Ends", "span_rad": "Angle that it spans", "scale": "Scale", "temperature_c": "Temperature, °C",
    "u_temperature_c": "Temperature known to, °C", "u_expansion": "Expansion known to, as a share",
    "material": "Material", "features": "Features", "laid": "Laid on the part",
    "warm": "Tell lengths at 20 °C, measured on", "condition": "Material condition",
    "feature": "Feature", "make": "What is made", "measure": "What is measured", "start": "Start from",
}  # fmt: skip
CHOICES = {
    "fixed": "fixed", "free": "free", "own": "its own way", "nominal": "the nominal's", "turn": "turn", "origin": "origin",
    "gaussian": "least squares", "chebyshev": "minimum zone", "inscribed": "largest inscribed",
    "circumscribed": "smallest circumscribed", "tangent": "tangent outside",
    "least_squares": "by its row's criterion", "outside": "from outside, nearest (ISO 5459)",
    "envelope": "envelope requirement", "two_point": "between two points",
    "round": "round", "none": "none", "maximum": "maximum material", "least": "least material",
    "distance": "by distance", "time": "by time", "still": "when still", "press": "by presses only",
}  # fmt: skip
_WITNESS = {"pull_off": "The pull-off", "approach": "the way in", "nominal": "the nominal"}


class KindWords:
    """Words of one kind. ``noun``: what it is; ``fields``: labels of its own fields."""

    noun: ClassVar[str]
    fields: ClassVar[dict[str, str]] = {}

    def stem(self, recipe: Any) -> str:
        """Stem of the names of its rows, before their number."""
        return self.noun.capitalize()

    def label(self, recipe: Any, key: str) -> str:
        """A characteristic, in words."""
        return LABELS.get(key, key.replace("_", " "))

    def field(self, name: str) -> str:
        """A field of its form, in words."""
        return self.fields.get(name) or FIELDS.get(name) or name.removesuffix("_mm").replace("_", " ").capitalize()

    def choices(self, name: str) -> list[tuple[str, str]] | None:
        """Choices of a field, where the recipe does not list them."""
        return None

    def ask(self, recipe: Any, units: Units) -> str:
        """The prompt, in the imperative."""
        letter = f" (datum {recipe.datum})" if recipe.datum else ""
        return f"Touch {recipe.name}{letter}, {recipe.hits} hit{'s, far apart' if recipe.hits > 1 else ''}."

    def side(self, recipe: Any, air: int) -> str:
        """On which side the tip was."""
        return ""

    def doubt(self, recipe: Any, side: Side) -> str:
        """Why the side is asked about."""
        if not side.witnesses:
            return "Nothing tells the side."
        if len(set(side.witnesses.values())) == 1:
            return "The touched side lies opposite to the nominal one."
        return "The tip came in from one side and left through the other."

    def answers(self, recipe: Any) -> tuple[tuple[int, str], ...]:
        """Possible answers to the question of the side."""
        return ((1, "Air where it left"), (-1, "Air on the other side"))


class FacingWords(KindWords):
    """Words for a surface that faces the air."""

    def side(self, recipe: Any, air: int) -> str:
        return "as the tip came" if air > 0 else "turned"


class EnclosedWords(KindWords):
    """Words for a closed outline: ``bore``, ``boss``: what it is called inside and outside; ``how``: how to touch it."""

    bore: ClassVar[str]
    boss: ClassVar[str]
    how: ClassVar[str] = "all round"

    def stem(self, recipe: Any) -> str:
        return (self.bore if recipe.inside else self.boss).capitalize()

    def label(self, recipe: Any, key: str) -> str:
        if key == "diameter" and recipe.share_of(key) != 1:
            return "radius"
        return super().label(recipe, key)

    def ask(self, recipe: Any, units: Units) -> str:
        where = "inside" if recipe.inside else "round"
        letter = f" (datum {recipe.datum})" if recipe.datum else ""
        return f"Touch {where} {recipe.name}{letter}, {recipe.hits} hits {self.how}."

    def side(self, recipe: Any, air: int) -> str:
        return f"inside, a {self.bore}" if air < 0 else f"outside, a {self.boss}"

    def doubt(self, recipe: Any, side: Side) -> str:
        if not side.witnesses:
            return "Nothing tells the side."
        words = {1: "outside", -1: "inside"}
        said = [f"{_WITNESS[k]} says {words[v]}" for k, v in side.witnesses.items()]
        return ", ".join(said) + "."

    def answers(self, recipe: Any) -> tuple[tuple[int, str], ...]:
        return ((-1, f"Inside: a {self.bore}"), (1, f"Outside: a {self.boss}"))


class SystemWords(KindWords):
    """Words for a coordinate system."""

    def stem(self, recipe: Any) -> str:
        return "Alignment"


class ToleranceWords(KindWords):
    """Words for a geometrical tolerance."""

    fields = {
        "of": "Of", "zone_mm": "Tolerance", "to_datum": "Datum", "datums": "Datums, primary first",
        "second": "And a second datum, that turns the zone",
        "across": "Zone", "boundary": "Its boundary",
        "offset_mm": "Middle of the zone, out of the material by",
        "angle_rad": "Angle to the datum",
    }  # fmt: skip

    def label(self, recipe: Any, key: str) -> str:
        return self.noun
