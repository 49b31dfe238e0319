"""What is there where one points at a scan: surfaces of known shapes, drawn with noise, among others that they meet."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.core.cloud.growing import given_on, surfaces_at
from zipplumb.core.cloud.points import CloudPoints
from zipplumb.core.features import sizes_of
from zipplumb.core.fitting import Placed
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Cone, Cylinder, Plane, Sphere, Torus

NOISE_MM, APART_MM = 0.02, 1.0
TOP = Plane(np.zeros(3), np.array([0, 0, 1.0]))
HOLES = {  # surfaces that go down from the top, and a place on each
    "cylinder": (Cylinder(np.zeros(3), np.array([0, 0, 1.0]), 9.0), (9.0, 0.0, -6.0)),
    "cone": (Cone(np.array([0, 0, -14.0]), np.array([0, 0, 1.0]), np.radians(40)), (6.71, 0.0, -6.0)),
    "sphere": (Sphere(np.array([0, 0, 4.0]), 18.0), (15.0, 0.0, -5.95)),
    "torus": (Torus(np.zeros(3), np.array([0, 0, 1.0]), 16.0, 6.0), (16.0, 0.0, -6.0)),
}


def lit(shape, random, deep_mm=12.0):
    """Points of a shape below the top, and how they face, to the open side."""
    grid = np.arange(-30, 30, APART_MM / 2)
    places = np.stack(np.meshgrid(grid, grid, np.arange(-deep_mm, 0, APART_MM / 2), indexing="ij"), axis=-1).reshape(-1, 3)
    near = places[np.abs(shape.distance(places)) < 0.4]
    ways = Placed.of(shape).gradients(near)
    points = near - shape.distance(near)[:, None] * ways
    points = points[points[:, 2] < -0.5]
    cubes = np.unique(np.floor(points / APART_MM), axis=0, return_index=True)[1]
    points = points[cubes]
    ways = Placed.of(shape).gradients(points)
    if not isinstance(shape, Plane):
        ways = -ways
    return points + NOISE_MM * random.standard_normal((len(points), 1)) * ways, ways


def scene(shape, random):
    """A top with a hole of that shape, in an odd pose, as a scan has it."""
    flat = np.stack(np.meshgrid(np.arange(-40, 40, APART_MM), np.arange(-40, 40, APART_MM), indexing="ij"), -1).reshape(-1, 2)
    flat = np.column_stack([flat, np.zeros(len(flat))])
    flat = flat[shape.distance(flat) > 0.5] if not isinstance(shape, Cone) else flat[np.hypot(*flat[:, :2].T) > 12.5]
    flat = flat + NOISE_MM * random.standard_normal((len(flat), 1)) * TOP.normal
    hole, ways = lit(shape, random)
    here = Motion(Rotation.random(random_state=random).as_matrix(), random.uniform(-2000, 2000, 3))
    points = here.points(np.vstack([flat, hole]))
    normals = here.vectors(np.vstack([np.tile(TOP.normal, (len(flat), 1)), ways]))
    lean = normals + 0.05 * random.standard_normal(normals.shape)
    lines = np.arange(len(points)) // 20
    cloud = CloudPoints(points, lean / np.linalg.norm(lean, axis=1)[:, None], lines, np.ones(len(points)))
    return cloud, here, len(flat)


@pytest.mark.parametrize("seed", range(4))
@pytest.mark.parametrize("kind", sorted(HOLES))
def test_the_surface_that_is_pointed_at_grows_to_its_edges(kind, seed):
    shape, place = HOLES[kind]
    cloud, here, flat = scene(shape, np.random.default_rng(seed))
    for at, expected, true, mine in (
        (place, kind, shape, np.arange(flat, len(cloud))),
        ((-35.0, 30, 0), "plane", TOP, np.arange(flat)),
    ):
        found = surfaces_at(cloud, here.points(np.array([at], float))[0])
        assert found[0].kind == expected
        assert len(np.intersect1d(found[0].members, mine)) > 0.9 * len(mine)
        assert len(np.setdiff1d(found[0].members, mine)) < 0.03 * len(mine) + 30
        back = found[0].shape.moved(here.inverse())
        for name in sizes_of(true):
            assert getattr(back, name) == pytest.approx(getattr(true, name), abs=0.02)
        assert found[0].inside == (expected != "plane")


def test_a_row_takes_only_what_hangs_together_with_the_place():
    random = np.random.default_rng(1)
    pads = [
        np.column_stack([random.uniform(0, 30, (900, 2)) + [x, 0], NOISE_MM * random.standard_normal(900)]) for x in (0, 60)
    ]
    points = np.vstack(pads)
    cloud = CloudPoints(points, np.tile(TOP.normal, (len(points), 1)), np.zeros(len(points), np.int64), np.ones(len(points)))
    found = given_on(cloud, TOP, np.array([70.0, 10, 0]), most=400)
    assert len(found.points) == 400
    assert found.points[:, 0].min() >= 60


def test_where_nothing_is_sure_nothing_is_invented():
    random = np.random.default_rng(2)
    points = random.uniform(0, 40, (4000, 3))  # no surface at all
    ways = random.standard_normal((4000, 3))
    cloud = CloudPoints(points, ways / np.linalg.norm(ways, axis=1)[:, None], np.zeros(4000, np.int64), np.ones(4000))
    assert surfaces_at(cloud, points[7]) == []
    unsure = CloudPoints.bare(points, cloud.lines)
    assert surfaces_at(unsure, points[7]) == []
    assert surfaces_at(CloudPoints.none(), points[7]) == []
    assert len(given_on(unsure, TOP, points[7]).lines) == 0
