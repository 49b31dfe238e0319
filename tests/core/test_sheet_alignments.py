"""Every alignment as a row of the sheet: from raw hits on a made-up part that lies anywhere to its place."""

import numpy as np
import pytest
from block import KIT, TIP, TURN, UP, WORLD, Bench, block

from zipplumb.core.frames import Motion
from zipplumb.core.sheet import Kit, PartSurfaces, StationPose


@pytest.fixture
def bench():
    return Bench()


def turn(axis, *features, **more):
    return {"step": "turn", "features": features, "axis": axis, **more}


def origin(feature, coordinates="XYZ", at=(0, 0, 0)):
    return {"step": "origin", "feature": feature, "coordinates": coordinates, "at_mm": at}


def test_plane_line_line_and_plane_line_point(bench):
    top, *_ = block(bench)
    front = bench.edge([0, -140, 60], [1, 0, 0], [0, -1, 0], top)
    left = bench.edge([-250, 0, 60], [0, 1, 0], [-1, 0, 0], top)
    nest = bench.point([-250, -140, 60])
    for last in ((origin(front, "Y"), origin(left, "X")), (origin(nest, "XY"),)):
        found, _ = bench.align(kind="steps", steps=[turn("+Z", top), turn("+X", front), *last, origin(top, "Z")])
        assert found.state == "done", found.message
        assert bench.lies_right(found)
        assert (found.alignment.ledger.rank, found.alignment.ledger.spare) == (6, 0)


def test_the_steps_own_system_flipped_and_turned(bench):
    top, *_ = block(bench)
    first, second = bench.circle([-200, 100, 60], 20, top), bench.circle([200, 100, 60], 20, top)
    steps = [turn("-Z", top), turn("+Y", first, second), origin(first)]
    found, _ = bench.align(kind="steps", steps=steps, onto="own")
    assert found.alignment.points(WORLD.points([200, 100, 60.0])) == pytest.approx([0, 400, 0], abs=1e-6)
    assert found.alignment.points(WORLD.points([-200, 100, 65.0])) == pytest.approx([0, 0, -5], abs=1e-6)
    found, _ = bench.align(kind="steps", steps=steps)
    assert bench.lies_right(found)  # laid on what the same steps make of the nominals
    by = {f.name: f.shares[0][0] for f in found.alignment.ledger.freedoms}
    assert by["turns about X"] == by["turns about Y"] == "Row 1"  # in the part's own axes
    assert by["turns about Z"] == "Row 4 and Row 5"


def test_a_bolt_circle_is_the_origin_clocked_by_one_of_its_holes(bench):
    """A3; the holes' centers are told by the circle, not typed again."""
    top, *_ = block(bench)
    at = 100 * np.column_stack([np.cos(TURN[::3] + 0.3), np.sin(TURN[::3] + 0.3)])
    holes = [bench.circle([20 + x, 10 + y, 60], 18, top) for x, y in at]
    pattern = {"through": holes}
    steps = [turn("+Z", top), turn("+X", pattern, holes[0], degrees=30), origin(pattern, "XY"), origin(top, "Z")]
    found, _ = bench.align(kind="steps", steps=steps, onto="own")
    assert found.state == "done", found.message
    first = found.alignment.points(WORLD.points([20 + at[0, 0], 10 + at[0, 1], 60]))
    assert first == pytest.approx([100 * np.cos(np.pi / 6), 50, 0], abs=1e-5)
    laid, _ = bench.align(kind="steps", steps=steps)
    assert bench.lies_right(laid, 1e-5)
    assert set(found.uses) == {top, *holes}
    planes = [bench.plane([0, 0, 60], [0, 0, 1]) for _ in range(3)]
    refused, _ = bench.align(kind="steps", steps=[turn("+Z", {"through": planes})])
    assert refused.state == "failed"


def test_what_datums_leave_over_proves_nothing(bench):
    """ISO 5459: a later datum gives way to those before it, so that no residual of it can contradict them."""
    planes = block(bench)
    for kind in ({"kind": "datum_features", "datums": [{"features": [p]} for p in planes]},
                 {"kind": "datum_planes", **dict(zip(("primary", "secondary", "tertiary"), planes, strict=True))}):  # fmt: skip
        found, _ = bench.align(**kind)
        assert (found.alignment.ledger.rank, found.alignment.ledger.spare) == (6, 0)
        assert "prove nothing" in found.alignment.ledger.verdict
    own = [{"feature": p, "directions": ["own"]} for p in planes]
    found, _ = bench.align(kind="holds", holds=own)
    assert found.alignment.ledger.spare == 3  # of a best fit they do


