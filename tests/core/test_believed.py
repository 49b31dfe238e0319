"""Verdicts that may be believed: what is loose, turned round, contradicted or in several places is never proven."""

import re
from decimal import Decimal

import numpy as np
import pytest
from block import KIT, TIP, UP, Bench, block
from scipy.spatial.transform import Rotation

from zipplumb.core.alignment.hold import Hold
from zipplumb.core.alignment.holds import align_holds
from zipplumb.core.alignment.reference_points import align_reference_points, expansion_scale
from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.errors import AlignmentError, PlumbError
from zipplumb.core.frames import Motion, small_motion
from zipplumb.core.shapes import Circle, Cylinder, Plane, Point, Sphere
from zipplumb.core.sheet import Kit, Sheet, evaluate
from zipplumb.core.tolerances import judge

XYZ = ("X", "Y", "Z")
LIMITS = {"lower": -0.05, "upper": 0.05}


def somewhere(seed):
    return Motion(Rotation.random(random_state=seed).as_matrix(), np.random.default_rng(seed).uniform(-2000, 2000, 3))


def worked(bench, alignment=None, kit=KIT):
    return evaluate(Sheet(tuple(bench.rows), alignment), bench.readings, kit)[0]


# ---- the alignment's scale ----------------------------------------------------------------------


def test_a_warm_part_is_judged_at_twenty_degrees_whatever_is_asked_of_it():
    """ISO 1: 2 m of aluminium (23.6e-6/K, handbook) at 35 °C is 0.708 mm longer; perpendicular or along X it is in."""
    bench = Bench(u_hit_mm=0.002)
    grown = expansion_scale("aluminium 6061", 35.0)
    nests = [bench.point(p, np.array(p) * grown) for p in ((0, 0, 0), (2000, 0, 0), (2000, 900, 0), (0, 900, 200))]
    faces = []
    for x, way in ((0.0, -1.0), (2000.0, 1.0)):
        normal = np.array([way, 0, 0])
        at = np.array([x, 400.0, 50]) * grown
        spots = at + TIP * normal + [[0, a, b] for a in (-60, 60) for b in (-40, 40)]
        nominal = {"shape": "plane", "point": (x, 400.0, 50.0), "normal": tuple(normal)}
        faces.append(bench.add({"kind": "plane", "nominal": nominal}, spots, normal))
    asked = ({"key": "value", **LIMITS},)
    length = {"kind": "dimension", "of": tuple(faces), "nominal_mm": 2000.0, "asked": asked}
    rows = [bench.add({**length, "measure": measure}) for measure in ("perpendicular_distance", "along_x")]
    scale = {"material": "aluminium 6061", "temperature_c": 35.0, "u_temperature_c": 0.0, "u_expansion": 0.0}
    active = bench.add({"kind": "reference_points", "points": tuple(nests), "scale": scale})
    results = worked(bench, active)
    for row in rows:
        assert results[row].first.deviation == pytest.approx(0, abs=1e-6)
        assert results[row].verdict.word == "in"


# ---- upside down, or in several places ------------------------------------------------------------


def test_a_part_that_is_nearly_symmetric_to_its_holds_never_lies_upside_down():
    """A plane, a bore square to it, a hole held in X and Y: 200 poses, with noise of the measuring."""
    plane, bore, hole = Plane([0, 0, 0], UP), Cylinder([0, 0, -10], UP, 12), Circle([180, 40, 0], UP, 6)
    random = np.random.default_rng(3)
    for seed in range(200):
        truth = somewhere(seed)

        def seen(shape, truth=truth):
            small = small_motion_of(random, 0.005, 2e-5)
            return shape.moved(small).moved(truth)

        reach = truth.points(np.array([[x, y, 0.0] for x in (-200, 200) for y in (-90, 90)]))
        ends = truth.points(np.array([[0, 0, -20.0], [0, 0, 0]]))
        flip = -1.0 if random.random() < 0.5 else 1.0
        axis = seen(bore)
        holds = [
            Hold("A", plane, seen(plane), ("own",), 0.01, reach=reach),
            Hold("bore", bore, Cylinder(axis.point, flip * axis.direction, axis.radius), ("own",), 0.01, reach=ends),
            Hold("hole", hole, seen(hole), ("X", "Y"), 0.01),
        ]
        found = align_holds(holds)
        back = found.part_from_world @ truth
        assert np.linalg.norm(small_motion(back)[3:]) < 0.01, seed
        assert not found.others


