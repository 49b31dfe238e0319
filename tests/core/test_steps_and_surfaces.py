import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from stated import monte_carlo

from zipplumb.core.alignment import align_datum_planes
from zipplumb.core.alignment.steps import AxisTurn, Origin, align_steps, align_without_cad, difference
from zipplumb.core.alignment.surfaces import align_surfaces
from zipplumb.core.errors import AlignmentError
from zipplumb.core.features import Feature
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Circle, Line, Plane, Point

WORLD = Motion(Rotation.from_euler("xyz", [20, -30, 50], degrees=True).as_matrix(), np.array([800.0, -300, 150]))
TOP, SIDE, END = Plane([0, 0, 60], [0, 0, 1]), Plane([0, -140, 0], [0, -1, 0]), Plane([-250, 0, 0], [-1, 0, 0])


def seen(shape, name="feature"):
    return Feature(name, shape.moved(WORLD))


def test_level_rotate_origin_in_any_order_give_the_part_back():
    edge, hole = seen(Line([0, -140, 60], [1, 0, 0])), seen(Circle([100, 20, 60], [0, 0, 1], 8))
    steps = [
        AxisTurn((seen(TOP),), "+Z"),
        AxisTurn((edge,), "+X"),
        Origin(hole, "XY", (100, 20, 0)),
        Origin(seen(TOP), "Z", (0, 0, 60)),
    ]
    for order in ([0, 1, 2, 3], [2, 0, 3, 1], [3, 2, 0, 1]):
        found = align_steps([steps[k] for k in order])
        back = found.part_from_world @ WORLD
        assert np.allclose(back.rotation, np.eye(3), atol=1e-12)
        assert np.allclose(back.translation, 0, atol=1e-9)
        assert found.ledger.loose == ()


def test_two_circles_a_flip_and_a_bolt_circle_clocked_by_a_hole():
    first, second = seen(Circle([0, 0, 0], [0, 0, 1], 9)), seen(Circle([300, 0, 0], [0, 0, 1], 9))
    flipped = align_steps([AxisTurn((seen(TOP),), "-Z"), AxisTurn((first, second), "+Y"), Origin(first)])
    assert flipped.part_from_world.points(WORLD.points([300, 0, 0])) == pytest.approx([0, 300, 0])
    assert flipped.part_from_world.points(WORLD.points([0, 0, 5])) == pytest.approx([0, 0, -5])
    pitch, hole = (
        seen(Circle([0, 0, 0], [0, 0, 1], 180)),
        seen(Circle(180 * np.array([np.cos(0.3), np.sin(0.3), 0]), [0, 0, 1], 9)),
    )
    clocked = align_steps([AxisTurn((pitch,), "+Z"), AxisTurn((pitch, hole), "+X", degrees=30), Origin(pitch)])
    assert clocked.part_from_world.points(hole.shape.center) == pytest.approx(180 * np.array([np.cos(np.pi / 6), 0.5, 0]))


def test_the_corner_of_three_leaning_planes_is_the_origin():
    leaning = Plane([-250, 0, 0], [-1, 0.01, 0.02])
    steps = [AxisTurn((seen(TOP),), "+Z"), AxisTurn((seen(SIDE),), "-Y")]
    found = align_steps([*steps, Origin(seen(TOP), "Z"), Origin(seen(SIDE), "Y"), Origin(seen(leaning), "X")])
    corner = np.linalg.solve([TOP.normal, SIDE.normal, leaning.normal], [60, 140, leaning.normal @ leaning.point])
    assert found.part_from_world.points(WORLD.points(corner)) == pytest.approx([0, 0, 0], abs=1e-9)


