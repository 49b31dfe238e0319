"""Forms and recipes, there and back, for every kind."""

import pytest

from zipplumb.core.errors import InputError
from zipplumb.core.sheet import KINDS, recipe_from_dict
from zipplumb.jobs.plan.forms import changed, data_of, fields_of, texts_of

ROWS = {"feature": [("1", "1 Top"), ("2", "2 Hole")], "system": [("9", "9 Alignment")], "station": [("1", "Station 1")]}
PLANE = {"shape": "plane", "point": [1.5, -2, 60], "normal": [0, 0, 1]}
EXAMPLES = [
    {"kind": "laid_scan", "scans": [4, 5], "start": 6, "u_mm": 0.1},
    {"kind": "deviations", "scan": 4, "reach_mm": 2.0, "margin_mm": 0.8, "asked": [{"key": "largest", "upper": 0.2}]},
    {"kind": "touched_map", "of": [1, 2], "asked": [{"key": "largest", "upper": 0.2}]},
    {"kind": "scan_section", "scan": 4, "point": [0, 0, 60], "across": [0, 1, 0], "thick_mm": 0.5, "times": 20},
    {"kind": "comparison", "first": 5, "second": 6, "asked": [{"key": "largest", "upper": 0.2}]},
    {"kind": "pin", "map": 5, "at": [1, 2, 3], "asked": [{"key": "deviation", "lower": -0.1, "upper": 0.2}]},
    {"kind": "scan", "grid_mm": 0.8, "within_mm": 2.0, "margin_mm": 1.5},
    {"kind": "point", "nominal": {"shape": "point", "position": [1, 2, 3.25]}, "known_u_mm": 0.02,
     "asked": [{"key": "z", "upper": 0.1}]},
    {"kind": "surface_point", "nominal": PLANE, "hits": 3},
    {"kind": "line", "plane": 1, "nominal": {"shape": "line", "point": [0, 0, 0], "direction": [1, 0, 0]}},
    {"kind": "plane", "datum": "A", "nominal": PLANE, "asked": [{"key": "tilt", "upper": 0.001}, {"key": "height"}]},
    {"kind": "circle", "plane": 1, "terms": "radius", "inside": False,
     "asked": [{"key": "diameter", "lower": 0, "upper": 0.02}],
     "nominal": {"shape": "circle", "center": [0, 1.125, 0], "normal": [0, 0, 1], "radius": 12.5}},
    {"kind": "slot", "ends": "square", "nominal": {"shape": "slot", "center": [0, 0, 0], "normal": [0, 0, 1],
     "direction": [1, 0, 0], "length": 40, "width": 12, "ends": "square"}},
    {"kind": "ellipse", "plane": 1, "nominal": {"shape": "ellipse", "center": [0, 0, 0], "normal": [0, 0, 1],
     "major_direction": [1, 0, 0], "semi_major": 25, "semi_minor": 15}},
    {"kind": "arc", "inside": False, "asked": [{"key": "diameter", "lower": -0.2, "upper": 0.2}],
     "nominal": {"shape": "arc", "center": [0, 0, 0], "normal": [0, 0, 1], "radius": 40, "start": [1, 0, 0], "span_rad": 0.9}},
    {"kind": "sphere", "nominal": {"shape": "sphere", "center": [0, 0, 9], "radius": 12.7}},
    {"kind": "cylinder", "note": "4 places", "spacing_mm": 2.5,
     "nominal": {"shape": "cylinder", "point": [0, 0, 0], "direction": [0, 1, 0], "radius": 80}},
    {"kind": "cone", "nominal": {"shape": "cone", "apex": [0, 0, 5], "direction": [0, 0, 1], "half_angle": 0.5},
     "asked": [{"key": "angle", "lower": -0.002, "upper": 0.002}]},
    {"kind": "torus", "inside": False, "nominal": {"shape": "torus", "center": [0, 0, 5], "normal": [0, 0, 1],
     "major_radius": 50, "minor_radius": 8}},
    {"kind": "section_curve", "every_mm": 7.5, "nominal": {"shape": "section", "across": [0, 1, 0],
     "points": [[-20, 0, 60], [0, 0, 60], [20, 0, 60]], "normals": [[0, 0, 1]] * 3}},
    {"kind": "edge_point", "plane_hits": 3, "nominal": {"shape": "line", "point": [0, 0, 60], "direction": [0, -1, 0]}},
    {"kind": "proof", "asked": [{"key": "highest", "upper": 0.1}, {"key": "lowest", "lower": -0.1}]},
    {"kind": "free_surface", "face": 3, "hits": 30, "asked": [{"key": "profile", "upper": 0.4}]},
    {"kind": "touched", "flat": True, "plane": 1},
    {"kind": "steps", "steps": [
        {"step": "turn", "features": [1, {"through": [2, 1, 2]}], "axis": "+Z", "degrees": 30},
        {"step": "origin", "feature": 2, "at_mm": [1, 2, 3.5], "coordinates": "XY"}], "onto": "own", "against": 9},
    {"kind": "datum_planes", "primary": 1, "secondary": 2, "tertiary": 3},
    {"kind": "datum_features", "datums": [{"features": [1], "laid": "outside"}, {"features": [2, 3]}],
     "warm": {"material": "carbon steel", "temperature_c": 23.4}},
    {"kind": "holds", "scale": {"material": "carbon steel", "temperature_c": 23.4},
     "holds": [{"feature": 1, "directions": ["X", "Y"]}, {"feature": 2, "directions": ["own"], "u_mm": 0.01, "level": 2}]},
    {"kind": "reference_points", "points": [1, 2, 3], "scale": "free", "u_mm": 0.05},
    {"kind": "guided", "points": [1, 2, 3], "zone_mm": 0.2},
    {"kind": "surfaces", "features": [1, 2], "start": 9, "reject": True},
    {"kind": "planes_as_axes", "planes": [{"feature": 1, "axis": "-Y"}]},
    {"kind": "level", "station": 1, "origin": 2},
    {"kind": "construction", "of": [1, 2], "make": "middle_plane", "datum": "D"},
    {"kind": "dimension", "of": [1, 2], "measure": "angle", "nominal_rad": 1.25, "asked": [{"key": "value", "lower": -0.01}]},
    *({"kind": kind, "of": [1], "zone_mm": 0.02} for kind in ("straightness", "flatness", "roundness", "cylindricity")),
    *({"kind": kind, "of": [2], "zone_mm": 0.05, "to_datum": 1} for kind in (
        "parallelism", "perpendicularity", "coaxiality", "symmetry", "circular_runout", "total_runout")),
    {"kind": "angularity", "of": [2], "zone_mm": 0.05, "to_datum": 1, "angle_rad": 0.5},
    {"kind": "position", "of": [4, 5], "zone_mm": 0.3, "condition": "maximum",
     "datums": [{"features": [1]}, {"features": [2, 3], "boundary": "maximum"}]},
    {"kind": "scale_bar", "of": [1, 2], "length_mm": 1000.0, "within_mm": 0.05},
    {"kind": "size", "of": [1], "by": "two_point", "lower_mm": -0.1, "upper_mm": 0.2},
    {"kind": "line_profile", "of": [1], "zone_mm": 0.3, "datums": [{"features": [1]}]},
    {"kind": "surface_profile", "of": [1], "zone_mm": 0.3, "offset_mm": 0.05},
    {"kind": "bolt_circle", "of": [4, 5, 6], "places": 12, "within_mm": 0.1},
    {"kind": "hole_table", "of": [4, 5], "origin": 6, "polar": True, "within_mm": 0.1},
]  # fmt: skip