def small_motion_of(random, slide, turn):
    return Motion(Rotation.from_rotvec(random.normal(0, turn, 3)).as_matrix(), random.normal(0, slide, 3))


def test_two_crossing_axes_leave_several_places_and_that_is_said_and_settled_by_a_person():
    one, other = Cylinder([0, 0, 0], [1, 0, 0], 10), Cylinder([0, 0, 0], [0, 1, 0], 10)
    truth = somewhere(5)
    holds = [Hold(n, s, s.moved(truth), ("own",), 0.01) for n, s in (("first", one), ("second", other))]
    found = align_holds(holds)
    assert len(found.others) == 3  # each axis either way round
    assert "4 places equally well" in found.doubt
    assert all("turned by 180°" in place.words for place in found.others)
    assert found.ledger.verdict == found.doubt
    for place in found.others:
        again = align_holds(holds, near=place.part_from_world)
        assert not again.doubt
        assert np.allclose(again.part_from_world.rotation, place.part_from_world.rotation, atol=1e-9)


def test_a_side_that_cannot_be_is_refused_and_named():
    truth = Motion.identity()
    planes = [Plane([0, 0, 0], UP), Plane([0, -140, 0], [0, -1, 0]), Plane([-250, 0, 0], [-1, 0, 0])]
    holds = [Hold(n, p, p.moved(truth), ("own",)) for n, p in zip("ABC", planes, strict=True)]
    wrong = Hold("C", planes[2], planes[2].flipped(), ("own",))
    with pytest.raises(AlignmentError, match="inside the material"):
        align_holds([*holds[:2], wrong])


# ---- loose ----------------------------------------------------------------------------------------


def loose_bench():
    """A plane and a point held in X and Y: the turn about Z is free. Two faces and a step are judged."""
    bench = Bench()
    top = bench.plane([0, 0, 60], UP)
    pin = bench.point((100.0, 50.0, 60.0))
    asked = ({"key": "height", **LIMITS},)
    side = bench.plane([0, -140, 30], [0, -1, 0], asked=asked)
    low = bench.plane([0, 0, 20], UP, asked=asked)
    holds = ({"feature": top, "directions": ("own",)}, {"feature": pin, "directions": ("X", "Y")})
    active = bench.add({"kind": "holds", "holds": holds})
    return bench, side, low, active


def test_what_follows_a_loose_motion_is_not_proven_and_says_why_and_the_rest_is_judged():
    for seed in range(6):
        bench, side, low, active = loose_bench()
        bench.lies = somewhere(seed)
        bench.readings = {k: v for k, v in loose_moved(bench, seed).items()}
        results = worked(bench, active)
        loose = results[side].first
        assert loose.verdict.word == "not proven", seed
        assert np.isinf(loose.U)
        assert "turns about an axis along Z" in loose.unproven
        assert results[low].first.verdict.word == "in", seed
        assert results[low].first.U < 0.05


def loose_moved(bench, seed):
    """The same readings with the part lying elsewhere."""
    other, _, _, _ = loose_bench()
    turn = somewhere(seed) @ other.lies.inverse()
    found = {}
    for row, reading in other.readings.items():
        poses, approach = reading.poses.copy(), reading.approach.copy()
        poses[:, :3], approach[:, :3] = turn.points(poses[:, :3]), turn.points(approach[:, :3])
        off = None if reading.pull_off is None else np.array([*turn.points(reading.pull_off[:3]), 1, 0, 0, 0])
        found[row] = type(reading)(**{**vars(reading), "poses": poses, "approach": approach, "pull_off": off})
    return found


# ---- levels ---------------------------------------------------------------------------------------


