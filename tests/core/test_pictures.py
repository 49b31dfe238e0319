"""A part drawn: what is before what, which edges are seen, in what light, from where."""

import numpy as np
import pytest

from zipplumb.core.errors import InputError
from zipplumb.core.pictures.camera import SIDES, Camera
from zipplumb.core.pictures.drawing import GONE, Mesh, Painted, edges_seen, seen, thinned

WIDE, HIGH = 320, 200
SQUARES = [[0, 1, 3, 2], [4, 5, 7, 6], [0, 1, 5, 4], [2, 3, 7, 6], [0, 2, 6, 4], [1, 3, 7, 5]]


def box(size, at=(0, 0, 0), first=0):
    """A box as a mesh: its corners apart for each face, and its twelve edges."""
    corners = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)], float) * np.array(size) / 2 + at
    positions, normals, triangles, faces = [], [], [], []
    for k, square in enumerate(SQUARES):
        four = corners[square]
        out = np.cross(four[1] - four[0], four[2] - four[0])
        out = out / np.linalg.norm(out) * np.sign(out @ (four.mean(axis=0) - corners.mean(axis=0)))
        n = 4 * k
        positions.append(four)
        normals.append(np.tile(out, (4, 1)))
        triangles += [[n, n + 1, n + 2], [n, n + 2, n + 3]]
        faces += [first + k] * 2
    pairs = [(a, b) for a in range(8) for b in range(a + 1, 8) if bin(a ^ b).count("1") == 1]
    lines = np.array([[corners[a], corners[b]] for a, b in pairs])
    return Mesh(np.vstack(positions), np.vstack(normals), np.array(triangles, np.uint32), np.array(faces), lines, np.arange(12))


def both(one, other):
    more = len(one.positions)
    return Mesh(
        np.vstack([one.positions, other.positions]), np.vstack([one.normals, other.normals]),
        np.vstack([one.triangles, other.triangles + more]).astype(np.uint32), np.r_[one.faces, other.faces],
        np.vstack([one.lines, other.lines]), np.r_[one.edges, other.edges + len(one.edges)],
    )  # fmt: skip


@pytest.mark.parametrize("eye", [*SIDES.values(), (-0.6, -1, 0.6), (1, 2, -3)])
def test_all_of_a_part_fits_in_and_lies_where_the_projection_says(eye):
    mesh = box((200, 100, 40), (500, -300, 20))
    camera = Camera.on(np.array(eye, float), mesh.box, WIDE / HIGH)
    on_paper = camera.on_paper(mesh.positions, WIDE, HIGH)
    assert (on_paper[:, :2] >= 0).all() and (on_paper[:, :2] <= [WIDE, HIGH]).all()
    # lengths across the line of sight are true to scale, and depth is along it
    some = mesh.positions - camera.middle
    across = some - np.outer(some @ camera.eye, camera.eye)
    assert np.allclose(
        np.linalg.norm(on_paper[:, :2] - [WIDE / 2, HIGH / 2], axis=1),
        camera.pixels_per_mm(HIGH) * np.linalg.norm(across, axis=1),
    )
    assert np.allclose(on_paper[:, 2], -some @ camera.eye)
    again = Camera.of(camera.data())
    assert np.allclose(again.on_paper(mesh.positions, WIDE, HIGH), on_paper, atol=1e-3)


def test_the_area_drawn_is_the_area_seen():
    """A face of 200 mm by 40, seen squarely: its pixels are its area, to those along its rim."""
    mesh = box((200, 100, 40))
    camera = Camera.on(np.array([0.0, -1, 0]), mesh.box, WIDE / HIGH)
    sight = seen(camera, mesh, WIDE, HIGH)
    front = np.count_nonzero(sight.faces != GONE)
    assert front / camera.pixels_per_mm(HIGH) ** 2 == pytest.approx(200 * 40, rel=0.02)
    (face,) = set(np.unique(sight.faces)) - {GONE}
    assert mesh.normals[mesh.triangles[mesh.faces == face][0, 0]] @ [0, -1, 0] == 1
    assert np.allclose(sight.depth[sight.faces != GONE], -50)


@pytest.mark.parametrize("eye", [(0, -1, 0), (0, 0, 1), (-0.6, -1, 0.6)])
def test_what_lies_behind_is_not_seen_nor_are_its_edges(eye):
    eye = np.array(eye, float)
    near, far = box((60, 60, 60)), box((20, 20, 20), -200 * eye / np.linalg.norm(eye), 10)
    mesh = both(near, far)
    camera = Camera.on(eye, near.box, WIDE / HIGH)
    sight = seen(camera, mesh, WIDE, HIGH)
    assert sight.faces.max() < 10
    places = camera.on_paper(far.positions, WIDE, HIGH)
    assert not sight.shows(places, 0.5, on_surface=True).any()
    drawn = edges_seen(camera, mesh, sight)
    alone = edges_seen(camera, near, seen(camera, near, WIDE, HIGH))
    assert len(drawn) == len(alone)
    assert all(len(line) > 1 for line in drawn)


