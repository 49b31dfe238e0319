"""Holds, the ledger, reference points: made-up parts whose place is known."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation
from stated import RUNS, Stated

from zipplumb.core.alignment.hold import Hold, touches_of
from zipplumb.core.alignment.holds import align_holds
from zipplumb.core.alignment.reference_points import align_reference_points, expansion_scale
from zipplumb.core.alignment.touches import Pose
from zipplumb.core.deriving.constructions import middle_plane
from zipplumb.core.errors import AlignmentError
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Cylinder, Line, Plane, Point, Slot, Sphere

XYZ = ("X", "Y", "Z")


def somewhere(seed):
    return Motion(Rotation.random(random_state=seed).as_matrix(), np.random.default_rng(seed).uniform(-2000, 2000, 3))


def features(world_from_part, random=None, noise=0.0):
    """A mixture of everything that can hold, seen in the world."""
    hole, slot = Circle([400, 0, 0], [0, 0, 1], 12), Slot([-400, 30, 0], [0, 0, 1], [1, 0, 0], 40, 16)
    ball, base = Sphere([0, 250, 60], 15), Plane([0, 0, 0], [0, 0, 1])
    bore, edge = Cylinder([100, -200, 40], [0, 1, 0], 30), Line([-100, -250, 0], [1, 0, 0])
    target = Plane([350, 250, 80], [0.6, 0, 0.8])

    def seen(shape):
        shift = random.normal(0, noise, 3) if random is not None else np.zeros(3)
        return shape.moved(Motion(np.eye(3), shift)).moved(world_from_part)

    reach = world_from_part.points(np.array([[x, y, 0] for x in (-300, 300) for y in (-200, 200)], float))
    axis = world_from_part.points(np.array([[100, -240, 40], [100, -160, 40]], float))
    return [
        Hold("base", base, seen(base), ("own",), 0.02, reach=reach),
        Hold("hole", hole, seen(hole), ("X", "Y"), 0.02),
        Hold("slot", slot, seen(slot), ("Y",), 0.02),
        Hold("ball", ball, seen(ball), ("X",), 0.05),
        Hold("bore", bore, seen(bore), ("own",), 0.03, reach=axis),
        Hold("edge", edge, seen(edge), ("Y",), 0.05),
        Hold("target", target, seen(Point(target.point)), ("own",), 0.02),
    ]


@settings(max_examples=25)
@given(st.integers(0, 10_000))
def test_any_mixture_of_holds_finds_a_part_that_lies_anywhere(seed):
    world_from_part = somewhere(seed)
    found = align_holds(features(world_from_part))
    back = found.part_from_world @ world_from_part
    assert np.allclose(back.rotation, np.eye(3), atol=1e-9)
    assert np.allclose(back.translation, 0, atol=1e-6)
    assert found.ledger.rank == 6
    assert found.ledger.spare == len(found.solved.touches) - 6


@settings(max_examples=15)
@given(st.integers(0, 10_000))
def test_aligning_a_moved_part_gives_the_moved_alignment(seed):
    random = np.random.default_rng(seed)
    holds = features(somewhere(1), random, 0.05)
    motion = somewhere(seed + 2)
    moved = [
        replace(h, actual=h.actual.moved(motion), reach=None if h.reach is None else motion.points(h.reach)) for h in holds
    ]
    here, there = align_holds(holds), align_holds(moved)
    same = there.part_from_world @ motion
    assert np.allclose(same.rotation, here.part_from_world.rotation, atol=1e-9)
    assert np.allclose(same.translation, here.part_from_world.translation, atol=1e-6)


def test_holds_in_all_directions_are_the_plain_best_fit(random):
    """The reference: scipy's Rotation.align_vectors on centered points."""
    nominal = random.uniform(-500, 500, (7, 3))
    actual = somewhere(3).points(nominal) + random.normal(0, 0.05, (7, 3))
    found = align_holds([Hold(str(k), Point(n), Point(a), XYZ) for k, (n, a) in enumerate(zip(nominal, actual, strict=True))])
    reference, _ = Rotation.align_vectors(nominal - nominal.mean(axis=0), actual - actual.mean(axis=0))
    assert np.allclose(found.part_from_world.rotation, reference.as_matrix(), atol=1e-10)