def test_datum_features_with_a_middle_plane(bench):
    top, *_ = block(bench)
    hole = bench.circle([50, 20, 60], 30, top)
    walls = bench.plane([0, 26, 40], [0, -1, 0]), bench.plane([0, 14, 40], [0, 1, 0])
    datums = [{"features": [top]}, {"features": [hole]}, {"features": walls}]
    found, _ = bench.align(kind="datum_features", datums=datums)
    assert found.state == "done", found.message
    assert bench.lies_right(found)
    assert [f.shares[0][0] for f in found.alignment.ledger.freedoms] == ["Row 4", "Row 4", "A", "A", "A", "Row 5-Row 6"]


def test_two_circles_and_a_slot_hold_with_next_to_no_residual(bench):
    """CHECKS: a circle in XYZ, a slot in two, a circle in one leave next to no residual in the held directions."""
    top, *_ = block(bench)
    first, slot, last = (
        bench.circle([-200, 0, 60], 20, top), bench.slot([200, 0, 60], 40, 12, top), bench.circle([0, 120, 60], 16, top)
    )  # fmt: skip
    holds = [
        {"feature": first, "directions": ["X", "Y", "Z"]},
        {"feature": slot, "directions": ["Y", "Z"]},
        {"feature": last, "directions": ["Z"]},
    ]
    found, _ = bench.align(kind="holds", holds=holds)
    assert bench.lies_right(found)
    assert found.alignment.ledger.spare == 0
    assert max(np.abs(r).max() for r in found.alignment.residuals.values()) < 1e-9


def test_reference_points_by_material_and_temperature(bench):
    places = np.array([[-1500, -600, 0], [1500, -600, 0], [1500, 600, 0], [-1500, 600, 0], [0, 0, 500.0]])
    grown = 1 + 11.7e-6 * 3.4
    points = [bench.point(p, p * grown) for p in places]
    by = {"material": "carbon steel", "temperature_c": 23.4}
    _, results = bench.align(kind="reference_points", points=points, scale=by)
    assert max(results[p].first.deviation for p in points) < 1e-6
    assert all(results[p].held for p in points)
    _, results = bench.align(kind="reference_points", points=points)
    assert max(results[p].first.deviation for p in points) > 0.05
    free, _ = bench.align(kind="reference_points", points=points, scale="free", against=len(bench.rows))
    assert free.alignment.scale == pytest.approx(1 / grown, abs=1e-9)
    assert len(free.alignment.covariance) == 7
    assert np.linalg.norm(free.system.difference[:3]) < 0.1
    refused, _ = bench.align(kind="reference_points", points=points, scale={"material": "cheese", "temperature_c": 20})
    assert "expansion of “cheese”" in refused.message


TOUCHES = (
    *(([x, y, 60], [0, 0, 1]) for x, y in ((-200, -100), (200, -100), (0, 100))),
    *(([x, -140, 30], [0, -1, 0]) for x in (-200, 200)),
    ([-250, 0, 30], [-1, 0, 0]),
)


def nearest_on_block(points):
    """The foot on the block's faces, by hand: the face whose plane is nearest."""
    faces = [(2, 60.0, 1), (1, -140.0, -1), (0, -250.0, -1), (2, 0.0, -1), (1, 140.0, 1), (0, 250.0, 1)]
    off = np.array([np.abs(points[:, axis] - at) for axis, at, _ in faces])
    which = np.argmin(off, axis=0)
    feet, normals = points.copy(), np.zeros_like(points)
    for k, (axis, at, sign) in enumerate(faces):
        feet[which == k, axis] = at
        normals[which == k, axis] = sign
    return feet, normals


def test_six_touches_hold_the_part_and_a_seventh_is_a_live_check(bench):
    touches = [bench.touch(*t) for t in TOUCHES]
    end = {"shape": "plane", "point": (250, 0, 30), "normal": (1, 0, 0)}
    asked = [{"key": "off", "lower": -0.2, "upper": 0.2}]
    raw = {"kind": "surface_point", "nominal": end, "asked": asked}
    check = bench.add(raw, [250 + TIP + 0.1, 0, 30], [1, 0, 0])
    holds = [{"feature": t, "directions": ["own"]} for t in touches]
    found, results = bench.align(kind="holds", holds=holds)
    assert bench.lies_right(found)
    assert "prove nothing" in found.alignment.ledger.verdict
    assert results[check].first.deviation == pytest.approx(0.1, abs=1e-6)
    assert results[check].verdict.word in ("in", "close")
    assert results[touches[0]].held