def random_holds(random, levels):
    """Anything that holds, anywhere on a part of about a metre, and exactly where it should be."""
    holds = []
    for k in range(random.integers(2, 7)):
        at = random.uniform(-500, 500, 3)
        way = np.eye(3)[random.integers(3)] if random.random() < 0.7 else random.normal(size=3)
        kind = random.integers(3)
        level = int(random.integers(1, 4)) if levels else 1
        if kind == 0:
            plane = Plane(at, way)
            spread = random.uniform(10, 300)
            u, v = np.linalg.svd(plane.normal[None])[2][1:]
            reach = plane.point + spread * np.array([u, -u, v, -v])
            holds.append(Hold(f"H{k}", plane, plane, ("own",), random.uniform(0.005, 0.05), level, reach=reach))
        elif kind == 1:
            bore = Cylinder(at, way, 10)
            reach = bore.point + random.uniform(10, 100) * np.outer([-1, 1], bore.direction)
            holds.append(Hold(f"H{k}", bore, bore, ("own",), random.uniform(0.005, 0.05), level, reach=reach))
        else:
            ball = Sphere(at, 8)
            held = tuple(d for d in XYZ if random.random() < 0.6) or ("X",)
            holds.append(Hold(f"H{k}", ball, ball, held, random.uniform(0.005, 0.05), level))
    return holds


@pytest.mark.parametrize("levels", [False, True])
def test_rank_and_loose_motions_are_those_of_a_numerical_jacobian(levels):
    """CHECKS: random arrangements, with and without levels, against central differences of the holds' own residuals."""
    random = np.random.default_rng(17)
    for case in range(150):
        holds = random_holds(random, levels)
        found = align_holds(holds, Motion.identity())
        rows = numerical_jacobian(holds)
        _, values, vt = np.linalg.svd(rows)
        rank = int(np.sum(values > 1e-6 * values[0]))
        assert found.ledger.rank == rank, case
        null = vt[rank:]
        motions = np.array([m.motion for m in found.ledger.loose]).reshape(-1, 6) / [1, 1, 1, 1e-3, 1e-3, 1e-3]
        assert len(motions) == 6 - rank
        if len(motions):
            assert np.allclose(motions - motions @ null.T @ null, 0, atol=1e-6 * np.abs(motions).max()), case


def numerical_jacobian(holds, step=1e-4):
    """How the distances of what is held answer to slides (mm) and turns (per mm at 1 m) of the part."""

    def off(motion):
        found = []
        for hold in holds:
            moved = hold.actual.moved(motion)
            if isinstance(moved, Plane):
                found += [hold.nominal.distance(motion.points(hold.reach))]
            elif isinstance(moved, Cylinder):
                u, v = np.linalg.svd(hold.nominal.direction[None])[2][1:]
                ends = motion.points(hold.reach) - hold.nominal.point
                found += [ends @ u, ends @ v]
            else:
                found += [(moved.center - hold.nominal.center)[["XYZ".index(d) for d in hold.directions]]]
        return np.concatenate(found)

    columns = []
    for k in range(6):
        small = np.eye(6)[k] * step
        motions = [Motion(Rotation.from_rotvec(s * small[3:] / 1000).as_matrix(), s * small[:3]) for s in (1, -1)]
        columns.append((off(motions[0]) - off(motions[1])) / (2 * step))
    return np.array(columns).T


def test_a_small_primary_holds_its_turn_in_a_datum_system_and_its_far_end_is_not_known_well():
    """ISO 5459: precedence is strict. A 40 mm pad as A, bores 3 m away as B and C; the pad leans by 0.1 mrad."""
    pad, far = Plane([0, 0, 0], UP), [Cylinder([3000, y, 0], UP, 20) for y in (-200, 200)]
    lean = Motion(Rotation.from_rotvec([0, 1e-4, 0]).as_matrix(), np.zeros(3))
    reach = np.array([[x, y, 0.0] for x in (-20, 20) for y in (-20, 20)])
    holds = [Hold("A", pad, pad.moved(lean), ("own",), 0.003, 1, reach=lean.points(reach))]
    for level, (name, bore) in enumerate(zip("BC", far, strict=True), start=2):
        ends = bore.point + np.outer([-30, 30], UP)
        holds.append(Hold(name, bore, bore, ("own",), 0.003, level, reach=ends))
    found = align_holds(holds, strict=True)
    assert found.ledger.rank == 6
    assert np.abs(found.residuals["A"]).max() < 1e-9  # the pad is taken whole
    assert found.part_from_world.vectors(pad.moved(lean).normal) == pytest.approx(UP, abs=1e-12)
    far_end = found.u_along(np.array([3000.0, 0, 0]), UP)
    assert far_end > 50 * found.u_along(np.zeros(3), UP)
    assert "reaches farther" in found.ledger.weakness

    together = align_holds(holds)  # a best fit lets the bores help with what the pad holds weakly
    assert together.ledger.rank == 6
    assert together.u_along(np.array([3000.0, 0, 0]), UP) < far_end


