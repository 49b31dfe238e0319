"""Parts in other formats than STEP, and faces that are written as more than they are."""

import subprocess
import sys

import numpy as np
import pytest
import trimesh

from zipplumb.cad import read_cad
from zipplumb.core.errors import FileError

WRITE = """
import sys
from OCP.BRepBuilderAPI import BRepBuilderAPI_NurbsConvert
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCone, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakeSphere
from OCP.BRepPrimAPI import BRepPrimAPI_MakeTorus
from OCP.IGESControl import IGESControl_Writer
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
at = lambda x, y, z: gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1))
part = BRepPrimAPI_MakeBox(200.0, 100.0, 40.0).Shape()
part = BRepAlgoAPI_Cut(part, BRepPrimAPI_MakeCylinder(at(50, 50, -1), 15.0, 60.0).Shape()).Shape()
part = BRepAlgoAPI_Cut(part, BRepPrimAPI_MakeCone(at(110, 50, 10), 5.0, 20.0, 30.0).Shape()).Shape()
part = BRepAlgoAPI_Cut(part, BRepPrimAPI_MakeSphere(at(165, 50, 45), 18.0).Shape()).Shape()
part = BRepAlgoAPI_Cut(part, BRepPrimAPI_MakeTorus(at(50, 50, 40), 28.0, 5.0).Shape()).Shape()
if sys.argv[2] == "splines":
    part = BRepBuilderAPI_NurbsConvert(part, True).Shape()
if sys.argv[1].endswith("igs"):
    writer = IGESControl_Writer("MM", int(sys.argv[3]))
    writer.AddShape(part)
    writer.ComputeModel()
    writer.Write(sys.argv[1])
else:
    writer = STEPControl_Writer()
    writer.Transfer(part, STEPControl_StepModelType.STEPControl_AsIs)
    writer.Write(sys.argv[1])
"""


def written(path, how="plain", faces_only=0):
    subprocess.run([sys.executable, "-c", WRITE, str(path), how, str(int(not faces_only))], check=True, capture_output=True)
    return path


def found(model):
    return sorted((f.surface, f.inside) for f in model.faces if f.surface != "plane")


ROUND = [("cone", True), ("cylinder", True), ("sphere", True), ("torus", True)]


def test_faces_written_as_splines_are_what_they_are(tmp_path):
    plain, splines = read_cad(written(tmp_path / "a.step")), read_cad(written(tmp_path / "b.step", "splines"))
    assert found(plain) == ROUND and not any(f.recognised for f in plain.faces)
    assert sorted({*found(splines)}) == ROUND  # a turn may be written in two halves
    assert sum(f.recognised for f in splines.faces) == len(splines.faces)
    for one in plain.faces:
        alike = [f for f in splines.faces if f.surface == one.surface and f.inside == one.inside]
        assert any(sizes(f) == pytest.approx(sizes(one), abs=1e-3) for f in alike)


def sizes(face):
    return [value for name, value in face.nominal.items() if "radius" in name or name == "half_angle"]


@pytest.mark.parametrize("faces_only", [False, True])
def test_iges(tmp_path, faces_only):
    model = read_cad(written(tmp_path / "part.igs", faces_only=faces_only))
    assert model.units == "mm" and len(model.bodies) == 1
    assert sorted({*found(model)}) == ROUND
    bore = next(f for f in model.faces if f.surface == "cylinder")
    assert bore.nominal["radius"] == pytest.approx(15, abs=1e-6)
    top = [f for f in model.faces if f.surface == "plane" and f.nominal["normal"][2] > 0.9]
    assert any(f.nominal["point"][2] == pytest.approx(40) for f in top)  # faces out of the material
    assert model.missing == ()


