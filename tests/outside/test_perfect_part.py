"""A part without error, read without error, comes to its nominal, however it lies, is warm and is touched: a fact of geometry.

Each of 200 drawn poses and more is asked a few of all constructions, dimensions, alignments and tolerances that there are.
"""

import itertools

import numpy as np
import pytest
from perfect import PerfectPart
from scipy.spatial.transform import Rotation

from zipplumb.core.deriving import Given
from zipplumb.core.deriving.registry import derivations_for
from zipplumb.core.sheet import Sheet, evaluate

GIVEN = {"offset_mm": 7.0, "height_mm": 30.0, "diameter_mm": 20.0}
NUMBERS = Given(**GIVEN)
CLOSE = 2e-6  # mm or rad: by how much readings some metres away are rounded
STEEL = {"material": "carbon steel", "temperature_c": 27.0}
WARMER = 7.0


def results_of(part, active):
    return evaluate(Sheet(tuple(part.rows), active), part.readings, part.kit)[0]


def found_off(part, results, rows):
    """Rows that do not come to what they should be, with what they say."""
    off = []
    for row in rows:
        result = results[row]
        if result.state != "done":
            if "could not be worked out" in result.message or "unexpected" in result.message.lower():
                off.append((part.rows[row - 1].recipe, result.message))
            continue
        for each in result.characteristics:
            if each.deviation is not None and abs(each.deviation) > CLOSE:
                off.append((part.rows[row - 1].recipe, each.key, each.nominal, each.actual))
            if each.verdict is not None and each.verdict.word == "out":
                off.append((part.rows[row - 1].recipe, each.key, "out"))
    return off


# ---- constructions and dimensions ---------------------------------------------------------------


def make_all(part, features, ways):
    """A row for whatever some features make; those that are features, and those that are numbers."""
    made, numbers = [], []
    for of in ways:
        for derivation in derivations_for([features[row] for row in of], NUMBERS):
            if derivation.unit:
                numbers.append(part.add({"kind": "dimension", "of": list(of), "measure": derivation.key, **GIVEN}))
            else:
                made.append(part.add({"kind": "construction", "of": list(of), "make": derivation.key, **GIVEN}))
    return made, numbers


def some(draw, what, count):
    what = list(what)
    return [what[k] for k in draw.choice(len(what), min(count, len(what)), replace=False)]


@pytest.mark.parametrize("seed", range(20))
def test_all_that_features_make_of_each_other(seed):
    """In any order of choice, and what is made of what was made."""
    part = PerfectPart(seed)
    active = part.add(planes(part))
    named = list(part.named.values())
    features = {row: results_of(part, active)[row].feature.feature for row in named}
    pairs, threes = itertools.permutations(named, 2), itertools.permutations(named, 3)
    ways = some(part.draw, pairs, 14) + some(part.draw, threes, 3) + some(part.draw, ((row,) for row in named), 3)
    made, numbers = make_all(part, features, ways)
    results = results_of(part, active)
    there = [row for row in made if results[row].state == "done"]
    features |= {row: results[row].feature.feature for row in there}
    again = [
        pair
        for row in some(part.draw, there, 4)
        for other in some(part.draw, named, 1)
        for pair in ((row, other), (other, row))
    ]
    more = make_all(part, features, again)
    results = results_of(part, active)
    assert not found_off(part, results, [*made, *numbers, *more[0], *more[1]])
    judged = [results[row].characteristics[0] for row in (*numbers, *more[1]) if results[row].state == "done"]
    assert judged and all(each.nominal is not None for each in judged)


# ---- roads of alignment ---------------------------------------------------------------------------


def own(part, *names):
    return [{"feature": row, "directions": ["own"]} for row in part.of(*names)]


def datums(part, *names, laid="least_squares"):
    return {"kind": "datum_features", "datums": [{"features": part.of(name), "laid": laid} for name in names]}


def turn(part, axis, *names):
    return {"step": "turn", "features": part.of(*names), "axis": axis}


def origin(part, name, coordinates):
    return {"step": "origin", "feature": part.named[name], "coordinates": coordinates}


