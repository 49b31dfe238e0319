"""All holes and slots of the bracket's top from edges of light alone, against what the stand-in's part really is."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from zipplumb.cad import read_cad
from zipplumb.core.cloud.edges import Edges, edges_of
from zipplumb.core.cloud.faces import flattest
from zipplumb.core.cloud.light import Chunk
from zipplumb.core.cloud.openings import openings
from zipplumb.core.frames import Motion
from zipplumb.core.shapes import Slot
from zipplumb.core.stripes import packed
from zipplumb.demo import bracket, bracket_real
from zipplumb.demo.real_mesh import real_triangles
from zipplumb.devices.sim.light import LineScanner, Lit
from zipplumb.devices.sim.real_part import RealFace
from zipplumb.devices.sim.stand import Stand

HIGH, APART, LINES_MM, HERE = 110.0, 45.0, 1.2, Motion.identity()
SURE_MM, DULL_MM = 0.1, 0.2  # of a size; where the part reflects badly
BALL = bracket.BALL[0] + bracket_real.BALL_BIGGER


def truth():
    """Size, and where the middle is, of each round opening and slot of the top."""
    turn = np.arange(bracket.BOLTS) * 2 * np.pi / bracket.BOLTS
    x, y = bracket.CIRCLE[1] + 38 * np.cos(turn), bracket.CIRCLE[2] + 38 * np.sin(turn)
    x[0], y[0] = x[0] + bracket_real.BOLT_SHIFT[0], y[0] + bracket_real.BOLT_SHIFT[1]
    bore = np.array(bracket.BORE[1:]) + bracket_real.BORE_SHIFT
    cone = bracket.CONE[0] * np.tan(np.pi / 4 + bracket_real.CONE_WIDER_RAD)
    return [
        *((bracket.BOLT, a, b) for a, b in zip(x, y, strict=True)), (bracket.BORE[0] + bracket_real.BORE_BIGGER, *bore),
        (2 * np.sqrt(BALL**2 / 4 - bracket.BALL_ABOVE**2), *bracket.BALL[1:]), (cone, *bracket.CONE[1:]),
        (bracket.RING[0] + bracket.RING_TUBE + bracket_real.TUBE_BIGGER, *bracket.RING[1:]),
        (bracket.ROUND_SLOT[0], *bracket.ROUND_SLOT[2:]), (bracket.SQUARE_SLOT[0], *bracket.SQUARE_SLOT[2:]),
    ]  # fmt: skip


@pytest.fixture(scope="module")
def lit(tmp_path_factory):
    step = tmp_path_factory.mktemp("bracket") / "bracket.step"
    bracket.write_step(step)
    model = read_cad(step)
    (faces,) = bracket_real.truth(model, step).values()
    real = {face["index"]: RealFace.from_dict(face) for face in faces}
    return Lit.of(np.concatenate(real_triangles(model, real)), Stand(HERE), None)


def scanned(lit, seed):
    """Passes there and across over the top, turned a little otherwise each time."""
    random, lines, poses = np.random.default_rng(seed), [], []
    for turn in (0.0, np.pi / 2) + random.uniform(-0.05, 0.05, 2):
        along = np.array([np.cos(turn), np.sin(turn), 0.0])
        across = np.array([-along[1], along[0], 0.0])
        turned = np.column_stack([along, -across, [0, 0, -1.0]])
        quaternion = Rotation.from_matrix(turned).as_quat(scalar_first=True)
        for u in np.arange(-210 + random.uniform(0, APART), 230, APART):
            for v in np.arange(-210, 210, LINES_MM):
                at = u * along + v * across + [0, 0, bracket.THICK + HIGH]
                if np.all(np.abs(at[:2]) < (bracket.LENGTH / 2 + 20, bracket.WIDTH / 2 + 20)):
                    lines.append(LineScanner().line(lit, Motion(turned, at), random))
                    poses.append([*at, *quaternion])
    found = []
    for first in range(0, len(lines), 170):
        some = slice(first, first + 170)
        data, counts = packed(lines[some])
        found.append(Chunk(np.array(poses[some]), data, counts, np.zeros(len(counts), bool), 1, 1, first))
    return Edges.together(edges_of(chunk, HERE, HERE) for chunk in found)


@pytest.mark.parametrize("seed", [1, 2])
def test_all_are_found_none_is_invented_and_their_sizes_and_places_are_true(lit, seed):
    edges = scanned(lit, seed)
    face = flattest(edges)
    assert abs(float(face.normal[2]) - 1) < 1e-6 and abs(face.point[2] - bracket.THICK) < 0.02
    left = truth()
    for opening in openings(edges, face):
        shape = opening.shape
        size = shape.length if isinstance(shape, Slot) else 2 * shape.radius
        mine = min(left, key=lambda each: np.hypot(each[1] - shape.center[0], each[2] - shape.center[1]))
        at_most = DULL_MM if mine[1] + mine[0] / 2 > 95 and mine[1] - mine[0] / 2 < 150 else SURE_MM
        assert np.hypot(mine[1] - shape.center[0], mine[2] - shape.center[1]) < at_most
        assert abs(size - mine[0]) < at_most
        left.remove(mine)
    assert left == []
