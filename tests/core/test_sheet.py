"""evaluate(): pure, incremental, and honest about what it does not know."""

from dataclasses import replace

import numpy as np
import pytest

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.errors import InputError
from zipplumb.core.frames import Motion
from zipplumb.core.readings import HitSet
from zipplumb.core.sheet import Kit, Sheet, SheetRow, StationPose, evaluate, recipe_from_dict

RADIUS = 3.0
KIT = Kit({1: StationPose(1, Motion.identity())}, {1: ProbeCalibration(1, np.zeros(3), 2 * RADIUS, 0.002)})
WORLD_FROM_PART = Motion.from_quaternion([0.9, 0.1, -0.2, 0.3], [400, -120, 60])
FACES = {  # id: (a point, the outward normal, two directions along)
    1: ([0, 0, 60], [0, 0, 1], [1, 0, 0], [0, 1, 0]),
    2: ([0, -140, 30], [0, -1, 0], [1, 0, 0], [0, 0, 1]),
    3: ([-250, 0, 30], [-1, 0, 0], [0, 1, 0], [0, 0, 1]),
    4: ([250, 0, 30], [1, 0, 0], [0, 1, 0], [0, 0, 1]),
}
SPOTS = np.array([[-20, -20], [20, -20], [20, 20], [-20, 20.0]])


def reading(centers, outward, pull=20.0, sign=1, calibration=1):
    """Hits at tip centers (part), each come from and pulled off along ``outward``."""
    n = len(centers)
    upright = np.tile([1.0, 0, 0, 0], (n, 1))
    world, away = WORLD_FROM_PART.points(centers), WORLD_FROM_PART.points(centers + 15 * np.array(outward))
    last = WORLD_FROM_PART.points(centers[-1] + sign * pull * np.atleast_2d(outward)[-1])
    return HitSet(
        tuple(f"1.{k}" for k in range(n)), np.hstack([world, upright]), np.hstack([away, upright]), np.zeros(n, bool),
        np.ones(n, int), np.full(n, calibration), np.arange(n, dtype=float), np.array([*last, 1, 0, 0, 0]), 1, 1,
        u_hit_mm=0.012,
    )  # fmt: skip


def plane_hits(face, offset=0.0, **more):
    point, normal, u, v = (np.array(x, float) for x in FACES[face])
    spots = point + SPOTS @ np.array([u, v]) + (RADIUS + offset) * normal
    return reading(spots, normal, **more)


def plane_row(row, **more):
    point, normal, *_ = FACES[row]
    nominal = {"shape": "plane", "point": point, "normal": normal}
    raw = {"kind": "plane", "name": f"Plane {row}", "nominal": nominal, "datum": "ABC"[row - 1] if row < 4 else None}
    return SheetRow(row, recipe_from_dict(raw | more), True)


def whole_sheet(**last):
    rows = [plane_row(k) for k in (1, 2, 3)]
    rows.append(plane_row(4, asked=[{"key": "height", "lower": -0.1, "upper": 0.1}], **last))
    raw = {"kind": "datum_planes", "name": "Alignment 1", "primary": 1, "secondary": 2, "tertiary": 3}
    rows.append(SheetRow(5, recipe_from_dict(raw)))
    raw = {"kind": "dimension", "name": "Over all", "of": [3, 4], "measure": "perpendicular_distance", "nominal_mm": 500.0}
    rows.append(SheetRow(6, recipe_from_dict(raw)))
    return Sheet(tuple(rows), 5), {k: plane_hits(k) for k in (1, 2, 3)} | {4: plane_hits(4, offset=0.08)}


def test_the_whole_way_from_hits_to_verdict():
    results, _ = evaluate(*whole_sheet(), KIT)
    assert results[5].alignment.ledger.spare == 0
    assert np.allclose(results[5].alignment.part_from_world.rotation, WORLD_FROM_PART.inverse().rotation, atol=1e-9)
    assert results[4].first.deviation == pytest.approx(0.08, abs=1e-9)
    assert results[4].verdict.word == "close"
    assert results[6].first.actual == pytest.approx(500.08, abs=1e-9)