def test_planes_step_by_step_turn_like_datum_planes():
    """ISO 5459: the primary whole, the secondary's turn: the same axes by either road."""
    leaning = Plane([0, -140, 0], [0.01, -1, 0.02])
    found = align_steps([AxisTurn((seen(TOP),), "+Z"), AxisTurn((seen(leaning),), "-Y")])
    planes = align_datum_planes([TOP, SIDE, END], [p.moved(WORLD) for p in (TOP, leaning, END)])
    assert np.allclose(found.part_from_world.rotation, planes.part_from_world.rotation, atol=1e-12)


def test_without_cad_each_plane_stands_for_an_axis_chosen_at_the_device():
    found = align_without_cad([(seen(TOP), "+Z"), (seen(SIDE), "-Y"), (seen(END), "-X")])
    assert found.part_from_world.points(WORLD.points([-250, -140, 60])) == pytest.approx([0, 0, 0], abs=1e-9)
    with pytest.raises(AlignmentError, match="given twice"):
        align_without_cad([(seen(TOP), "+Z"), (seen(SIDE), "-Y"), (seen(END), "+Y")])


def test_actual_and_nominal_system_differ_by_six_numbers():
    small = Motion(Rotation.from_rotvec([1e-3, 0, -2e-3]).as_matrix(), np.array([0.1, -0.2, 0.3]))
    nominal = WORLD.inverse()
    assert difference(nominal, nominal) == pytest.approx(np.zeros(6), abs=1e-12)
    assert difference(small.inverse() @ nominal, nominal) == pytest.approx([0.1, -0.2, 0.3, 1e-3, 0, -2e-3])


def test_what_no_step_gave_is_loose():
    ledger = align_steps([AxisTurn((seen(TOP, "top"),), "+Z")]).ledger
    assert [m.words for m in ledger.loose[:3]] == ["slides along X", "slides along Y", "slides along Z"]
    assert ledger.loose[3].words == "turns about an axis along Z"
    assert [(f.held, f.shares) for f in ledger.freedoms[3:5]] == [(1.0, (("top", 1.0),))] * 2
    ledger = align_steps([Origin(seen(Point([0, 0, 0])), "XZ")]).ledger
    assert (ledger.rank, ledger.spare, ledger.loose[0].words) == (2, 0, "slides along Y")


def test_a_turn_left_over_goes_through_the_origins_own_place():
    hole = seen(Circle([100, 20, 60], [0, 0, 1], 8), "hole")
    ledger = align_steps([AxisTurn((seen(TOP),), "+Z"), Origin(hole, "XY", (100, 20, 0)), Origin(seen(TOP), "Z")]).ledger
    (turn,) = ledger.loose
    assert turn.words == "turns about an axis along Z"
    assert turn.motion[:3] + np.cross(turn.motion[3:], [100, 20, 0]) == pytest.approx([0, 0, 0], abs=1e-9)  # which stays


@pytest.mark.parametrize(
    ("steps", "words"),
    [
        ([AxisTurn((seen(TOP),), "+Z"), AxisTurn((seen(SIDE),), "-Y"), AxisTurn((seen(END),), "-X")], "nothing left to turn"),
        ([AxisTurn((seen(TOP),), "+Z"), AxisTurn((seen(TOP),), "+X")], "held already, so no turn"),
        ([AxisTurn((seen(TOP),), "+Z"), AxisTurn((seen(SIDE),), "-Z")], "the axis that is held"),
        ([AxisTurn((seen(Point([0, 0, 0])),), "+Z")], "no direction"),
        ([AxisTurn((seen(Point([0, 0, 0])), seen(Point([0, 0, 0]))), "+Z")], "one place"),
        ([AxisTurn((seen(TOP),), "up")], "no axis"),
        ([Origin(seen(Point([0, 0, 0]))), Origin(seen(Point([5, 0, 0])), "X")], "given twice"),
        ([AxisTurn((seen(TOP),), "+Z"), Origin(seen(TOP), "X")], "does not say where"),
        ([Origin(seen(TOP), "W")], "no coordinate"),
    ],
)
def test_a_step_that_cannot_be_is_refused_with_the_reason(steps, words):
    with pytest.raises(AlignmentError, match=words):
        align_steps(steps)


