"""Roads to an alignment, the whole way through the sheet, against other libraries and closed forms.

- Plane, line, line: Gram-Schmidt on the directions that scikit-spatial fits to the same hits (practice: each datum takes
  only what those before it left; ISO 5459, ASME Y14.5).
- Six touches: the pose in which all six lie on their planes is the root of six equations, found by scipy.optimize.root.
- Reference points on a warm part: align_vectors of scipy with the lengths of ISO 1 (steel, 11.7e-6 per kelvin: memory).
- Guided points: the same after all of them as scipy's align_vectors, and a list touched in another order is named.
"""

import numpy as np
import pytest
from block import KIT, UP, Bench
from scipy.optimize import root
from scipy.spatial.transform import Rotation
from skspatial.objects import Line, Plane

from zipplumb.core.frames import Motion
from zipplumb.core.sheet import Kit, Sheet, StationPose, evaluate

TIP = 3.0
TURN = Rotation.from_rotvec([0.12, -0.2, 0.9])
SHOP = Kit({1: StationPose(1, Motion(TURN.as_matrix(), np.array([410.0, -95, 230])))}, KIT.calibrations)
NESTS = np.array([[0, 0, 0], [1800, 40, 10], [1700, 900, 0], [60, 950, 250], [900, 300, 420.0]])


def worked_out(bench, kit=SHOP):
    return evaluate(Sheet(tuple(bench.rows)), bench.readings, kit)[0]


def test_plane_line_line():
    bench = Bench(noise_mm=0.01)
    spots = [[x, y, 60 + TIP] for x in (-80, 0, 80) for y in (-60, 0, 60)]
    top = bench.add({"kind": "plane", "nominal": {"shape": "plane", "point": [0, 0, 60], "normal": [0, 0, 1]}}, spots, 0.4 * UP)
    lines = []
    for point, direction, air in (([0, -140, 60], [1, 0.001, 0], [0, -1, 0]), ([-250, 0, 60], [0, 1, 0], [-1, 0, 0])):
        lines.append(bench.edge(point, direction, air, top))
    steps = [
        {"step": "turn", "features": [top], "axis": "+Z"}, {"step": "turn", "features": [lines[0]], "axis": "+X"},
        {"step": "origin", "feature": top, "coordinates": "Z"}, {"step": "origin", "feature": lines[0], "coordinates": "Y"},
        {"step": "origin", "feature": lines[1], "coordinates": "X"},
    ]  # fmt: skip
    number = bench.add({"kind": "steps", "steps": steps, "onto": "own"})
    results = worked_out(bench)
    found = results[number].alignment.part_from_world

    hits = results[top].feature.centers
    normal = np.asarray(Plane.best_fit(hits).normal)
    normal *= np.sign(normal @ TURN.apply(UP))
    flat = results[lines[0]].feature.centers  # a line is measured in its plane
    flat = flat - np.outer((flat - hits.mean(axis=0)) @ normal, normal)
    along = np.asarray(Line.best_fit(flat).direction)
    along *= np.sign(along @ TURN.apply([1.0, 0, 0]))
    along = along - (along @ normal) * normal
    along /= np.linalg.norm(along)
    axes = np.array([along, np.cross(normal, along), normal])
    assert found.rotation == pytest.approx(axes, abs=2e-6)
    assert (found.points(hits)[:, 2] - TIP).mean() == pytest.approx(0, abs=1e-6)