# ---- contradictions --------------------------------------------------------------------------------

NESTS = np.array([[0, 0, 0], [1500, 0, 0], [1500, 800, 0], [0, 800, 0], [700, 400, 500]], float)
NAMES = ["N1", "N2", "N3", "N4", "N5"]


def test_spare_holds_that_contradict_are_named_and_nothing_is_proven_in_their_alignment():
    """One of five reference points 0.3 mm off; the face that is judged is perfect."""
    bench = Bench(u_hit_mm=0.01)
    random = np.random.default_rng(2)
    nests = [bench.point(p, p + random.normal(0, 0.01, 3) + [0, 0, 0.3 * (k == 2)]) for k, p in enumerate(NESTS)]
    asked = ({"key": "height", **LIMITS},)
    face = bench.plane([1400, 700, 0], UP, asked=asked)
    active = bench.add({"kind": "reference_points", "points": tuple(nests)})
    results = worked(bench, active)
    alignment = results[active].alignment
    assert f"Row {nests[2]} disagrees" in alignment.doubt
    assert 0.27 < float(re.search(r"by (0\.\d+)", alignment.doubt)[1]) < 0.33
    assert "to prove it" not in alignment.ledger.verdict
    assert results[face].first.verdict.word == "not proven"
    assert results[face].first.unproven == alignment.doubt
    assert abs(results[face].first.deviation) < 2 * results[face].first.uncertainty.u()


def test_mirrored_nominals_are_not_believed():
    found = align_reference_points(NAMES, NESTS * [-1, 1, 1], NESTS, u_mm=0.02)
    assert "contradict" in found.doubt
    assert "to prove it" not in found.ledger.verdict


def test_spare_holds_that_agree_are_believed_999_times_in_1000():
    """2,000 runs at the 99.9 % point: 2 expected, 10 would be a chance of one in 30,000 (Poisson)."""
    random, wrong = np.random.default_rng(8), 0
    for _ in range(2000):
        seen = NESTS + random.normal(0, 0.02, NESTS.shape)
        wrong += bool(align_reference_points(NAMES, NESTS, seen, u_mm=0.02).doubt)
    assert wrong < 10, wrong


# ---- tips ------------------------------------------------------------------------------------------

SMALL, UNSURE = (ProbeCalibration(k, np.zeros(3), d, 0.01) for k, d in ((2, 3.0), (3, 2 * TIP)))
TWO_TIPS = Kit(KIT.stations, {1: KIT.calibrations[1], 2: SMALL, 3: UNSURE})


def with_tips(bench, row, tips):
    """The hits of a row were taken by these."""
    reading = bench.readings[row]
    bench.readings[row] = type(reading)(**{**vars(reading), "calibrations": np.array(tips)})


@pytest.mark.parametrize("kind", ["bore", "plane", "sphere"])
def test_every_hit_has_the_radius_of_its_own_tip(kind):
    """A bore of 50.000, a plane, a ball of 40: some hits by a 6 mm tip, some by a 3 mm one."""
    bench = Bench()
    turn = np.linspace(0, 2 * np.pi, 8, endpoint=False)
    tips = np.array([1, 2, 1, 1, 2, 1, 2, 2] * 2)
    radii = np.where(tips == 1, TIP, 1.5)
    round_ = np.column_stack([np.tile(np.cos(turn), 2), np.tile(np.sin(turn), 2), np.zeros(16)])
    if kind == "bore":
        depth = np.repeat([5.0, 35.0], 8)[:, None] * UP
        nominal = {"shape": "cylinder", "point": (0, 0, 0), "direction": (0, 0, 1), "radius": 25.0}
        row = bench.add({"kind": "cylinder", "nominal": nominal}, round_ * (25 - radii)[:, None] + depth, -round_)
    elif kind == "sphere":
        out = round_ * np.repeat([1.0, 0.6], 8)[:, None] + np.repeat([0.0, 0.8], 8)[:, None] * UP
        nominal = {"shape": "sphere", "center": (0, 0, 0), "radius": 20.0}
        row = bench.add({"kind": "sphere", "inside": False, "nominal": nominal}, out * (20 + radii)[:, None], out)
    else:
        flat = round_ * np.repeat([30.0, 70.0], 8)[:, None]
        row = bench.add({"kind": "plane", "nominal": {"shape": "plane", "point": (0, 0, 0), "normal": (0, 0, 1)}},
                        flat + radii[:, None] * UP, UP)  # fmt: skip
    with_tips(bench, row, tips)
    found = worked(bench, kit=TWO_TIPS)[row]
    assert found.state == "done", found.message
    assert found.fit.form == pytest.approx(0, abs=1e-6)
    shape = bench.lies.inverse()
    back = found.feature.shape.moved(shape)
    if kind == "plane":
        assert back.distance(np.zeros((1, 3)))[0] == pytest.approx(0, abs=1e-6)
    else:
        assert 2 * back.radius == pytest.approx(50.0 if kind == "bore" else 40.0, abs=1e-6)