def test_holds_against_a_direct_least_squares(random):
    """The reference: scipy's least_squares on the held components, from the truth."""
    truth = somewhere(5)
    holds = features(truth, random, 0.05)
    found, touches = align_holds(holds), touches_of(holds, truth.inverse())
    back = truth.inverse()

    def residuals(p):
        pose = Pose(Motion(Rotation.from_rotvec(p[3:]).as_matrix() @ back.rotation, back.translation + p[:3]))
        return touches.residuals(pose) / touches.u_mm

    reference = least_squares(residuals, np.zeros(6), x_scale=[1, 1, 1, 1e-3, 1e-3, 1e-3], xtol=1e-15, ftol=1e-15, gtol=1e-15)
    ours = found.solved.linear.residuals / touches.u_mm
    assert ours @ ours == pytest.approx(2 * reference.cost, rel=1e-9)


def test_a_circle_a_slot_and_a_circle_held_just_enough_leave_nothing(random):
    """Practice: one circle in XYZ, a slot in two directions and a circle in one leave next to no residual."""
    truth = somewhere(8)
    shapes = [
        Circle([0, 0, 0], [0, 0, 1], 10),
        Slot([600, 0, 0], [0, 0, 1], [1, 0, 0], 40, 16),
        Circle([0, 400, 0], [0, 0, 1], 10),
    ]
    seen = [s.moved(Motion(np.eye(3), random.normal(0, 0.3, 3))).moved(truth) for s in shapes]
    directions = (XYZ, ("Y", "Z"), ("Z",))
    found = align_holds([Hold(n, s, a, d) for n, s, a, d in zip("ABC", shapes, seen, directions, strict=True)])
    assert max(np.abs(np.concatenate(list(found.residuals.values())))) < 1e-9
    assert found.ledger.spare == 0
    assert "prove nothing" in found.ledger.verdict


def test_six_touches_prove_nothing_whatever_was_touched(random):
    """Practice: 3-2-1 with exactly six touches gives zero residuals; a seventh shows what is wrong."""
    normals = np.array([[0, 0, 1.0]] * 3 + [[0, -1.0, 0]] * 2 + [[-1.0, 0, 0]])
    places = np.array([[-200, -100, 60], [200, -100, 60], [0, 100, 60], [-200, -140, 30], [200, -140, 30], [-250, 0, 30.0]])
    truth = somewhere(4)

    def holds(count, u_mm=0.5):
        off = random.normal(0, 0.5, (7, 3))
        ns, ps = np.vstack([normals, [[0, 0, 1.0]]])[:count], np.vstack([places, [[-100, 50, 60.0]]])[:count]
        return [
            Hold(f"touch {k + 1}", Plane(p, n), Point(truth.points(p + o)), ("own",), u_mm, facing=truth.vectors(n))
            for k, (p, n, o) in enumerate(zip(ps, ns, off, strict=False))
        ]

    six, seven = align_holds(holds(6)), align_holds(holds(7))
    assert np.abs(six.solved.linear.residuals).max() < 1e-9
    assert (six.ledger.rank, six.ledger.spare) == (6, 0)
    assert np.abs(seven.solved.linear.residuals).max() > 0.01
    assert seven.ledger.spare == 1
    assert "to prove it" in seven.ledger.verdict
    assert "Nothing tells which" in align_holds(holds(7, u_mm=0.001)).ledger.verdict


def test_three_planes_by_level_are_the_datum_rule(random):
    """ISO 5459: the primary is taken whole, the secondary turns, the tertiary slides, whatever they lean."""
    truth = Motion(np.eye(3), np.zeros(3))
    tilted = [
        Plane([0, 0, 0], [0.001, 0.002, 1]),
        Plane([0, -140, 0], [0.003, -1, 0.002]),
        Plane([-250, 0, 0], [-1, 0.004, 0.003]),
    ]
    nominal = [Plane([0, 0, 0], [0, 0, 1]), Plane([0, -140, 0], [0, -1, 0]), Plane([-250, 0, 0], [-1, 0, 0])]
    holds = [
        Hold(n, p, a.moved(truth), ("own",), level=k + 1)
        for k, (n, p, a) in enumerate(zip("ABC", nominal, tilted, strict=True))
    ]
    found = align_holds(holds, truth)
    first, second, third = found.residuals.values()
    assert np.abs(first).max() < 1e-9
    assert abs(second.mean()) < 1e-9
    assert abs(third.mean()) < 1e-9
    assert found.part_from_world.vectors(tilted[0].normal) == pytest.approx([0, 0, 1], abs=1e-12)
    assert found.part_from_world.vectors(tilted[1].normal)[0] == pytest.approx(0, abs=1e-12)