def recipe_of(raw):
    return recipe_from_dict({"name": "Row", **raw})


def flat(value):
    if isinstance(value, dict):
        return [v for k in sorted(value) for v in flat(value[k])]
    return [v for each in value for v in flat(each)] if isinstance(value, list | tuple) else [value]


def alike(first, second):
    a, b = (flat(r.model_dump(mode="json")) for r in (first, second))
    return len(a) == len(b) and all(
        x == pytest.approx(y, rel=1e-7, abs=1e-7) if isinstance(x, float) else x == y for x, y in zip(a, b, strict=True)
    )


def test_every_kind_has_an_example():
    assert {e["kind"] for e in EXAMPLES} == set(KINDS)


@pytest.mark.parametrize("units", ["mm", "in"])
@pytest.mark.parametrize("raw", EXAMPLES, ids=lambda raw: raw["kind"])
def test_a_form_filled_from_a_recipe_gives_the_recipe_again(raw, units):
    recipe = recipe_of(raw)
    available = recipe.available()
    texts = texts_of(recipe, units, available)
    base = None if KINDS[raw["kind"]].typed else recipe.model_dump(mode="json")
    again = recipe_from_dict(data_of(raw["kind"], texts, units, base, available))
    assert alike(recipe, again), (recipe, again)
    drawn = fields_of(raw["kind"], texts, units, ROWS, available, recipe)

    def named(fields):
        for field in fields:
            yield field
            yield from named(field.parts)

    by_path = {f.path: f for f in named(drawn)}
    for path, text in texts.items():  # what fills the form stands in the form
        if path in by_path and by_path[path].kind in ("text", "check"):
            assert by_path[path].value == text, path
    assert all(f.label for f in named(drawn))