def test_a_distance_of_rows_touched_by_two_tips_knows_both():
    """A thickness: with one tip its radius counts twice, with two tips each counts once."""

    def thickness(first, second):
        bench = Bench(u_hit_mm=1e-4)
        top, bottom = bench.plane([0, 0, 60], UP), bench.plane([0, 0, 0], [0, 0, -1.0])
        for row, tip in ((top, first), (bottom, second)):
            with_tips(bench, row, [tip] * len(bench.readings[row].keys))
        row = bench.add({"kind": "dimension", "of": (top, bottom), "measure": "perpendicular_distance"})
        return worked(bench, kit=TWO_TIPS)[row].first.uncertainty.u()

    kit = TWO_TIPS.calibrations[3].u_radius_mm
    assert thickness(3, 3) == pytest.approx(2 * kit, rel=0.01)
    assert thickness(1, 3) == pytest.approx(kit, rel=0.01)


# ---- decisions -------------------------------------------------------------------------------------


@pytest.mark.parametrize("numbers", [
    (np.nan, -1, 1, 0), (0, -1, 1, np.nan), (0, np.nan, 1, 0), (np.inf, -1, 1, 0), (0, -1, 1, -0.1),
    (np.nan, -np.inf, np.inf, 0),
])  # fmt: skip
def test_what_is_no_number_is_never_in(numbers):
    with pytest.raises(PlumbError, match="no number"):
        judge(*numbers)


def test_at_a_limit_rounding_decides_nothing():
    """10,000 decimal cases, the actual exactly at a limit or one unit beyond: judged as decimal arithmetic judges them."""
    random = np.random.default_rng(4)
    for _ in range(5000):
        nominal = Decimal(int(random.integers(1, 10**7))) / 10**4
        upper = Decimal(int(random.integers(1, 5000))) / 10**4
        for unit in (0, 1):
            actual = nominal + upper + Decimal(unit) / 10**4
            deviation = float(actual) - float(nominal)
            rounding = 4 * np.finfo(float).eps * float(actual)
            word = judge(deviation, -float(upper), float(upper), 0.0, rounding).word
            assert (word == "out") == bool(unit), (nominal, upper, unit)


def test_block_is_as_before():
    """The whole sheet of a part in order has no doubt."""
    bench = Bench()
    datums = block(bench)
    active = bench.add(dict(zip(("primary", "secondary", "tertiary"), datums, strict=True)) | {"kind": "datum_planes"})
    assert not worked(bench, active)[active].alignment.doubt


def test_single_touches_whose_sides_nobody_knows_are_told_by_where_they_lie_or_asked_about():
    """3-2-1 with no word of the sides: touched where it was asked, one place is right; touched anywhere, several are."""
    normals = np.array([UP] * 3 + [[0, -1.0, 0]] * 2 + [[-1.0, 0, 0]])
    asked = np.array([[-200, -100, 60], [200, -100, 60], [0, 100, 60], [-200, -140, 30], [200, -140, 30], [-250, 0, 30.0]])
    truth, random = somewhere(12), np.random.default_rng(6)
    near = asked + random.normal(0, 8, asked.shape) * (normals == 0)
    faces = [Plane(p, n) for p, n in zip(asked, normals, strict=True)]
    holds = [Hold(str(f), f, Point(truth.points(q)), ("own",), 0.02) for f, q in zip(faces, near, strict=True)]
    found = align_holds(holds)
    assert np.allclose((found.part_from_world @ truth).rotation, np.eye(3), atol=1e-6)
    assert not found.others
    middles = np.array([[0, 0, 60.0]] * 3 + [[0, -140, 0]] * 2 + [[-250, 0, 0]])
    holds = [Hold(h.name, Plane(m, n), h.actual, ("own",), 0.02) for h, m, n in zip(holds, middles, normals, strict=True)]
    assert "equally well" in align_holds(holds).doubt