LOOSE = [
    ([("A", Plane([0, 0, 0], [0, 0, 1]), ("own",))], ["slides along X", "slides along Y", "turns about an axis along Z"], 3),
    ([("hole", Circle([100, 50, 0], [0, 0, 1], 9), XYZ)], ["axis along X", "axis along Y", "axis along Z"], 3),
    (
        [("bore", Cylinder([0, 20, 40], [1, 0, 0], 9), ("own",))],
        ["slides along X", "turns about an axis along X"], 4,
    ),
    (
        [("A", Plane([0, 0, 0], [0, 0, 1]), ("own",)), ("hole", Circle([100, 50, 0], [0, 0, 1], 9), ("X", "Y"))],
        ["turns about an axis along Z"], 5,
    ),
]  # fmt: skip


@pytest.mark.parametrize(("rows", "words", "rank"), LOOSE)
def test_what_is_loose_is_said_and_moving_along_it_changes_no_held_residual(rows, words, rank):
    identity = Motion.identity()
    found = align_holds([Hold(n, s, s, d) for n, s, d in rows], identity)
    assert found.ledger.rank == rank
    assert len(found.ledger.loose) == 6 - rank
    for word in words:
        assert any(word in m.words for m in found.ledger.loose), [m.words for m in found.ledger.loose]
    touches = found.solved.touches
    for loose in found.ledger.loose:
        small = loose.motion * 1e-6 / np.abs(loose.motion).max()
        moved = Pose(Motion(Rotation.from_rotvec(small[3:6]).as_matrix(), small[:3]))
        assert np.abs(touches.residuals(moved)).max() < 1e-9


def test_the_shares_of_a_freedom_add_up_and_name_who_holds_it():
    ledger = align_holds(features(somewhere(2))).ledger
    for freedom in ledger.freedoms:
        assert freedom.held == pytest.approx(1)
        assert sum(share for _, share in freedom.shares) == pytest.approx(1, abs=0.04)
    height = next(f for f in ledger.freedoms if f.name == "slides along Z")
    assert height.shares[0][0] == "base"


def test_the_ledger_does_not_depend_on_the_unit_of_length():
    """The same part ten times as large: the same shares, ten times the length, a tenth of the turn."""
    small = align_holds([Hold(str(k), Point(p), Point(p), XYZ, 0.02) for k, p in enumerate(np.eye(3) * 100)], Motion.identity())
    large = align_holds(
        [Hold(str(k), Point(p), Point(p), XYZ, 0.02) for k, p in enumerate(np.eye(3) * 1000)], Motion.identity()
    )
    for a, b in zip(small.ledger.freedoms, large.ledger.freedoms, strict=True):
        assert dict(a.shares) == pytest.approx(dict(b.shares))
        assert b.u == pytest.approx(a.u if a.name.startswith("slides") else a.u / 10)


def test_points_nearly_on_a_line_are_named_before_anybody_trusts_them():
    points = np.array([[0, 0, 0], [500, 2, 0], [1000, -2, 0], [1500, 1, 0.0]])
    found = align_holds([Hold(str(k), Point(p), Point(p), XYZ) for k, p in enumerate(points)])
    assert "turns about an axis along" in found.ledger.weakness
    assert "hardly holds" in found.ledger.verdict


def test_what_cannot_hold_is_refused_in_words():
    plane, ball = Plane([0, 0, 0], [0, 0, 1]), Sphere([0, 0, 0], 5)
    for holds, words in (
        ([], "Nothing holds"), ([Hold("A", plane, plane, ("X",))], "faces across X"),
        ([Hold("b", ball, ball, ("own",))], "no direction"),
        ([Hold("c", Cylinder([0, 0, 0], [1, 0, 0], 5), Cylinder([0, 0, 0], [1, 0, 0], 5), ("X",))], "runs along X"),
        ([Hold("A", plane, plane, ("own",), u_mm=0.0)], "uncertainty above zero"),
    ):  # fmt: skip
        with pytest.raises(AlignmentError, match=words):
            align_holds(holds, Motion.identity())