def test_iges_that_is_cut_off(tmp_path):
    path = written(tmp_path / "part.igs")
    path.write_bytes(path.read_bytes()[: path.stat().st_size // 2])
    with pytest.raises(FileError, match="cut off"):
        read_cad(path)


def test_iges_without_its_global_section_is_refused(tmp_path):
    """It says the unit: without it all would be read 25.4 times too large. Lines in other ways of writing pass."""
    path = written(tmp_path / "part.igs")
    lines = path.read_bytes().splitlines(keepends=True)
    (tmp_path / "none.igs").write_bytes(b"".join(line for line in lines if line[72:73] != b"G"))
    with pytest.raises(FileError, match="global section is missing"):
        read_cad(tmp_path / "none.igs")
    (tmp_path / "crlf.igs").write_bytes(b"".join(line.rstrip(b"\r\n") + b"\r\n" for line in lines))
    assert len(read_cad(tmp_path / "crlf.igs").bodies) == 1


def test_a_mesh_that_says_more_than_it_has(tmp_path):
    data = trimesh.creation.box((10, 20, 30)).export(file_type="ply", encoding="ascii")
    data = data.encode() if isinstance(data, str) else data
    (tmp_path / "whole.ply").write_bytes(data)
    assert read_cad(tmp_path / "whole.ply").missing == ()
    box = trimesh.creation.box((10, 20, 30)).export(file_type="obj")
    (tmp_path / "zero.obj").write_text(box + "\nf 0 1 2\n")
    with pytest.raises(FileError, match="counts its corners from 1"):
        read_cad(tmp_path / "zero.obj")
    (tmp_path / "ten.obj").write_text(box.replace("f ", "f  ") + "\n# f 0 1 2\ng f 0\n")
    assert len(read_cad(tmp_path / "ten.obj").faces) == 1


@pytest.mark.parametrize(("suffix", "binary"), [("stl", True), ("stl", False), ("ply", True), ("ply", False), ("obj", False)])
def test_meshes(tmp_path, suffix, binary):
    box = trimesh.creation.box((10, 20, 30))
    path = tmp_path / f"box.{suffix}"
    kind = "stl_ascii" if suffix == "stl" and not binary else suffix
    more = {"encoding": "ascii"} if suffix == "ply" and not binary else {}
    path.write_bytes(data.encode() if isinstance(data := box.export(file_type=kind, **more), str) else data)
    model = read_cad(path, units="in")
    assert (model.units, len(model.faces), model.missing) == ("in", 1, ())
    assert np.allclose(model.faces[0].box, 25.4 * np.array([-5, -10, -15, 5, 10, 15]))
    assert len(model.edge_starts) == 13  # its twelve edges
    corners = model.positions[model.triangles].astype(float)
    volume = np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])).sum() / 6
    assert volume == pytest.approx(6000 * 25.4**3, rel=1e-5)


def test_a_mesh_with_holes_and_one_that_is_inside_out_are_said(tmp_path):
    box = trimesh.creation.box((10, 20, 30))
    box.update_faces(np.arange(len(box.faces)) > 0)
    box.export(tmp_path / "open.stl")
    assert "holes" in read_cad(tmp_path / "open.stl").missing[0]
    turned = trimesh.creation.box((10, 20, 30))
    turned.invert()
    turned.export(tmp_path / "turned.ply")
    model = read_cad(tmp_path / "turned.ply")
    assert "turned round" in model.missing[0]
    assert np.all(np.einsum("ij,ij->i", model.positions, model.normals) > 0)


@pytest.mark.parametrize(("name", "data"), [
    ("none.stl", b""), ("cut.stl", b"solid x\n facet normal 0 0 1\n"), ("poem.obj", b"Shall I compare thee"),
    ("head.ply", b"ply\nformat ascii 1.0\nelement vertex 3\n"), ("nan.obj", b"v nan 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"),
])  # fmt: skip
def test_a_mesh_that_is_none(tmp_path, name, data):
    (tmp_path / name).write_bytes(data)
    with pytest.raises(FileError, match="Nothing of it was kept"):
        read_cad(tmp_path / name)