def test_a_datum_is_held_and_claims_no_deviation():
    results, _ = evaluate(*whole_sheet(), KIT)
    assert results[1].held
    assert results[1].first.deviation is None
    assert results[1].verdict is None


def test_only_what_changed_is_worked_out_again():
    sheet, readings = whole_sheet()
    before, memory = evaluate(sheet, readings, KIT)
    again, _ = evaluate(sheet, readings, KIT, memory)
    assert all(again[k] is before[k] for k in before)
    aside = np.array([True, False, False, False])
    after, _ = evaluate(sheet, readings | {4: replace(readings[4], aside=aside)}, KIT, memory)
    changed = {k for k in before if after[k] is not before[k]}
    assert changed == {4, 6}


def test_a_changed_datum_changes_all_that_rests_on_the_alignment():
    sheet, readings = whole_sheet()
    before, memory = evaluate(sheet, readings, KIT)
    after, _ = evaluate(sheet, readings | {3: plane_hits(3, offset=0.05)}, KIT, memory)
    assert {k for k in before if after[k] is not before[k]} == {1, 2, 3, 4, 5, 6}
    assert after[4].first.deviation == pytest.approx(0.08 + 0.05, abs=1e-9)


def test_rows_wait_for_what_they_rest_on():
    sheet, readings = whole_sheet()
    results, _ = evaluate(sheet, {k: readings[k] for k in (1, 2)}, KIT)
    assert results[5].state == "waits"
    assert "Plane 3" in results[5].message
    assert results[6].state == "waits"


def test_a_pull_off_to_the_wrong_side_asks():
    sheet, readings = whole_sheet()
    results, _ = evaluate(sheet, readings | {4: plane_hits(4, sign=-1)}, KIT)
    assert results[4].state == "asks"
    assert results[4].verdict is None


def test_a_datum_touched_from_the_wrong_side_is_seen_as_a_mirror():
    sheet, readings = whole_sheet()
    point, normal, u, v = (np.array(x, float) for x in FACES[3])
    through = reading(point + SPOTS @ np.array([u, v]) - RADIUS * normal, -normal)
    results, _ = evaluate(sheet, readings | {3: through}, KIT)
    assert results[5].state == "failed"
    assert "mirror" in results[5].message


def test_a_calibration_belongs_to_its_hits():
    sheet, readings = whole_sheet()
    bigger = ProbeCalibration(2, np.zeros(3), 2 * RADIUS + 0.1, 0.002)
    kit = Kit(KIT.stations, KIT.calibrations | {2: bigger})
    before, memory = evaluate(sheet, readings, kit)
    other = replace(readings[4], calibrations=np.full(4, 2))
    after, _ = evaluate(sheet, readings | {4: other}, kit, memory)
    assert after[4].first.deviation == pytest.approx(before[4].first.deviation - 0.05, abs=1e-9)


@pytest.mark.parametrize(
    ("raw", "words"),
    [
        ({"kind": "plane", "name": "P", "asked": [{"key": "off", "lower": 0.1, "upper": -0.1}]}, "upper limit lies below"),
        ({"kind": "plane", "name": ""}, "name"),
        ({"kind": "cylinder", "name": "C", "hits": 2}, "number of hits"),
        ({"kind": "plane", "name": "P", "datum": "AB"}, "datum letter"),
        ({"kind": "plane", "name": "P", "nominal": {"shape": "plane", "point": [0, 0, 0], "normal": [0, 0, 0]}}, "normal"),
        ({"kind": "plane", "name": "P", "tolerance": {"lower_mm": float("nan"), "upper_mm": 1}}, "tolerance"),
        ({"kind": "wheel", "name": "W"}, "refused"),
    ],
)
def test_a_recipe_that_does_not_hold_is_refused_by_its_field(raw, words):
    with pytest.raises(InputError, match=words):
        recipe_from_dict(raw)
