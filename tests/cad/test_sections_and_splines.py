"""Free faces and sections, against the CAD library's own projection and against what is known in closed form."""

import numpy as np
import pytest

from zipplumb.cad import CadModel, read_cad
from zipplumb.cad.blocks import Blocks
from zipplumb.cad.near import FacesNear
from zipplumb.cad.section import cut
from zipplumb.cad.spline_pack import pack_splines, unpack_splines
from zipplumb.cad.surfaces import MANY, Surfaces
from zipplumb.core.errors import InputError
from zipplumb.demo.bracket import BORE, THICK

UP = np.array([0.0, 0, 1])


@pytest.fixture(scope="module")
def bracket(tmp_path_factory):
    import subprocess
    import sys

    path = tmp_path_factory.mktemp("cad") / "bracket.step"
    call = f"from zipplumb.demo.bracket import write_step; from pathlib import Path; write_step(Path({str(path)!r}))"
    subprocess.run([sys.executable, "-c", call], check=True, stdout=subprocess.DEVNULL)
    return path, read_cad(path)


def library_distances(path, face, points):
    """By the library itself: the least distance from each point to the face, or to all of the part (None)."""
    from OCP.BRep import BRep_Builder
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeVertex
    from OCP.BRepExtrema import BRepExtrema_DistShapeShape
    from OCP.gp import gp_Pnt
    from OCP.STEPControl import STEPControl_Reader
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer
    from OCP.TopoDS import TopoDS_Compound

    reader = STEPControl_Reader()
    reader.ReadFile(str(path))
    reader.TransferRoots()
    faces = TopExp_Explorer(reader.OneShape(), TopAbs_ShapeEnum.TopAbs_FACE)
    for _ in range(face or 0):
        faces.Next()
    each = [faces.Current()]
    while face is None and faces.More():
        each.append(faces.Current())
        faces.Next()
    found = BRep_Builder(), TopoDS_Compound()
    found[0].MakeCompound(found[1])
    for one in each:
        found[0].Add(found[1], one)
    return np.array(
        [BRepExtrema_DistShapeShape(BRepBuilderAPI_MakeVertex(gp_Pnt(*p)).Vertex(), found[1]).Value() for p in points.tolist()]
    )


def on_all_sides(surfaces, count, off_mm):
    """Places (n, 3) on either side of a part's surfaces."""
    points, normals = surfaces.spread(count, seed=4)
    return points + normals * np.random.default_rng(5).uniform(-off_mm, off_mm, (count, 1))


def test_every_free_face_has_the_feet_of_the_cad_library_also_where_it_closes_on_itself(bracket):
    path, model = bracket
    for face in model.splines:
        points = on_all_sides(Surfaces(model, only=[face]), 60, 0.5)
        ours = model.splines[face].nearest(points)[0]
        assert np.abs(np.linalg.norm(points - ours, axis=1) - library_distances(path, face, points)).max() < 1e-6


@pytest.mark.parametrize("blocks", [False, True])
def test_deviations_are_those_of_the_cad_library_all_over_the_part(bracket, blocks):
    path, model = bracket
    faces = FacesNear(model, None)
    points = on_all_sides(faces.surfaces, 150, 1.0)
    if blocks:  # as if many had been asked for before
        faces.surfaces.asked = MANY
    feet, normals, _, at_edge = faces(points, 0.5)
    off = np.einsum("ij,ij->i", points - feet, normals)
    inner = ~at_edge
    assert inner.mean() > 0.8
    assert np.abs(np.abs(off[inner]) - library_distances(path, None, points[inner])).max() < 1e-6


def test_blocks_of_space_find_what_the_triangles_find_and_most_of_it_without_them(bracket):
    model = bracket[1]
    surfaces = Surfaces(model)
    points = np.vstack([on_all_sides(surfaces, 60_000, 1.0), on_all_sides(surfaces, 20_000, 30.0)])
    feet, normals, faces, _ = surfaces.nearest_faces(points)  # so few: by triangles
    blocks = Blocks.of(surfaces.corners, surfaces.triangles, surfaces.face_of)
    found = [np.full_like(feet, np.nan), np.full_like(feet, np.nan), np.full(len(points), -1)]
    sure = surfaces.by_blocks(blocks, points, *found)
    assert sure[:60_000].mean() > 0.6
    assert np.abs(found[0][sure] - feet[sure]).max() < 1e-9
    assert np.abs(found[1][sure] - normals[sure]).max() < 1e-9
    assert np.array_equal(found[2][sure], faces[sure])


