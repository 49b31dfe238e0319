"""Sizes of round things in the sheet (ISO 14405-1, ISO 8015), on shapes of which everything is known in closed form.

- Of three even lobes every two-point size is the mean diameter, whatever the lobes: practice, and r(t) + r(t + π) = 2 R for
  r = R + a cos 3t. What goes in is 2 (R - a) across. So the envelope requirement tells what two points do not.
- Of two lobes the two-point sizes run from 2 (R - a) to 2 (R + a).
- A bonus of orientation and of coaxiality is the departure of the size from its limit: ASME Y14.5, ISO 2692.
"""

import numpy as np
import pytest
from block import KIT, TIP, Bench, block

from zipplumb.core.sheet import Sheet, evaluate

EVERY = np.linspace(0, 2 * np.pi, 24, endpoint=False)
R, A = 10.0, 0.03


def judged(bench, number):
    return evaluate(Sheet(tuple(bench.rows), None), bench.readings, KIT)[0][number]


def lobed(bench, lobes, inside=True, limits=None, lean=0.0, at=(0, 0)):
    air = -1 if inside else 1
    rim = np.column_stack([np.cos(EVERY), np.sin(EVERY), 0 * EVERY])
    wall = (R + A * np.cos(lobes * EVERY))[:, None] * rim if lobes else R * rim
    hits = np.vstack([wall + air * TIP * rim + [at[0] + lean * z, at[1], z] for z in (0.0, 15, 30)])
    nominal = {"shape": "cylinder", "point": (0, 0, 15), "direction": (0, 0, 1), "radius": R}
    more = {"asked": [{"key": "diameter", "lower": limits[0], "upper": limits[1]}]} if limits else {}
    return bench.add({"kind": "cylinder", "nominal": nominal, "inside": inside, **more}, hits, np.tile(air * 0.3 * rim, (3, 1)))


def size(bench, row, by, lower=-0.05, upper=0.05):
    found = judged(bench, bench.add({"kind": "size", "of": [row], "by": by, "lower_mm": lower, "upper_mm": upper}))
    assert found.state == "done", found.message
    return found


@pytest.mark.parametrize(("lobes", "least", "greatest"), [(3, 2 * R, 2 * R), (2, 2 * (R - A), 2 * (R + A))])
def test_two_points_see_even_lobes_only(lobes, least, greatest):
    bench = Bench(u_hit_mm=1e-5)
    found = size(bench, lobed(bench, lobes), "two_point")
    low, high = found.characteristics[1:]
    assert (low.actual, high.actual) == (pytest.approx(least, abs=1e-4), pytest.approx(greatest, abs=1e-4))
    assert found.verdict.word == ("in" if lobes == 3 else "out")


@pytest.mark.parametrize("inside", [True, False])
def test_the_envelope_tells_what_two_points_do_not(inside):
    """A bore of 20 with three lobes lets 19.94 in; a boss takes 20.06 to go over. Limits of ±0.05 refuse both."""
    bench = Bench(u_hit_mm=1e-5)
    row = lobed(bench, 3, inside)
    found = size(bench, row, "envelope")
    assert found.verdict.word == "out"
    mates = found.characteristics[1]
    assert mates.actual == pytest.approx(2 * (R - A) if inside else 2 * (R + A), abs=1e-4)
    assert ("goes in" if inside else "goes over") in mates.of
    assert size(bench, row, "two_point").verdict.word == "in"
    assert size(bench, row, "gaussian").first.actual == pytest.approx(2 * R, abs=1e-4)
    assert size(bench, row, "inscribed").first.actual == pytest.approx(2 * (R - A), abs=1e-4)
    assert size(bench, row, "circumscribed").first.actual == pytest.approx(2 * (R + A), abs=1e-4)


def test_limits_come_from_the_row_or_are_asked_for():
    bench = Bench(u_hit_mm=1e-5)
    bare, limited = lobed(bench, 0), lobed(bench, 0, limits=(0.01, 0.05))
    found = judged(bench, bench.add({"kind": "size", "of": [bare]}))
    assert (found.state, "No limits are asked" in found.message) == ("failed", True)
    found = judged(bench, bench.add({"kind": "size", "of": [limited]}))
    assert found.verdict.word == "out"  # 20.000 where 20.01 is the least
    sides = np.array([[np.cos(t), np.sin(t), 0] for t in (0.0, 2.1, 4.2)])  # none across from another
    told = {"shape": "circle", "center": (0, 0, 60), "normal": (0, 0, 1), "radius": R}
    top, *_ = block(bench)
    three = bench.add({"kind": "circle", "nominal": told, "plane": top}, (R - TIP) * sides + [0, 0, 60], -0.3 * sides)
    found = judged(bench, bench.add({"kind": "size", "of": [three], "lower_mm": -0.1, "upper_mm": 0.1}))
    assert "lie across from one another" in found.message


@pytest.mark.parametrize("kind", ["perpendicularity", "coaxiality"])
def test_direction_and_coaxiality_have_a_bonus_too(kind):
    """A bore that needs 0.12 of a zone of 0.05, of 20 with 19.9 as the most material: 0.05 + 0.1 allow it."""
    bench = Bench(u_hit_mm=1e-5)
    top, _, _ = block(bench)
    limits = (-0.1, 0.1)
    if kind == "perpendicularity":
        row, datum = lobed(bench, 0, limits=limits, lean=0.12 / 30), top
    else:
        row, datum = lobed(bench, 0, limits=limits, at=(0.06, 0)), lobed(bench, 0)
    raw = {"kind": kind, "of": [row], "zone_mm": 0.05, "to_datum": datum}
    bare, conditioned = judged(bench, bench.add(raw)), judged(bench, bench.add({**raw, "condition": "maximum"}))
    assert bare.first.actual == pytest.approx(0.12, abs=3e-4) and bare.verdict.word == "out"
    assert conditioned.first.upper == pytest.approx(0.15, abs=2e-4)
    assert conditioned.verdict.word == "close"