NESTS = np.array([[x, y, z] for x in (-1700, 1700) for y in (-700, 700) for z in (0, 550)], float)
NAMES = [f"N{k + 1}" for k in range(8)]


def test_reference_points_with_scale_free_fixed_or_by_temperature(random):
    """Published: ISO 1; 3 m of steel at 23.4 °C is longer by 0.119 mm (α from memory: handbook)."""
    assert (expansion_scale("carbon steel", 23.4) - 1) * 3000 == pytest.approx(0.119, abs=5e-4)
    grown = expansion_scale("carbon steel", 23.4)
    actual = somewhere(6).points(NESTS * grown) + random.normal(0, 0.005, (8, 3))
    free = align_reference_points(NAMES, NESTS, actual, None, 0.005)
    known = align_reference_points(NAMES, NESTS, actual, 1 / grown, 0.005)
    rigid = align_reference_points(NAMES, NESTS, actual, 1.0, 0.005)
    assert 1 / free.scale == pytest.approx(grown, abs=5e-6)
    assert known.solved.variance_factor < 2 < rigid.solved.variance_factor
    assert free.ledger.spare == 24 - 7
    for wrong, words in (("cheese", "not known"), ("brass 70/30", "no shop")):
        with pytest.raises(AlignmentError, match=words):
            expansion_scale(wrong, 400.0)


def test_the_reference_point_that_disagrees_is_named(random):
    actual = somewhere(7).points(NESTS) + random.normal(0, 0.01, (8, 3))
    assert align_reference_points(NAMES, NESTS, actual, u_mm=0.01).worst.sure < 0.95
    actual[4] += [0.2, 0, -0.1]
    worst = align_reference_points(NAMES, NESTS, actual, u_mm=0.01).worst
    assert worst.name == "N5"
    assert worst.sure > 0.999
    for few in (2, 1):
        with pytest.raises(AlignmentError, match="three at least"):
            align_reference_points(NAMES[:few], NESTS[:few], actual[:few])
    with pytest.raises(AlignmentError, match="one line"):
        align_reference_points(NAMES[:4], np.outer(range(4), [1.0, 2, 3]), np.outer(range(4), [1.0, 2, 3]))


@pytest.mark.parametrize("case", ["mixture", "three just enough", "reference points with scale"])
def test_the_stated_uncertainty_of_a_place_holds_the_truth(case):
    """Of a far point (JCGM 102)."""
    random, errors = np.random.default_rng(31), Stated()
    far = np.array([900.0, 300, 200])
    ball = [Sphere(p, 10) for p in ([0, 0, 0], [600, 0, 0], [0, 400, 0])]
    for _ in range(RUNS):
        if case == "mixture":
            points = NESTS / 4
            off = random.normal(0, 0.02, (8, 3))
            holds = [Hold(n, Point(p), Point(p + o), ("X", "Y") if k % 2 else ("Z", "X"), 0.02)
                     for k, (n, p, o) in enumerate(zip(NAMES, points, off, strict=True))]  # fmt: skip
            found = align_holds(holds, Motion.identity())
        elif case == "three just enough":
            seen = [Sphere(b.center + random.normal(0, 0.02, 3), 10) for b in ball]
            holds = [Hold(n, b, s, d, 0.02) for n, b, s, d in zip("ABC", ball, seen, (XYZ, ("Y", "Z"), ("Z",)), strict=True)]
            found = align_holds(holds, Motion.identity())
        else:
            found = align_reference_points(NAMES, NESTS, NESTS + random.normal(0, 0.02, (8, 3)), None, 0.02)
        errors.saw_place("far", found.solved.pose.points(far[None])[0] - far, found.solved.point_covariance(far))
    errors.must_hold()


