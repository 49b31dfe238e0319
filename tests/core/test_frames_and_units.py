import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import InputError
from zipplumb.core.frames import Motion, perpendicular_pair, points_of_poses
from zipplumb.core.units import NO_BREAK, length_from_text, length_text, mm, number_with_unit, sentence_in, whole_number

numbers = st.floats(-1e4, 1e4, allow_nan=False)


@given(st.lists(numbers, min_size=3, max_size=3), st.integers(0, 2**32 - 1))
def test_a_motion_and_its_inverse_leave_a_point_where_it_is(point, seed):
    motion = Motion(Rotation.random(random_state=seed % 2**31).as_matrix(), np.array([1.0, -2.0, 300.0]))
    assert np.allclose((motion.inverse() @ motion).points(point), point, atol=1e-8)


def test_quaternions_turn_as_the_reference_library_does(random):
    turn = Rotation.random(random_state=3)
    x, y, z, w = turn.as_quat()
    poses = np.array([[10, 20, 30, w, x, y, z]])
    offset = np.array([0.3, -0.2, 186.0])
    assert np.allclose(points_of_poses(poses, offset)[0], turn.apply(offset) + [10, 20, 30], atol=1e-12)


@given(st.lists(numbers, min_size=3, max_size=3).filter(lambda v: np.linalg.norm(v) > 1e-3))
def test_the_perpendicular_pair_is_right_handed(direction):
    u, v = perpendicular_pair(direction)
    axes = np.column_stack([u, v, np.array(direction) / np.linalg.norm(direction)])
    assert np.allclose(axes.T @ axes, np.eye(3), atol=1e-9)
    assert np.linalg.det(axes) > 0


@pytest.mark.parametrize(
    ("text", "units", "mm"),
    [("25.4", "mm", 25.4), ("1", "in", 25.4), ("1 in", "mm", 25.4), ("25,4 mm", "in", 25.4), ("3 thou", "mm", 0.0762)],
)
def test_a_typed_unit_goes_before_the_jobs(text, units, mm):
    assert length_from_text(text, units) == pytest.approx(mm, abs=1e-12)


@pytest.mark.parametrize("text", ["", "abc", "1.2.3", "nan", "inf", "1e99", "12 furlongs"])
def test_what_is_no_length_is_refused_in_words(text):
    with pytest.raises(InputError, match=r"Nothing was changed"):
        length_from_text(text, "mm")


@given(st.floats(-5000, 5000))
def test_inches_shown_and_typed_again_are_the_same_length(mm):
    shown = length_text(mm, "in").replace("−", "-")
    assert length_from_text(shown, "in") == pytest.approx(mm, abs=25.4 * 0.51e-4)


def test_a_deviation_of_nothing_has_no_minus():
    assert length_text(-1e-9, "mm", sign=True) == "+0.000"


def test_a_sentence_of_the_core_is_told_in_the_persons_units_and_names_stay():
    said = f"The 6 mm ball reads {mm(0.0184)} off, {mm(25.4, '.1f')} on, and {mm(1e-7, '.1e')}."
    assert sentence_in(said, "mm") == said
    told = sentence_in(said, "in").replace(NO_BREAK, " ")
    assert told == "The 6 mm ball reads 0.0007 in off, 1.0000 in on, and 4e-09 in."


@pytest.mark.parametrize(
    ("typed", "mm"),
    [
        ("−0.050", -0.05), ("\u00a0+1,5\u202fmm ", 1.5), ("2 In.", 50.8), ("3 inches", 76.2), ("0.5″", 12.7), ("4 ”", 101.6),
        ("12 µm", 0.012), ("12 μm", 0.012), ("1E-2", 0.01), (".5", 0.5), ("5.", 5.0),
    ],
)  # fmt: skip
def test_what_pages_show_and_other_keyboards_give_is_read(typed, mm):
    assert length_from_text(typed, "mm") == pytest.approx(mm)


@pytest.mark.parametrize("length", [-0.05, 12.3456, 0.0])
def test_a_length_that_a_page_shows_is_read_again(length):
    assert length_from_text(length_text(length, "mm", sign=True), "mm") == pytest.approx(length, abs=5e-4)


@pytest.mark.parametrize(
    ("typed", "found"),
    [
        ("6", 6),
        (" 6\u00a0", 6),
        ("+6", 6),
        ("0", 0),
        *dict.fromkeys(("-6", "6.0", "6 7", "", "\u0666", "2147483648", "9" * 40)).items(),
    ],
)
def test_a_whole_number_is_one_that_can_be_kept(typed, found):
    assert whole_number(typed) == found


@pytest.mark.parametrize("typed", ["3.5", "3,5 µrad", "+3.5\u202fμrad", "3.5µrad"])
def test_the_unit_of_a_field_may_stand_behind_its_number(typed):
    assert number_with_unit(typed, "µrad", "the angle") == 3.5


def test_a_motion_told_as_a_rotation_vector_and_a_shift_is_the_same_again():
    """Closed form: a quarter turn about Z takes X to Y."""
    quarter = Motion.from_rotvec([0, 0, np.pi / 2], [1, 2, 3])
    np.testing.assert_allclose(quarter.points(np.array([[1.0, 0, 0]])), [[1, 3, 3]], atol=1e-12)
    np.testing.assert_allclose(quarter.rotvec, [0, 0, np.pi / 2], atol=1e-12)