def test_the_uncertainty_of_the_steps_agrees_with_monte_carlo():
    """Published: JCGM 100 against JCGM 101."""
    spread = np.diag([0.004, 0.004, 0.006, 3e-5, 5e-5, 2e-5]) ** 2
    top, side, hole = (
        Feature.known(
            n, s.moved(WORLD), Motion(WORLD.rotation, WORLD.points(s.point if isinstance(s, Plane) else s.position)), spread
        )
        for n, s in (("top", TOP), ("side", SIDE), ("corner", Point([-250, -140, 60])))
    )
    steps = [AxisTurn((top,), "+Z"), AxisTurn((side,), "-Y"), Origin(hole)]
    found, place = align_steps(steps), WORLD.points([200.0, 100, 30])

    def where(a, b, c):
        moved = [AxisTurn((Feature("a", a),), "+Z"), AxisTurn((Feature("b", b),), "-Y"), Origin(Feature("c", c))]
        return align_steps(moved).part_from_world.points(place)

    _, seen_ = monte_carlo(where, [top, side, hole], 1500, np.random.default_rng(2))
    x, y, z = found.part_from_world.points(place)
    lever = np.hstack([np.eye(3), np.array([[0, z, -y], [-z, 0, x], [y, -x, 0]])])
    assert np.sqrt(np.diag(lever @ found.covariance @ lever.T)) == pytest.approx(np.sqrt(np.diag(seen_)), rel=0.1)


# ---- surfaces -----------------------------------------------------------------------------------

FACES = [  # middle, normal, half sides along two directions
    ([0, 0, 60], [0, 0, 1], [1, 0, 0], 250, 140),
    ([0, -140, 30], [0, -1, 0], [1, 0, 0], 250, 30),
    ([-250, 0, 30], [-1, 0, 0], [0, 1, 0], 140, 30),
    ([250, 0, 30], [1, 0, 0], [0, 1, 0], 140, 30),
    ([80, 60, 110], [0, 0.6, 0.8], [1, 0, 0], 60, 40),
    ([0, 140, 30], [0, 1, 0], [1, 0, 0], 250, 30),
]


def nearest(points):
    """The foot on the nearest of some rectangles."""
    best, feet, normals = np.full(len(points), np.inf), np.zeros_like(points), np.zeros_like(points)
    for middle, normal, u, a, b in FACES:
        v = np.cross(normal, u)
        rel = points - middle
        foot = middle + np.outer(np.clip(rel @ u, -a, a), u) + np.outer(np.clip(rel @ v, -b, b), v)
        distance = np.linalg.norm(points - foot, axis=1)
        closer = distance < best
        best[closer], feet[closer], normals[closer] = distance[closer], foot[closer], normal
    return feet, normals


def scan(random, n, noise):
    found = []
    for middle, normal, u, a, b in FACES:
        count = max(1, int(n * a * b / 91_000))
        v, at = np.cross(normal, u), random.uniform(-1, 1, (count, 2))
        flat = middle + np.outer(at[:, 0] * a, u) + np.outer(at[:, 1] * b, v)
        found.append(flat + np.outer(random.normal(0, noise, count), normal))
    return np.vstack(found)


def off(degrees, mm):
    turn = Rotation.from_rotvec(np.radians(degrees) * np.array([0.6, -0.48, 0.64])).as_matrix()
    return Motion(turn, np.array([0.6, 0, 0.8]) * mm) @ WORLD.inverse()