def planes(part):
    top, side, end = part.of("top", "side", "end")
    return {"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end}


ROADS = {
    "datum planes": planes,
    "plane, circle, slot": lambda p: datums(p, "top", "circle", "slot"),
    "bore, plane, bore": lambda p: datums(p, "bore", "top", "far bore"),
    "plane, bore, plane": lambda p: datums(p, "top", "bore", "side"),
    "plane, edge, plane": lambda p: datums(p, "top", "edge", "end"),
    "ball, circle, plane": lambda p: datums(p, "ball", "circle", "top"),
    "plane, cone, circle": lambda p: datums(p, "top", "cone", "other circle"),
    "planes from outside": lambda p: datums(p, "top", "side", "end", laid="outside"),
    "bores from outside": lambda p: datums(p, "bore", "top", "far bore", laid="outside"),
    "plane and bores from outside": lambda p: datums(p, "top", "bore", "far bore", laid="outside"),
    "holds: planes": lambda p: {"kind": "holds", "holds": own(p, "top", "side", "end")},
    "holds: bores": lambda p: {"kind": "holds", "holds": own(p, "top", "bore", "far bore")},
    "holds: many": lambda p: {"kind": "holds", "holds": own(p, "top", "bore", "far bore", "circle", "edge")},
    "guided": lambda p: {"kind": "guided", "points": p.of("point", "other point", "ball", "circle")},
    "reference points": lambda p: {"kind": "reference_points", "points": p.of("point", "other point", "ball", "circle")},
    "steps: plane, edge, point": lambda p: {
        "kind": "steps",
        "steps": [turn(p, "+Z", "top"), turn(p, "+X", "edge"), origin(p, "point", "XY"), origin(p, "top", "Z")],
    },
    "steps: plane, end edge, circle": lambda p: {
        "kind": "steps",
        "steps": [turn(p, "+Z", "top"), turn(p, "-Y", "end edge"), origin(p, "circle", "XY"), origin(p, "top", "Z")],
    },
    "steps: bore, two bores": lambda p: {
        "kind": "steps",
        "steps": [turn(p, "+Z", "bore"), turn(p, "+X", "bore", "far bore"), origin(p, "bore", "XY"), origin(p, "top", "Z")],
    },
    "steps: cross bore, plane": lambda p: {
        "kind": "steps",
        "steps": [turn(p, "-X", "cross bore"), turn(p, "+Z", "top"), origin(p, "cross bore", "YZ"), origin(p, "end", "X")],
    },
    "steps: a circle's plane, two circles": lambda p: {
        "kind": "steps",
        "steps": [turn(p, "+Z", "circle"), turn(p, "+X", "circle", "other circle"), origin(p, "circle", "XYZ")],
    },
}  # fmt: skip
WARM = ("datum planes", "plane, circle, slot", "bores from outside", "steps: plane, edge, point")


@pytest.mark.parametrize("road", ROADS)
def test_every_road_lays_the_part_where_it_is(road):
    """Ten poses each, 200 in all; nothing is doubted, and every feature is where it should be."""
    for seed in range(10):
        warmer = WARMER if road in WARM and seed % 2 else 0.0
        part = PerfectPart(seed + 1000 * list(ROADS).index(road), warmer)
        row = part.add(ROADS[road](part) | ({"warm": STEEL} if warmer else {}))
        results = results_of(part, row)
        found = results[row]
        assert found.state == "done", (seed, found.message)
        assert not found.system.alignment.doubt, (seed, found.system.alignment.doubt)
        assert not found_off(part, results, part.named.values()), seed


def test_where_nothing_tells_the_sense_it_is_said_and_a_person_may_tell_it():
    """Two edges and a plane lie as well turned by half a turn about the plane's normal: they have no sense of their own."""
    turned = 0
    for seed in range(6):
        part = PerfectPart(seed)
        steps = [turn(part, "+Z", "top"), turn(part, "+X", "edge"), origin(part, "end edge", "X"), origin(part, "edge", "Y")]
        recipe = {"kind": "steps", "steps": [*steps, origin(part, "top", "Z")]}
        row = part.add(recipe)
        found = results_of(part, row)[row].system.alignment
        assert "Nothing tells which way" in found.doubt and len(found.others) == 1
        right = part.lies.inverse().rotation
        wrong = not np.allclose(found.part_from_world.rotation, right, atol=1e-6)
        turned += wrong
        place = found.others[0].part_from_world if wrong else found.part_from_world
        assert np.allclose(place.rotation, right, atol=1e-6)
        said = part.add({**recipe, "settled_turn": tuple(Rotation.from_matrix(place.rotation).as_rotvec().tolist())})
        results = results_of(part, said)
        assert not results[said].system.alignment.doubt and not found_off(part, results, part.named.values())
    assert 0 < turned < 6


def test_without_nominals_a_line_points_the_way_it_was_touched():
    """From its first hit to its last; touched to and fro it points nowhere, and that is said."""
    part = PerfectPart(0)
    ends = {"one way": [-80, -30, 10, 60], "the other": [60, 10, -30, -80], "to and fro": [-30, 60, -80, 10]}
    found = {}
    for name, places in ends.items():
        spots = np.array([[x, -143.0, 60] for x in places])
        edge = part.add({"kind": "line", "plane": part.named["top"]}, spots, np.array([0.0, -1, 0]))
        steps = [turn(part, "+Z", "top"), {"step": "turn", "features": [edge], "axis": "+X"}, origin(part, "point", "XYZ")]
        row = part.add({"kind": "steps", "steps": steps, "onto": "own"})
        found[name] = results_of(part, row)[row].system.alignment
    along = {name: float((each.part_from_world.rotation @ part.lies.rotation)[0, 0]) for name, each in found.items()}
    assert along["one way"] == pytest.approx(1.0) and along["the other"] == pytest.approx(-1.0)
    assert [bool(each.doubt) for each in found.values()] == [False, False, True]


# ---- tolerances -------------------------------------------------------------------------------------

FORMS = {
    "straightness": ("edge", "end edge"), "flatness": ("top", "slant"), "roundness": ("circle", "other circle"),
    "cylindricity": ("bore", "leaning bore"),
}  # fmt: skip
TO_DATUM = {
    "perpendicularity": (("side", "top"), ("bore", "top"), ("edge", "end")),
    "parallelism": (("bottom", "top"), ("far bore", "bore"), ("far side", "side"), ("side", "bore")),
    "coaxiality": (("cone", "cone"), ("bore", "bore")),
    "circular_runout": (("top", "bore"), ("far bore", "far bore")),
    "total_runout": (("bottom", "bore"), ("top", "far bore")),
}
PLACED = {
    "position": ("circle", "slot", "bore", "leaning bore", "cross bore", "ball", "point"),
    "surface_profile": ("slant", "cone", "ball", "leaning bore", "far side"),
    "line_profile": ("circle", "slot"),
}


def tolerances_of(part, active):
    zone = {"zone_mm": 0.001}
    for kind, names in FORMS.items():
        yield from ({"kind": kind, "of": part.of(name), **zone} for name in names)
    for kind, pairs in TO_DATUM.items():
        pairs = [pair for pair in pairs if pair[0] != pair[1]]
        yield from ({"kind": kind, "of": part.of(of), "to_datum": part.named[datum], **zone} for of, datum in pairs)
    yield {"kind": "angularity", "of": part.of("slant"), "to_datum": part.named["top"], "angle_rad": np.pi / 4, **zone}
    own_datums = (("top", "side", "end"), ("bore", "top", "far bore"), ("top", "circle", "slot"))
    for kind, names in PLACED.items():
        for name in names:
            yield {"kind": kind, "of": part.of(name), **zone}
            for letters in own_datums:
                if kind == "position" and name in letters:
                    continue  # it is one of its own datums, and is refused
                for laid in ("least_squares", "outside") if "slot" not in letters else ("least_squares",):
                    system = [{"features": part.of(each), "laid": laid} for each in letters]
                    yield {"kind": kind, "of": part.of(name), "datums": system, **zone}
    for by in ("envelope", "two_point", "gaussian", "inscribed", "circumscribed"):
        yield {"kind": "size", "of": part.of("bore"), "by": by, "lower_mm": -0.01, "upper_mm": 0.01}
    yield {"kind": "hole_table", "of": part.of("circle", "other circle", "slot", "bore", "far bore"), "polar": True}
    yield {"kind": "hole_table", "of": part.of("circle", "slot"), "polar": True, "origin": part.named["other circle"]}
    yield {"kind": "position", "of": part.of("bore"), "condition": "maximum", **zone}
    at_limit = [{"features": part.of("top")}, {"features": part.of("bore"), "boundary": "maximum"}]
    yield {"kind": "position", "of": part.of("circle", "other circle"), "datums": at_limit, **zone}


@pytest.mark.parametrize("warmer", [0.0, 3.4, 12.0])
def test_every_tolerance_is_kept(warmer):
    for seed in range(2):
        part = PerfectPart(seed, warmer)
        warm = {"warm": {"material": "carbon steel", "temperature_c": 20 + warmer}} if warmer else {}
        active = part.add(ROADS["datum planes"](part) | warm)
        rows = [part.add(raw) for raw in tolerances_of(part, active)]
        results = results_of(part, active)
        assert not found_off(part, results, rows)
        assert not [results[row].message for row in rows if results[row].state != "done"]