def test_touches_on_the_cads_surfaces_from_their_own_nominals_or_from_another_alignment(bench):
    touches = [bench.touch(*t) for t in TOUCHES] + [bench.touch([250, 50, 30], [1, 0, 0])]
    surfaces = PartSurfaces("a block", nearest_on_block)
    found, _ = bench.align(kind="surfaces", features=touches, surfaces=surfaces)
    assert found.state == "done", found.message
    assert bench.lies_right(found)
    again, _ = bench.align(kind="surfaces", features=touches, start=found.row, surfaces=surfaces)
    assert bench.lies_right(again)
    without, _ = bench.align(kind="surfaces", features=touches)
    assert "no CAD surfaces" in without.message


def test_planes_stand_for_axes_and_a_level_says_what_is_loose(bench):
    top, side, end = block(bench)
    planes = [{"feature": top, "axis": "+Z"}, {"feature": side, "axis": "-Y"}, {"feature": end, "axis": "-X"}]
    found, _ = bench.align(kind="planes_as_axes", planes=planes)
    assert found.alignment.points(WORLD.points([-250, -140, 60.0])) == pytest.approx([0, 0, 0], abs=1e-6)
    level, _ = bench.align(kind="level", plane=top, origin=top)
    assert level.alignment.ledger.rank == 3
    station = StationPose(1, Motion.identity(), WORLD.vectors(UP), 1e-5)
    nest = bench.point([0, 0, 60])
    level, _ = bench.align(kind="level", station=1, origin=nest, kit=Kit({1: station}, KIT.calibrations))
    assert level.alignment.points(WORLD.points([0, 0, 160.0])) == pytest.approx([0, 0, 100], abs=1e-6)
    assert level.alignment.u_along(np.array([1000.0, 0, 0]), UP) == pytest.approx(0.0142, abs=2e-4)  # 10 µrad, 10 µm
    (turn,) = level.alignment.ledger.loose
    assert turn.words == "turns about an axis along Z"
    assert turn.motion[:3] == pytest.approx([0, 0, 0], abs=1e-9)  # the nest stays
    blind, _ = bench.align(kind="level", station=1)
    assert "no level" in blind.message


def test_the_difference_of_two_systems_is_six_numbers_and_zero_against_its_like(bench):
    planes = block(bench)
    names = dict(zip(("primary", "secondary", "tertiary"), planes, strict=True))
    first, _ = bench.align(kind="datum_planes", **names)
    shifted = bench.point([0, 0, 60], [0.3, 0, 60])
    nests = [shifted, bench.point([200, 0, 60], [200.3, 0, 60]), bench.point([0, 100, 60], [0.3, 100, 60])]
    off, _ = bench.align(kind="reference_points", points=nests, against=first.row)
    assert off.system.difference == pytest.approx([0.3, 0, 0, 0, 0, 0], abs=1e-6)  # its zero stands 0.3 on in X
    same, _ = bench.align(kind="datum_planes", against=first.row, **names)
    assert same.system.difference == pytest.approx(np.zeros(6), abs=1e-9)


def test_what_cannot_be_is_said_and_the_rest_of_the_sheet_lives(bench):
    top, side, end = block(bench)
    one = bench.touch([0, 0, 60], [0, 0, 1])
    circle = bench.circle([0, 0, 60], 20, top)
    bare = bench.add({"kind": "plane"}, [[0, 0, 63], [50, 0, 63], [0, 50, 63]], [0, 0, 1])
    number = len(bench.rows)
    cases = [
        ({"kind": "steps", "steps": [turn("+Z", top), turn("+X", top)]}, "no turn is left"),
        ({"kind": "steps", "steps": [turn("+Z", top), origin(one, "Z")]}, "three hits in a small triangle"),
        ({"kind": "steps", "steps": [turn("+Z", bare)]}, "has no nominal"),
        ({"kind": "datum_planes", "primary": top, "secondary": circle, "tertiary": end}, "no plane with a nominal"),
        ({"kind": "datum_features", "datums": [{"features": [top, circle]}]}, "are no one datum"),
        ({"kind": "planes_as_axes", "planes": [{"feature": circle, "axis": "+Z"}]}, "is no plane"),
        ({"kind": "level", "plane": circle}, "is no plane"),
        ({"kind": "reference_points", "points": [top, side, end]}, "has no center"),
        ({"kind": "reference_points", "points": [top, side, 99]}, "gone, or is no feature"),
        ({"kind": "surfaces", "features": [top], "start": number + 10}, "rests on itself"),
    ]
    for k, (raw, words) in enumerate(cases, start=1):
        found, results = bench.align(**raw)
        assert found.row == number + k
        assert found.state == "failed", (raw, found.message)
        assert words in found.message, found.message
        assert results[top].state == "done"