def test_a_scan_of_100_000_points_from_ten_degrees_and_fifty_millimetres_off():
    """It finds the truth of its made-up part within the uncertainty that it states, a tenth of the points on a clamp."""
    random = np.random.default_rng(6)
    points = scan(random, 100_000, 0.05)
    clamp = random.uniform([-60, -190, 60], [60, -150, 160], (len(points) // 12, 3))
    found = align_surfaces(WORLD.points(np.vstack([points, clamp])), nearest, off(10, 50), 0.05)
    back = found.part_from_world @ WORLD
    for place in np.array([[250, 140, 60], [-250, -140, 0], [0, 0, 60.0]]):
        u = np.sqrt(np.diag(found.solved.point_covariance(place)))
        assert np.all(np.abs(back.points(place) - place) < 4 * u + 1e-4)
    count = len(points) + len(clamp)
    clamped = np.arange(count) >= len(points)
    assert found.used[~clamped].mean() > 0.99
    assert found.used[clamped].mean() < 0.02
    assert not found.doubt
    assert found.rms == pytest.approx(0.05, rel=0.05)


def test_small_faces_count_though_a_large_one_lies_at_once(random):
    """Nine tenths of the light is of the top: the sides of which little was seen are not taken for what is not of the part."""
    top = np.column_stack([random.uniform([-250, -140], [250, 140], (40_000, 2)), 60 + random.normal(0, 0.02, 40_000)])
    points = np.vstack([top, scan(random, 5_000, 0.02)])
    for _ in range(20):
        turn, shift = random.normal(0, 0.02, 3), random.normal(0, 2.0, 3)
        start = Motion.from_rotvec(turn, shift) @ WORLD.inverse()
        found = align_surfaces(WORLD.points(points), nearest, start, 0.02)
        assert np.abs((found.part_from_world @ WORLD).points(points) - points).max() < 0.02
        assert not found.doubt


def test_a_dozen_touches_hold_and_six_prove_nothing(random):
    touches = WORLD.points(scan(random, 14, 0.0))
    found = align_surfaces(touches, nearest, off(2, 5), 0.02, reject=False)
    assert np.allclose((found.part_from_world @ WORLD).translation, 0, atol=1e-4)
    assert found.ledger.spare == len(touches) - 6
    with pytest.raises(AlignmentError, match="Six points"):
        align_surfaces(touches[:5], nearest, off(2, 5), 0.02)


def test_a_wrong_minimum_is_said(random):
    """Upside down it settles somewhere, and says that the points lie too far off."""
    turned = Motion(Rotation.from_rotvec([np.pi, 0, 0]).as_matrix(), np.array([0, 0, 60.0])) @ WORLD.inverse()
    found = align_surfaces(WORLD.points(scan(random, 600, 0.02)), nearest, turned, 0.02)
    assert found.doubt


def test_a_touch_that_contradicts_the_others_is_named_and_nothing_is_proven_in_its_alignment(random):
    touches = scan(random, 16, 0.005)
    names = [f"Touch {k + 1}" for k in range(len(touches))]
    good = align_surfaces(WORLD.points(touches), nearest, off(2, 5), 0.01, reject=False, names=names)
    assert not good.doubt
    wrong = touches.copy()
    wrong[4] += 0.15 * nearest(touches[4:5])[1][0]
    found = align_surfaces(WORLD.points(wrong), nearest, off(2, 5), 0.01, reject=False, names=names)
    assert "contradict" in found.doubt
    assert "Touch 5 disagrees" in found.doubt
    assert "to prove it" not in found.ledger.verdict
    back = found.part_from_world @ WORLD
    for place in np.array([[250, 140, 60], [-250, -140, 0.0]]):
        assert np.all(np.abs(back.points(place) - place) < 2 * np.sqrt(np.diag(found.point_covariance(place))))


def test_touches_that_agree_are_believed_999_times_in_1000():
    """500 runs at the 99.9 % point: half a one expected, 6 would be a chance of one in 70,000 (Poisson)."""
    random, doubted = np.random.default_rng(11), 0
    for _ in range(500):
        touches = scan(random, 12, 0.01)
        names = [str(k) for k in range(len(touches))]
        found = align_surfaces(WORLD.points(touches), nearest, WORLD.inverse(), 0.01, False, look_round=False, names=names)
        doubted += "contradict" in found.doubt
    assert doubted < 6