def test_six_touches():
    """Three, two and one: exactly as many equations as freedoms."""
    places = np.array([[-80, -60, 60], [90, -50, 60], [10, 70, 60], [-100, -140, 30], [120, -140, 20], [-250, 10, 30.0]])
    normals = np.array([[0, 0, 1]] * 3 + [[0, -1, 0]] * 2 + [[-1, 0, 0.0]])
    bench = Bench(noise_mm=0.2)
    rows = [bench.touch(p, n) for p, n in zip(places, normals, strict=True)]
    holds = [{"feature": row, "directions": ["own"]} for row in rows]
    number = bench.add({"kind": "holds", "holds": holds})
    results = worked_out(bench)
    alignment = results[number].alignment
    assert alignment.ledger.spare == 0
    centers = np.array([results[row].feature.centers[0] for row in rows])

    def off(six):
        part = Rotation.from_rotvec(six[3:]).apply(TURN.inv().apply(centers - SHOP.stations[1].world_from_station.translation))
        return np.einsum("ij,ij->i", part + six[:3] - places, normals) - TIP

    solved = root(off, np.zeros(6), tol=1e-13)
    assert solved.success
    turn = Rotation.from_rotvec(solved.x[3:]) * TURN.inv()
    expected = Motion(turn.as_matrix(), solved.x[:3] - turn.apply(SHOP.stations[1].world_from_station.translation))
    assert alignment.part_from_world.points(centers) == pytest.approx(expected.points(centers), abs=1e-7)
    for values in alignment.residuals.values():
        assert values == pytest.approx(0, abs=1e-9)


def nests(bench, seen):
    """Points with their nominals in the drawing, measured where they are seen."""
    rows = []
    for nominal, place in zip(NESTS, seen, strict=True):
        raw = {"kind": "point", "nominal": {"shape": "point", "position": nominal.tolist()}}
        rows.append(bench.add(raw, place[None], 0.3 * UP))
    return rows


def test_reference_points_on_a_warm_part(random):
    """3 m of steel at 23.4 °C is longer by 0.119 mm (ISO 1)."""
    longer = 1 + 11.7e-6 * 3.4
    assert 3000 * (longer - 1) == pytest.approx(0.119, abs=5e-4)
    bench = Bench()
    rows = nests(bench, longer * NESTS + random.normal(0, 0.01, NESTS.shape))
    by = {"material": "carbon steel", "temperature_c": 23.4}
    warm = bench.add({"kind": "reference_points", "points": rows, "scale": by, "u_mm": 0.02})
    free = bench.add({"kind": "reference_points", "points": rows, "scale": "free", "u_mm": 0.02})
    results = worked_out(bench)
    found = results[warm].alignment
    seen = np.array([results[row].feature.shape.position for row in rows]) / longer
    turn, _ = Rotation.align_vectors(NESTS - NESTS.mean(axis=0), seen - seen.mean(axis=0))
    assert found.part_from_world.rotation == pytest.approx(turn.as_matrix(), abs=1e-9)
    assert found.scale == pytest.approx(1 / longer, rel=1e-12)
    scale = results[free].alignment
    assert abs(scale.scale - 1 / longer) < 3 * np.sqrt(scale.covariance[6, 6])


def test_guided_points_end_where_all_together_lead(random):
    bench = Bench()
    rows = nests(bench, NESTS + random.normal(0, 0.01, NESTS.shape))
    number = bench.add({"kind": "guided", "points": rows, "zone_mm": 0.1})
    results = worked_out(bench)
    seen = np.array([results[row].feature.shape.position for row in rows])
    turn, _ = Rotation.align_vectors(NESTS - NESTS.mean(axis=0), seen - seen.mean(axis=0))
    assert results[number].alignment.part_from_world.rotation == pytest.approx(turn.as_matrix(), abs=1e-9)
    assert results[number].alignment.doubt == ""


def test_guided_points_begin_with_the_third_and_name_two_that_were_exchanged(random):
    seen = NESTS[[0, 2, 1, 3, 4]] + random.normal(0, 0.01, NESTS.shape)
    bench = Bench()
    rows = nests(bench, seen)
    number = bench.add({"kind": "guided", "points": rows, "zone_mm": 0.1})
    readings = bench.readings
    for count in range(1, 6):
        some = {row: readings[row] for row in rows[:count]}
        found = evaluate(Sheet(tuple(bench.rows)), some, SHOP)[0][number]
        assert found.state == ("done" if count >= 3 else "waits"), found.message
    names = {row.id: row.recipe.name for row in bench.rows}
    assert found.alignment.doubt.startswith(f"{names[rows[1]]} and {names[rows[2]]} fit if they are exchanged")