def test_the_drawings_terms_turn_nominal_and_limits_together():
    raw = {"kind": "cylinder", "nominal": {"shape": "cylinder", "point": [0, 0, 0], "direction": [0, 0, 1], "radius": 10},
           "asked": [{"key": "diameter", "lower": -0.02, "upper": 0.04}]}  # fmt: skip
    available = recipe_of(raw).available()
    told = texts_of(recipe_of(raw), "mm", available)
    assert (told["nominal.radius"], told["asked.diameter.upper"]) == ("20", "0.04")
    told = texts_of(recipe_of({**raw, "terms": "radius"}), "mm", available)
    assert (told["nominal.radius"], told["asked.diameter.upper"]) == ("10", "0.02")


def test_what_was_not_typed_anew_stays_to_the_last_digit():
    recipe = recipe_of({"kind": "point", "nominal": {"shape": "point", "position": [1 / 3, 2, 3]}})
    before = texts_of(recipe, "in")
    typed = {**before, "name": "Nest", "hits": "2"}
    new = changed(typed, before)
    assert set(new) == {"name", "hits"}
    again = recipe_from_dict(data_of("point", new, "in", recipe.model_dump(mode="json")))
    assert again.nominal.position[0] == 1 / 3
    assert (again.name, again.hits) == ("Nest", 2)


@pytest.mark.parametrize(
    ("kind", "texts", "words"),
    [
        ("point", {"nominal.position.0": "1", "nominal.position.1": "two"}, "“two” in Nominal, point, Y"),
        ("point", {"nominal.position.0": "1"}, "Nominal, point, Y"),
        ("circle", {"hits": "²"}, "no whole number"),
        ("circle", {"hits": "99999999999"}, "no whole number"),
        ("plane", {"nominal.normal.0": "1e400"}, "is not a number"),
        ("holds", {"scale.is": "stretchy"}, "none of the choices"),
        ("steps", {"steps.0.step": "jump"}, "none of the choices"),
        ("dimension", {"of.0": "x"}, "no whole number"),
        ("cone of ice", {}, "no such kind"),
    ],
)  # fmt: skip
def test_what_does_not_hold_is_refused_by_the_name_of_its_field(kind, texts, words):
    with pytest.raises(InputError, match=words):
        data_of(kind, texts, "mm")