def test_of_a_box_nine_edges_are_seen_from_a_corner_and_four_squarely():
    mesh = box((60, 50, 40))
    for eye, count in (((-0.6, -1, 0.6), 9), ((0, -1, 0), 4), ((0, 0, 1), 4)):
        camera = Camera.on(np.array(eye, float), mesh.box, WIDE / HIGH)
        lines = edges_seen(camera, mesh, seen(camera, mesh, WIDE, HIGH))
        ends = {
            tuple(sorted((tuple(line[0].round(0)), tuple(line[-1].round(0)))))
            for line in lines
            if np.ptp(line, axis=0).max() > 3
        }
        assert len(ends) == count, eye


def test_a_place_in_the_air_before_the_part_is_seen_and_none_on_a_surface_that_is_edge_on():
    mesh = box((60, 60, 60))
    camera = Camera.on(np.array([0.0, -1, 0]), mesh.box, WIDE / HIGH)
    sight = seen(camera, mesh, WIDE, HIGH)
    before = camera.on_paper(np.array([[0, -80.0, 0]]), WIDE, HIGH)
    assert sight.shows(before, 0.5, on_surface=False).all()
    assert not sight.shows(before, 0.5, on_surface=True).any()
    on_top = camera.on_paper(np.array([[0, 10.0, 30]]), WIDE, HIGH)
    assert not sight.shows(on_top, 0.5, on_surface=True).any()
    outside = camera.on_paper(np.array([[1e4, -30.0, 0]]), WIDE, HIGH)
    assert not sight.shows(outside, 0.5, on_surface=True).any()


def test_what_is_painted_lies_on_the_part_and_on_nothing_before_or_behind_it():
    mesh = both(box((60, 60, 60)), box((10, 10, 10), (0, -60, 0), 10))
    camera = Camera.on(np.array([0.0, -1, 0]), box((60, 60, 60)).box, WIDE / HIGH)
    grid = np.array([[x, -30.0, z] for x in np.arange(-29, 30, 2.0) for z in np.arange(-29, 30, 2.0)])
    paint = Painted(grid, np.full(len(grid), 3, np.int32), 2.0)
    sight = seen(camera, mesh, WIDE, HIGH, (paint,))
    painted = sight.painted == 3
    front = (sight.faces != GONE) & (sight.faces < 10)
    assert np.count_nonzero(painted & front) / np.count_nonzero(front) > 0.97
    assert not (painted & (sight.faces >= 10)).any()


def test_a_face_is_as_light_on_its_back_and_the_top_is_lightest():
    mesh = box((60, 60, 60))
    turned = Mesh(mesh.positions, -mesh.normals, mesh.triangles, mesh.faces, mesh.lines, mesh.edges)
    camera = Camera.on(np.array([-0.6, -1, 0.6]), mesh.box, WIDE / HIGH)
    here, there = (seen(camera, each, WIDE, HIGH) for each in (mesh, turned))
    assert np.allclose(here.shade, there.shade)
    by_face = {face: here.shade[here.faces == face].mean() for face in np.unique(here.faces) if face != GONE}
    top = next(k for k in by_face if mesh.normals[mesh.triangles[mesh.faces == k][0, 0]][2] == 1)
    assert max(by_face, key=by_face.get) == top


def test_without_a_part_there_is_paper_and_all_places_are_seen():
    nothing = Mesh(
        np.empty((0, 3)), np.empty((0, 3)), np.empty((0, 3), np.uint32), np.empty(0, int), np.empty((0, 2, 3)), np.empty(0, int)
    )
    camera = Camera(np.array([0.0, 0, 1]), np.array([0.0, 1, 0]), np.zeros(3), 100.0)
    sight = seen(camera, nothing, WIDE, HIGH)
    assert (sight.faces == GONE).all()
    assert edges_seen(camera, nothing, sight) == []
    assert sight.shows(camera.on_paper(np.zeros((1, 3)), WIDE, HIGH), 0.5, on_surface=True).all()


def test_a_line_is_told_by_its_corners():
    straight = np.column_stack([np.linspace(0, 50, 26), np.zeros(26)])
    assert np.allclose(thinned(straight), [[0, 0], [50, 0]])
    corner = np.vstack([straight, np.column_stack([np.full(25, 50), np.linspace(2, 50, 25)])])
    assert np.allclose(thinned(corner), [[0, 0], [50, 0], [50, 50]])


@pytest.mark.parametrize(
    "wrong", [{}, {"eye": [0, 0, 0]}, {"up": [0, -1, 0]}, {"half_mm": 0}, {"half_mm": 1e300}, {"eye": "x"}]
)
def test_a_camera_that_sees_nothing_is_refused(wrong):
    told = {"eye": [0, -1, 0], "up": [0, 0, 1], "middle": [0, 0, 0], "half_mm": 100} | wrong
    if not wrong:
        told.pop("middle")
    with pytest.raises(InputError, match="nothing is seen"):
        Camera.of(told)
