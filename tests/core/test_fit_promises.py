"""What a fit promises beside its shape: held parameters, uncertainty, the spoiling hit, doubts."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import FitError
from zipplumb.core.fitting import CRITERIA, FITS, LEAST, fit
from zipplumb.core.fitting.api import OUTLINES
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Plane

UP = np.array([0, 0, 1.0])


def hits(kind, seed=0, n=24, noise=0.01):
    """Hits all round a shape of a kind."""
    random = np.random.default_rng(seed)
    turn, spin, at = np.arange(n) * 2.4, np.arange(n) * 1.7, np.linspace(-1, 1, n)
    ring = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
    side = np.arange(n) % 4
    end, flank = np.where(side == 2, 1.0, -1.0), np.where(side == 0, 6.0, -6.0)
    across, square = np.where(side < 2, flank, 6 * np.sin(1.5 * at)), np.where(side < 2, flank, 5 * at)
    points = {
        "point": lambda: np.zeros((n, 3)),
        "line": lambda: np.outer(80 * at, [1, 0, 0]),
        "plane": lambda: np.column_stack([60 * np.cos(turn) * at, 50 * np.sin(turn) * at, 0 * at]),
        "circle": lambda: 25 * ring,
        "arc": lambda: 60 * np.column_stack([np.cos(at), np.sin(at), 0 * at]),
        "ellipse": lambda: ring * [30, 18, 0],
        "round_slot": lambda: np.column_stack([np.where(side < 2, 12 * at, end * (15 + 6 * np.cos(1.5 * at))), across, 0 * at]),
        "square_slot": lambda: np.column_stack([np.where(side < 2, 12 * at, end * 20), square, 0 * at]),
        "sphere": lambda: 12.7 * np.column_stack([np.cos(turn) * np.sqrt(1 - at**2), np.sin(turn) * np.sqrt(1 - at**2), at]),
        "cylinder": lambda: 25 * ring + np.outer(30 * at, UP),
        "cone": lambda: ring * (30 + 12 * at)[:, None] + np.outer(30 * at, UP),
        "torus": lambda: ring * (60 + 9 * np.cos(spin))[:, None] + np.outer(9 * np.sin(spin), UP),
    }[kind]()  # fmt: skip
    flat = [1, 1, 0] if kind in OUTLINES else [1, 1, 1]
    return points + random.normal(0, noise, points.shape) * flat


def somewhere(seed):
    return Motion(Rotation.random(random_state=seed).as_matrix(), np.random.default_rng(seed).uniform(-900, 900, 3))


@settings(max_examples=40)
@given(st.integers(0, 10_000), st.sampled_from(FITS))
def test_every_fit_moves_with_its_points(seed, kind):
    points, motion = hits(kind, seed), somewhere(seed)
    here, there = fit(kind, points), fit(kind, motion.points(points))
    assert there.rms == pytest.approx(here.rms, abs=1e-9)
    assert np.allclose(np.abs(there.residuals), np.abs(here.residuals), atol=1e-7)
    places = motion.points(points + 0.5)
    assert np.allclose(np.abs(here.shape.moved(motion).distance(places)), np.abs(there.shape.distance(places)), atol=1e-6)


@settings(max_examples=15)
@given(st.integers(0, 10_000), st.sampled_from([(c, k) for c, kinds in CRITERIA.items() for k in kinds if c != "gaussian"]))
def test_every_other_criterion_moves_with_its_points_and_keeps_its_word(seed, case):
    criterion, kind = case
    points, motion = hits(kind, seed), somewhere(seed)
    more, moved = {}, {}
    if criterion == "tangent":
        side = np.array([0, 1.0, 0]) if kind == "line" else UP
        more, moved = {"toward": side}, {"toward": motion.vectors(side)}
        if kind == "line":
            more["fixed"], moved["fixed"] = {"normal": UP}, {"normal": motion.vectors(UP)}
    here, there = fit(kind, points, criterion, **more), fit(kind, motion.points(points), criterion, **moved)
    assert there.form == pytest.approx(here.form, abs=1e-6)
    plain = fit(kind, points, **more)
    if criterion == "chebyshev":
        assert here.form <= plain.form + 1e-12
    if criterion in ("circumscribed", "tangent"):
        assert here.residuals.max() <= 1e-9
    if criterion == "inscribed":
        assert here.residuals.min() >= -1e-9
    assert np.all(np.linalg.eigvalsh(here.covariance) >= -1e-12)
    assert here.worst == here.gaussian.worst


HELD = [
    ("circle", "radius", 25.3), ("arc", "radius", 60.2), ("sphere", "radius", 12.5), ("cylinder", "radius", 25.2),
    ("cone", "half_angle", 0.4), ("torus", "minor_radius", 9.1), ("torus", "major_radius", 60.1),
    ("ellipse", "semi_major", 30.1),
    ("round_slot", "width", 12.1), ("square_slot", "length", 40.1),
    ("cylinder", "direction", [0, 0.01, 1]), ("cone", "direction", [0, 0.01, 1]), ("torus", "normal", [0.01, 0, 1]),
    ("plane", "normal", [0, 0.01, 1]), ("line", "direction", [1, 0.01, 0]), ("circle", "normal", [0, 0.01, 1]),
    ("circle", "center", [0.1, 0, 0]), ("sphere", "center", [0.1, 0, 0.2]), ("torus", "center", [0.1, 0, 0]),
    ("ellipse", "major_direction", [1, 0.01, 0]), ("ellipse", "center", [0.1, 0, 0]), ("round_slot", "direction", [1, 0.01, 0]),
    ("cylinder", "point", [0.1, 0, 5]), ("cone", "apex", [0, 0.1, -75]), ("plane", "point", [0, 0, 0.2]),
    ("line", "point", [0, 0.2, 0]),
]  # fmt: skip


@pytest.mark.parametrize(("kind", "name", "value"), HELD)
def test_what_is_held_is_held_and_the_rest_is_the_best(kind, name, value):
    points = hits(kind)
    held, free = fit(kind, points, fixed={name: value}), fit(kind, points)
    kept = getattr(held.shape, name)
    if name in ("point",):
        assert abs(held.shape.distance(np.array([value]))[0] + (held.shape.radius if kind == "cylinder" else 0)) < 1e-9
    elif name in ("direction", "normal", "major_direction"):
        assert abs(kept @ value) / np.linalg.norm(value) == pytest.approx(1, abs=1e-12)
    else:
        assert kept == pytest.approx(value, abs=1e-9)
    assert held.rms >= free.rms - 1e-12
    assert len(held.parameters) < len(free.parameters) + (kind in OUTLINES and name == "normal")
    j, e = held.jacobian, held.linear(points)[1].shape
    parts = held.linear(points)[0].ravel()
    assert np.allclose(j.T @ parts, 0, atol=1e-5 * np.abs(j).max() * np.sqrt(e[0])), "not a resting point"


def test_partial_data_with_a_known_radius_finds_the_middle():
    """A 20° arc says little of its center; with the radius given it says it well."""
    random = np.random.default_rng(3)
    turn = np.radians(np.linspace(0, 20, 15))
    arc = np.column_stack([300 * np.cos(turn), 300 * np.sin(turn), 0 * turn]) + random.normal(0, 0.01, (15, 3)) * [1, 1, 0]
    free, held = fit("arc", arc, fixed={"normal": UP}), fit("arc", arc, fixed={"normal": UP, "radius": 300.0})
    assert np.linalg.norm(held.shape.center) < 0.1 < np.linalg.norm(free.shape.center)
    assert held.u("x") < free.u("x") / 5
    assert held.u("radius") == 0


def test_a_shape_lies_in_the_plane_it_is_given():
    """Given, measured, or fitted to the same hits; a measured plane brings its own uncertainty."""
    above = hits("circle") + [0, 0, 4.0]
    nominal = fit("circle", above, fixed={"plane": Plane([0, 0, 3], [0, 0, 1])})
    assert nominal.shape.center[2] == pytest.approx(3)
    assert nominal.lies_in is None
    face = fit("plane", hits("plane", 4))
    measured = fit("circle", above, fixed={"plane": face})
    assert abs(face.shape.distance(measured.shape.center[None])[0]) < 1e-12
    assert measured.lies_in is face
    own = fit("circle", above)
    assert own.lies_in.points is own.points
    line = fit("line", hits("line"), fixed={"plane": face})
    assert line.residuals.min() < 0 < line.residuals.max()


def test_an_arc_knows_where_it_begins_and_ends():
    arc = fit("arc", hits("arc"), fixed={"normal": UP}).shape
    assert np.degrees(arc.span_rad) == pytest.approx(np.degrees(2.0), abs=0.1)
    assert np.allclose(arc.along(3)[1], arc.center + [arc.radius, 0, 0], atol=0.2)


@pytest.mark.parametrize(
    "kind", ["point", "line", "plane", "circle", "sphere", "cylinder", "cone", "torus", "ellipse", "round_slot"]
)
def test_the_spoiling_hit_is_named_for_every_shape(kind):
    points = hits(kind, n=25)
    result = fit(kind, points)
    outward = result.linear(points[7:8])[2][0, 0]
    points[7] += 0.3 * outward
    worst = fit(kind, points).worst
    assert worst.index == 7
    assert worst.sure > 0.99
    assert abs(worst.off_by_mm) == pytest.approx(0.3, abs=0.05)


@pytest.mark.parametrize("kind", ["point", "line", "plane", "circle", "sphere", "cylinder", "cone", "torus"])
def test_a_hit_off_among_too_few_is_told_until_it_can_be_named(kind):
    """By counting (Baarda): beside the hit itself two must be spare before its residual says that it is that one."""
    least = LEAST[kind]
    for spare in (1, 2, 3):
        points = hits(kind, n=least + spare)
        found = fit(kind, points)
        u_mm = max(float(np.sqrt(found.residuals @ found.residuals / found.spare)), 1e-6)
        assert found.unnamed(u_mm) is None
        points[1] += 300 * u_mm * found.linear(points[1:2])[2][0, 0]
        off = fit(kind, points).unnamed(u_mm)
        wanted = int(np.ceil((2 + found.per_point - found.spare) / found.per_point))
        assert (off is None) == (wanted < 1)
        if off is not None:
            assert off.more == wanted
            assert 30 * u_mm < off.off_by_mm < 3000 * u_mm


def test_the_uncertainty_of_given_hits_goes_through():
    """JCGM 100: the same for one u, for u each, and for covariances along the normals; twice u, four times the variance."""
    points = hits("cylinder")
    one, each = fit("cylinder", points, u_hits_mm=0.02), fit("cylinder", points, u_hits_mm=np.full(24, 0.02))
    whole = fit("cylinder", points, u_hits_mm=np.tile(np.eye(3) * 0.02**2, (24, 1, 1)))
    assert np.allclose(one.covariance, each.covariance)
    assert np.allclose(one.covariance, whole.covariance)
    assert np.allclose(fit("cylinder", points, u_hits_mm=0.04).covariance, 4 * one.covariance)
    loud = np.full(24, 0.01)
    loud[3] = 1.0
    assert fit("cylinder", points, u_hits_mm=loud).u("radius") > 2 * fit("cylinder", points, u_hits_mm=0.01).u("radius")
    along = np.tile(np.outer(UP, UP), (24, 1, 1))  # uncertainty along the axis does no harm to a bore
    assert fit("cylinder", points, u_hits_mm=along).u("radius") < 1e-3
    for wrong in (-1.0, [0.1] * 5, np.nan):
        with pytest.raises(FitError, match="uncertainty must be"):
            fit("cylinder", points, u_hits_mm=wrong)


def part_of_a_torus():
    turn, spin = np.arange(30) * 2.4, np.linspace(-0.5, 0.5, 30)
    rho = 60 + 9 * np.cos(spin)
    rng = np.random.default_rng(2)
    return np.column_stack([rho * np.cos(turn), rho * np.sin(turn), 9 * np.sin(spin)]) + rng.normal(0, 0.001, (30, 3))


@pytest.mark.parametrize(
    ("kind", "points", "words"),
    [
        ("circle", hits("arc")[9:14], "span"),
        ("cylinder", hits("cylinder") * [1, 1, 0.03], "of depth on a diameter"),
        ("cone", np.column_stack([25 * np.cos(np.arange(24) * 2.4), 25 * np.sin(np.arange(24) * 2.4), np.linspace(-30, 30, 24)])
         * (1 + 0.0004 * np.linspace(-30, 30, 24))[:, None] ** [[1, 1, 0]] , "nearly a cylinder"),
        ("sphere", hits("sphere")[20:], "cap"),
        ("torus", part_of_a_torus(), "tube"),
        ("ellipse", hits("ellipse")[[0, 5, 8, 13, 16, 21, 3, 11]], "ellipse"),
        ("plane", hits("plane") * [1, 0.005, 1], "nearly on one line"),
        ("line", hits("line", noise=0.02) * [0.005, 1, 1], "close together"),
    ],
)  # fmt: skip
def test_data_that_cannot_carry_the_result_is_said_in_words(kind, points, words):
    assert any(words in w for w in fit(kind, points).warnings), fit(kind, points).warnings


def test_a_slot_touched_at_one_end_only_says_so():
    points = hits("round_slot", n=40)
    assert "An end of the slot" in fit("round_slot", points[points[:, 0] < 13], fixed={"width": 12.0}).warnings[0]


@pytest.mark.parametrize(
    ("fixed", "words"),
    [
        ({"radius": -1}, "no size above zero"), ({"radius": "wide"}, "no size"), ({"direction": [0, 0, 0]}, "no length"),
        ({"direction": [1, 2]}, "three numbers"), ({"colour": 3}, "can hold"), ({"half_angle": 1}, "can hold"),
    ],
)  # fmt: skip
def test_what_cannot_be_held_is_refused_in_words(fixed, words):
    with pytest.raises(FitError, match=words):
        fit("cylinder", hits("cylinder"), fixed=fixed)


def test_hits_that_make_no_sense_are_refused_in_words():
    for points, words in (
        ([[1, 2], [3, 4]], "three numbers each"), ([], "three numbers each"), (np.empty((0, 3)), "needs 3 hits"),
        ([["a", "b", "c"]], "three numbers each"), (np.full((5, 3), np.inf), "not a number"),
        (np.eye(3) * 1e12, "farther out"),
    ):  # fmt: skip
        with pytest.raises(FitError, match=words):
            fit("plane", points)
    with pytest.raises(FitError, match="not there for a cone"):
        fit("cone", hits("cone"), "chebyshev")
    with pytest.raises(FitError, match="do not close round"):
        fit("circle", hits("arc"), "inscribed")
    with pytest.raises(FitError, match="no outside"):
        fit("line", hits("line"), "tangent")