def test_held_points_of_a_plate_know_which_way_round_it_lies():
    """Six touches as points held in one direction each fit turned round too; where the centers lie tells."""
    places = np.array([[-200, -100, 0], [200, -100, 0], [0, 100, 0], [-200, -140, 0], [200, -140, 0], [-250, 0, 0]], float)
    held = [("Z",)] * 3 + [("Y",)] * 2 + [("X",)]
    truth = somewhere(11)
    holds = [Hold(str(p), Point(p), Point(truth.points(p)), d, 0.01) for p, d in zip(places, held, strict=True)]
    found = align_holds(holds)
    back = found.part_from_world @ truth
    assert np.allclose(back.rotation, np.eye(3), atol=1e-6)
    assert not found.others


def test_what_is_not_known_of_the_temperature_is_not_known_of_a_length():
    """JCGM 100: 2 m of aluminium known to 1 K grows by 2000 × 23.6e-6 = 0.047 mm, more by what is not known of 23.6e-6."""

    def u_of_length(**more):
        bench = Bench(u_hit_mm=1e-4)
        nests = [bench.point(p) for p in ((0, 0, 0), (2000.0, 0, 0), (2000.0, 900.0, 0))]
        row = bench.add({"kind": "dimension", "of": (nests[0], nests[1]), "measure": "distance_of_the_middles"})
        by = {"material": "aluminium 6061", "temperature_c": 25.0, **more}
        return worked(bench, bench.add({"kind": "reference_points", "points": tuple(nests), "scale": by, "u_mm": 10}))[row]

    one = u_of_length(u_temperature_c=1.0, u_expansion=0.0).first
    assert one.uncertainty.u() == pytest.approx(2000 * 23.6e-6, rel=1e-2)
    assert one.budget[0][0].what == "temperature"
    both = u_of_length(u_temperature_c=1.0, u_expansion=0.1).first
    assert both.uncertainty.u() == pytest.approx(2000 * 23.6e-6 * np.hypot(1, 0.5), rel=1e-2)


def test_an_error_is_told_by_what_is_left_of_it_and_never_where_nothing_sees_it():
    """Three balls hold all; a fourth, near the first, is 0.05 off. Where only one holds the part no error is made up; the table
    and the worst U come from one computation."""
    balls = np.array([[0, 0, 0], [1200, 0, 0], [600, 15, 0], [20, 5, 0]], float)
    ways = (("X", "Y", "Z"), ("Y", "Z"), ("Z",), ("Z",))
    seen = balls + [[0, 0, 0], [0, 0, 0], [0, 0, 0], [0, 0, 0.05]]
    found = align_holds([Hold(f"B{k}", Point(balls[k]), Point(seen[k]), ways[k], 0.005) for k in range(4)], Motion.identity())
    left = max(float(np.abs(v).max()) for v in found.residuals.values())
    assert "contradict" in found.doubt
    told = [float(v) for v in re.findall(r"by (\d+\.\d+)", found.doubt)]
    assert all(value < 20 * left for value in told), (found.doubt, left)
    middle = found.solved.linear.center
    slides = [f.u for f in found.ledger.freedoms[:3]]
    assert slides == pytest.approx(np.sqrt(np.diag(found.point_covariance(middle))), rel=1e-9)


def test_what_is_left_of_a_contradiction_is_told_by_its_own_uncertainty():
    """Of five nests one is 0.3 mm off: what is left at it, and how many times its U that is."""
    random = np.random.default_rng(4)
    seen = NESTS + random.normal(0, 0.01, NESTS.shape) + np.eye(5)[2][:, None] * [0, 0, 0.3]
    found = align_reference_points(NAMES, NESTS, seen, u_mm=0.01)
    left, times = re.search(r"(0\.\d+)\s?mm is left at it, (\d+\.\d) times its U", found.doubt).groups()
    assert float(left) == pytest.approx(np.abs(found.residuals["N3"]).max(), abs=0.002)
    assert float(times) > 3