def test_of_no_places_nothing_is_near(bracket):
    feet, normals, faces, _ = Surfaces(bracket[1]).nearest_faces(np.empty((0, 3)))
    assert feet.shape == normals.shape == (0, 3)
    assert len(faces) == 0


def test_what_lies_beyond_a_face_in_its_plane_is_at_its_edge(bracket):
    model = bracket[1]
    beside = np.array([[-20.0, 60, 39.9], [60, 60, 39.9]]) + model.positions.min(axis=0) * [1, 1, 0]
    _, _, faces, at_edge = FacesNear(model, None)(beside, 0.5)
    assert at_edge.tolist() == [True, False]  # 20 mm off the part, just under the height of its top; and on the top
    assert model.faces[faces[1]].surface == "plane"


def wavy(model):
    return next(f.index for f in model.faces if f.surface == "free surface" and f.box[4] > 119)


def test_feet_on_a_free_face_are_those_of_the_cad_library(bracket):
    path, model = bracket
    face, random = wavy(model), np.random.default_rng(1)
    corners, normals = model.mesh_of(face)
    some = random.choice(len(corners), 60)
    points = corners[some].mean(axis=1) + random.uniform(-2, 4, (60, 1)) * normals[some].mean(axis=1)
    feet, out = Surfaces(model).nearest(points)
    ours = np.linalg.norm(points - feet, axis=1)
    assert np.abs(ours - library_distances(path, face, points)).max() < 1e-6
    assert np.allclose(np.abs(np.einsum("ij,ij->i", points - feet, out)), ours, atol=1e-6)
    triangles = np.linalg.norm(corners[some].mean(axis=1) - feet, axis=1)
    assert triangles.max() > 1e-3  # by triangles alone it would not be


def test_splines_are_the_same_after_a_file(bracket):
    _, model = bracket
    again = unpack_splines(pack_splines(model.splines))
    assert again.keys() == model.splines.keys()
    for face, spline in model.splines.items():
        assert np.array_equal(again[face].poles, spline.poles)
        assert again[face].outward == spline.outward
    assert unpack_splines(None) == {}


def test_a_section_lies_on_the_face_and_in_the_plane(bracket):
    path, model = bracket
    face = wavy(model)
    (section,) = cut(model, [face], THICK / 2 * UP, UP)
    between = section.at(np.linspace(1, section.length - 1, 200))
    assert np.abs(between[:, 2] - THICK / 2).max() < 1e-9
    assert library_distances(path, face, between[::10]).max() < 1e-6


def test_a_bore_is_cut_in_a_circle_and_a_plate_in_its_outline(bracket):
    _, model = bracket
    bore = next(f.index for f in model.faces if f.surface == "cylinder" and abs(2 * f.nominal["radius"] - BORE[0]) < 1e-6)
    (circle,) = cut(model, [bore], 15.0 * UP, UP)
    assert circle.length == pytest.approx(np.pi * BORE[0], rel=1e-3)
    assert np.allclose(np.linalg.norm(circle.points[:, :2] - BORE[1:], axis=1), BORE[0] / 2, atol=1e-9)
    every = range(len(model.faces))
    outline = cut(model, list(every), np.array([0, 20.0, 0]), np.array([0, 1.0, 0]))[0]  # across all faces: closed
    assert np.linalg.norm(outline.points[0] - outline.points[-1]) < 0.1
    with pytest.raises(InputError, match="does not cut"):
        cut(model, [bore], 500.0 * UP, UP)


def test_a_plane_that_lies_along_a_face_is_refused(bracket):
    _, model = bracket
    ball = next(f.index for f in model.faces if f.surface == "sphere")
    deep = min(model.mesh_of(ball)[0].reshape(-1, 3)[:, 2]) + 0.004  # nearly the lowest place of the seat
    with pytest.raises(InputError, match="along the surface"):
        cut(model, [ball], deep * UP, UP)


def test_a_model_without_free_faces_has_no_splines():
    assert CadModel.empty().splines == {}
