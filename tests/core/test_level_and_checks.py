import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.core.alignment.level import lean, levelled
from zipplumb.core.errors import AlignmentError
from zipplumb.core.field_checks import drift, known_length, single_point, two_faces


def test_upright_from_the_level_or_a_plane_turns_as_little_as_may_be():
    up = np.array([0.01, -0.02, 1.0])
    motion = levelled(up, np.array([5.0, 6, 7]))
    assert motion.vectors(up / np.linalg.norm(up)) == pytest.approx([0, 0, 1])
    assert motion.points([5.0, 6, 7]) == pytest.approx([0, 0, 0], abs=1e-12)
    assert np.trace(motion.rotation) == pytest.approx(1 + 2 / np.linalg.norm(up), abs=1e-12)  # the angle between, no more
    with pytest.raises(AlignmentError, match="no direction"):
        levelled(np.zeros(3))


def test_a_lean_against_a_relative_zero():
    up = np.array([0, 0, 1.0])
    normal = np.array([np.sin(0.002), 0, np.cos(0.002)])
    assert lean(normal, up) == pytest.approx((0.0, 0.002), abs=1e-12)
    assert lean(normal, up, lean(normal, up)) == pytest.approx((0.0, 0.0), abs=1e-12)


def test_a_known_length_is_held_against_its_limit():
    """ISO 10360: the error of indication farthest from zero against the maximum permissible error."""
    ends = np.array([[[0, 0, 0], [1000.010, 0, 0]], [[0, 0, 0], [0, 999.950, 0]]])
    found = known_length(ends, 1000.0, 0.060, 0.005)
    assert found.result_mm == pytest.approx(-0.050)
    assert (found.verdict, known_length(ends, 1000, 0.052, 0.005).verdict, known_length(ends, 1000, 0.04, 0.005).verdict) == (
        "pass", "not proven", "fail",
    )  # fmt: skip
    assert "too short, the worst of 2" in found.words
    with pytest.raises(AlignmentError, match="both its ends"):
        known_length(np.zeros((1, 3)), 1000, 0.05)
    with pytest.raises(AlignmentError, match="limit above zero"):
        known_length(ends, 1000, 0)


def test_one_seat_from_many_poses_never_less_than_the_smallest_sphere(random):
    """The reference: miniball's smallest sphere round the places (ISO 10360-12 takes its diameter)."""
    import miniball

    places = random.normal(0, 0.01, (10, 3))
    _, square = miniball.get_bounding_ball(places)
    found = single_point(places, 0.1)
    assert 2 * np.sqrt(square) - 1e-12 <= found.result_mm <= 2.4 * np.sqrt(square)
    assert found.verdict == "pass"
    assert single_point(np.vstack([places, [0, 0, 0.2]]), 0.1).words.endswith("number 11.")
    with pytest.raises(AlignmentError, match="needs 5 readings"):
        single_point(places[:4], 0.1)


def test_two_faces_differ_across_the_line_of_sight_only():
    """Published: ISO 10360-10's two-face test looks across; a range error does not count."""
    front = np.array([[4000.0, 0, 0], [0, 8000.0, 0]])
    back = front + [[0.3, 0, 0], [0.04, 0.5, 0.03]]
    found = two_faces(front, back, 0.08)
    assert found.result_mm == pytest.approx(0.05, abs=1e-4)
    assert "target 2, 8.0 m" in found.words
    with pytest.raises(AlignmentError, match="same targets"):
        two_faces(front, back[:1], 0.08)


def test_drift_tells_a_moved_instrument_from_a_moved_nest(random):
    nests = random.uniform(-3000, 3000, (4, 3))
    moved = drift(["N1", "N2", "N3", "N4"], nests, nests + [0.2, 0, 0], 0.1)
    assert moved.verdict == "fail"
    assert "instrument had moved" in moved.words
    turned = nests @ Rotation.from_rotvec([0, 0, 5e-5]).as_matrix().T
    assert "instrument had moved" in drift(["N1", "N2", "N3", "N4"], nests, turned, 0.05).words
    assert "with a fourth nest" in drift(["N1", "N2", "N3"], nests[:3], turned[:3], 0.05).words
    alone = nests.copy()
    alone[2] += [0, 0.3, 0]
    found = drift(["N1", "N2", "N3", "N4"], nests, alone, 0.1)
    assert found.words.startswith("N3 wandered 0.300\u00a0mm")
    assert "own way" in found.words
    with pytest.raises(AlignmentError, match="measured twice"):
        drift(["N1"], nests, nests, 0.1)