def test_blank_items_of_a_list_are_left_out():
    texts = {"name": "H", "holds.0.feature": "1", "holds.0.directions.0": "X", "holds.0.directions.1": "", "holds.0.level": "1",
             "holds.1.feature": "", "holds.1.directions.0": "", "holds.1.level": "1", "scale.is": "fixed"}  # fmt: skip
    assert len(recipe_from_dict(data_of("holds", texts, "mm")).holds) == 1


def by_path(fields):
    found = {}
    for each in fields:
        found[each.path] = each
        found |= by_path(each.parts)
    return found


@pytest.mark.parametrize("kind", [k for k, kind in KINDS.items() if "terms" in kind.model_fields and kind.typed])
@pytest.mark.parametrize("units", ["mm", "in"])
def test_a_round_thing_is_typed_as_the_drawing_tells_it(kind, units):
    """The field is named for what is typed; other terms turn nominal and limits together, and neither changes what is meant."""
    given = (("diameter", "mm"),)
    drawn = by_path(fields_of(kind, {}, units, {}))
    usual = KINDS[kind].usual_terms()
    assert (drawn["terms"].value, drawn["terms"].follows) == (usual, True)
    if "nominal.radius" not in drawn:
        return
    assert drawn["nominal.radius"].label.lower() == usual
    texts = {
        "terms": usual,
        "terms_typed": usual,
        "nominal.radius": "26",
        "asked.diameter.on": "1",
        "asked.diameter.upper": "0.2",
    }
    other = "radius" if usual == "diameter" else "diameter"
    share = 0.5 if other == "radius" else 2.0
    turned = by_path(fields_of(kind, {**texts, "terms": other}, units, {}, given, None))
    assert turned["nominal.radius"].label.lower() == other
    assert float(turned["nominal.radius"].value) == 26 * share
    assert float(turned["asked.diameter.upper"].value) == pytest.approx(0.2 * share)
    mm = 25.4 if units == "in" else 1.0
    meant = 26 * mm / (2 if usual == "diameter" else 1)
    late = {**texts, "terms": other}  # it was sent before the form had turned
    again = {
        **texts,
        "terms": other,
        "terms_typed": other,
        "nominal.radius": str(26 * share),
        "asked.diameter.upper": str(0.2 * share),
    }
    for typed in (texts, late, again):
        read = data_of(kind, typed, units, None, given)
        assert read["nominal"]["radius"] == pytest.approx(meant)
        assert read["asked"][0]["upper"] == pytest.approx(0.2 * mm * (2 if usual == "radius" else 1))
        assert read["terms"] == typed["terms"]
    wrong = {**texts, "terms": other, "nominal.radius": "wide"}
    assert by_path(fields_of(kind, wrong, units, {}))["nominal.radius"].value == "wide"


@pytest.mark.parametrize("kind", [key for key, kind in KINDS.items() if kind.typed])
def test_no_field_is_called_as_the_code_calls_it(kind):
    for path, drawn in by_path(fields_of(kind, {}, "mm", {})).items():
        assert not {"rad", "mm"} & set(drawn.label.split()), (path, drawn.label)
        assert "_" not in drawn.label, (path, drawn.label)


def test_limits_of_a_drawing_in_mm_stay_readable_in_an_inch_job():
    """−0.2 mm is −0.0078740157 in: it is shown as it was said, and read as the same number."""
    raw = {"kind": "cylinder", "name": "B", "asked": [{"key": "diameter", "lower": -0.2, "upper": 0.0254}]}
    texts = texts_of(recipe_from_dict(raw), "in", (("diameter", "mm"),))
    assert (texts["asked.diameter.lower"], texts["asked.diameter.upper"]) == ("-0.2 mm", "0.001")
    again = data_of("cylinder", {**texts, "asked.diameter.upper": "0.002"}, "in", available=(("diameter", "mm"),))
    assert again["asked"][0]["lower"] == -0.2