def test_datum_features_by_level_are_planes_axes_and_middle_planes(random):
    """A plate datumed by its face, its bore, and the middle plane of a key slot's two walls."""
    face, bore = Plane([0, 0, 0], [0, 0, 1]), Cylinder([50, 20, 0], [0, 0, 1], 15)
    walls = Plane([0, 26, -5], [0, -1, 0]), Plane([0, 14, -5], [0, 1, 0])
    middle = middle_plane(*walls)
    truth, lean = somewhere(9), Motion(Rotation.from_rotvec([0.002, -0.001, 0.003]).as_matrix(), np.zeros(3))
    actual = [face.moved(truth), bore.moved(lean).moved(truth), middle_plane(*(w.moved(truth) for w in walls))]
    holds = [
        Hold(n, p, a, ("own",), level=k + 1)
        for k, (n, p, a) in enumerate(zip("ABC", (face, bore, middle), actual, strict=True))
    ]
    found = align_holds(holds)
    back = found.part_from_world @ truth
    assert np.allclose(back.vectors([0, 0, 1.0]), [0, 0, 1], atol=1e-9)  # the primary is taken whole
    assert back.points(lean.points(bore.point))[:2] == pytest.approx(bore.point[:2], abs=1e-6)  # the bore stays where it is
    turn = Rotation.from_matrix(back.rotation).as_rotvec()[2]  # and the middle plane turns the plate about it, by what it can
    assert found.residuals["C"] @ (
        found.solved.pose.points(touches_of(holds, truth.inverse()).world)[-3:, 0] - 50
    ) == pytest.approx(0, abs=1e-3)
    assert 1e-4 < abs(turn) < 5e-3
    assert found.ledger.rank == 6


def test_where_bores_stand_tells_the_turn_that_their_holds_leave_open():
    """A plane, a bore held in X and Y, another in Y alone: turned by 180° about the first it would fit too, but elsewhere."""
    plane = Hold("A", Plane(np.zeros(3), np.array([0, 0, 1.0])), Plane(np.zeros(3), np.array([0, 0, 1.0])), ("own",))
    axis = np.array([0, 0, 1.0])

    def bore(name, x, directions):
        shape = Cylinder(np.array([x, 0, 0.0]), axis, 5.0)
        return Hold(name, shape, shape, directions, reach=np.array([[x, 0, 0], [x, 0, 20.0]]))

    turn = Motion.from_quaternion([np.cos(1.3), 0, 0, np.sin(1.3)], [30, -20, 5])
    holds = [plane, bore("B", 0.0, ("X", "Y")), bore("C", 150.0, ("Y",))]
    moved = [
        replace(h, actual=h.actual.moved(turn), reach=None if h.reach is None else turn.points(h.reach)) for h in holds
    ]  # fmt: skip
    found = align_holds(moved)
    assert found.others == ()
    assert found.points(turn.points(np.array([[150.0, 0, 0]])))[0] == pytest.approx([150, 0, 0], abs=1e-6)


@pytest.mark.parametrize("u_mm", [(0.009, 0.009, 0.009, 0.009), (0.0064, 0.0083, 0.0078, 0.0066), (0.003, 0.02, 0.01, 0.006)])
def test_with_two_points_exchanged_it_settles_where_they_leave_least(u_mm):
    """Residuals of half a metre bend the problem: against scipy's least_squares from 30 starts."""
    nominal = np.array([[-300.0, 900, 400], [1500, 900, 380], [1500, 2600, 620], [-300, 2500, 640]])
    lies = Motion(Rotation.from_rotvec([3e-4, -2e-4, 0]).as_matrix(), np.array([-2600.0, 1800, 900])).inverse()
    actual = lies.points(nominal[[0, 2, 1, 3]])
    holds = [Hold(f"N{k}", Point(n), Point(a), XYZ, u) for k, (n, a, u) in enumerate(zip(nominal, actual, u_mm, strict=True))]
    found = align_holds(holds)
    cost = sum(float(np.sum((r / u) ** 2)) for r, u in zip(found.residuals.values(), u_mm, strict=True))

    def left(p):
        return ((Rotation.from_rotvec(p[:3]).apply(actual) + 1000 * p[3:] - nominal) / np.array(u_mm)[:, None]).ravel()

    starts = [Rotation.random(random_state=k) for k in range(30)]
    at = [np.concatenate([s.as_rotvec(), (nominal - s.apply(actual)).mean(axis=0) / 1000]) for s in starts]
    assert cost == pytest.approx(min(2 * least_squares(left, start).cost for start in at), rel=1e-6)
