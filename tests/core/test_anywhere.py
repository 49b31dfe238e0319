"""Where a part lies from no start: a plain block, which lies as well turned over, and one that a step makes unlike itself."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.core.alignment.anywhere import Samples, anywhere
from zipplumb.core.errors import AlignmentError
from zipplumb.core.frames import Motion

NOISE_MM = 0.02
BLOCK = ((0, 0, 0), (150, 100, 30))  # middle, and half of its size


class Boxes:
    """A body of boxes that touch: the nearest place on its outside, where no two are near each other but along a whole face."""

    def __init__(self, *boxes):
        self.middles, self.halves = (np.array(each, float) for each in zip(*boxes, strict=True))

    def sides(self):
        """Box, axis and sign of every side."""
        return [(b, k, s) for b in range(len(self.middles)) for k in range(3) for s in (-1.0, 1.0)]

    def spread(self, count, random, sides=None):
        """Places on some sides that are outside, each piece as likely."""
        points, normals = [], []
        for b, k, s in sides or self.sides():
            half = self.halves[b]
            area = 4 * half.prod() / half[k]
            at = random.uniform(-1, 1, (max(1, round(count * area / 1e5)), 3)) * half
            at[:, k] = s * half[k]
            points.append(at + self.middles[b])
            normals.append(np.tile(s * np.eye(3)[k], (len(at), 1)))
        points, normals = np.vstack(points), np.vstack(normals)
        outside = ~self.inside(points + 1e-6 * normals)
        return points[outside], normals[outside]

    def inside(self, points):
        return np.any([np.all(np.abs(points - m) < h, axis=1) for m, h in zip(self.middles, self.halves, strict=True)], axis=0)

    def nearest(self, points):
        best, feet, normals = np.full(len(points), np.inf), np.zeros_like(points), np.zeros_like(points)
        for b, k, s in self.sides():
            foot = np.clip(points - self.middles[b], -self.halves[b], self.halves[b])
            foot[:, k] = s * self.halves[b][k]
            foot = foot + self.middles[b]
            way = s * np.eye(3)[k]
            far = np.linalg.norm(points - foot, axis=1) + 1e3 * self.inside(foot + 1e-6 * way)
            mine = far < best
            best[mine], feet[mine], normals[mine] = far[mine], foot[mine], way
        return feet, normals


def scanned(body, seed, sides):
    random = np.random.default_rng(seed)
    points, normals = body.spread(20_000, random, sides)
    lies = Motion(Rotation.random(random_state=random).as_matrix(), random.uniform(-1000, 1000, 3))
    points = points + NOISE_MM * random.standard_normal((len(points), 1)) * normals
    return Samples(lies.points(points), lies.vectors(normals)), Samples(*body.spread(20_000, random)), lies


def off(found, lies):
    corners = np.array([[x, y, z] for x in (-150, 150) for y in (-100, 100) for z in (-30, 30.0)])
    return np.linalg.norm((found.part_from_world @ lies).points(corners) - corners, axis=1).max()


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_a_part_that_is_unlike_itself_is_found_in_one_place(seed):
    body = Boxes(BLOCK, ((90, 40, 50), (40, 30, 20)))
    seen = [(0, 2, 1.0), (0, 0, -1.0), (0, 1, -1.0), (1, 2, 1.0), (1, 0, -1.0), (1, 1, -1.0)]
    scene, part, lies = scanned(body, seed, seen)
    (found,) = anywhere(scene, part, body.nearest, NOISE_MM, seed)
    assert found.lies > 0.99
    assert off(found, lies) < 0.1


def test_where_it_lies_as_well_turned_over_all_places_are_told():
    body = Boxes(BLOCK)
    scene, part, lies = scanned(body, 4, [(0, 2, 1.0), (0, 0, -1.0), (0, 1, -1.0)])
    found = anywhere(scene, part, body.nearest, NOISE_MM)
    turns = [place.part_from_world.rotation @ lies.rotation for place in found]
    told = {tuple(np.round(np.diag(turn)).astype(int)) for turn in turns}
    assert told == {(1, 1, 1), (1, -1, -1), (-1, 1, -1), (-1, -1, 1)}
    assert len(found) == 4


def test_what_tells_no_place_is_said():
    body = Boxes(BLOCK)
    scene, part, _ = scanned(body, 5, [(0, 2, 1.0)])
    with pytest.raises(AlignmentError, match="one plane"):
        anywhere(scene, part, body.nearest, NOISE_MM)
    with pytest.raises(AlignmentError, match="Too little"):
        anywhere(scene.of(np.arange(30)), part, body.nearest, NOISE_MM)
