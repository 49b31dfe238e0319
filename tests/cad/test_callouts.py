"""Tolerances in a STEP file (ISO 10303-242): what is written is read again, and what has no word here is told."""

from dataclasses import replace

import pytest

from zipplumb.cad import read_cad
from zipplumb.cad.callouts import Callout, Callouts, Lettered, Sized, TargetPlace
from zipplumb.cad.writer import with_callouts
from zipplumb.core.errors import FileError
from zipplumb.demo.carrier import write_shape


@pytest.fixture(scope="module")
def plate(tmp_path_factory):
    """A plate of 100 x 60 x 20 with two holes of 10."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    shape = BRepPrimAPI_MakeBox(gp_Pnt(0, 0, 0), gp_Pnt(100, 60, 20)).Shape()
    for x in (20, 80):
        rod = BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, 30, -1), gp_Dir(0, 0, 1)), 5, 30).Shape()
        shape = BRepAlgoAPI_Cut(shape, rod).Shape()
    path = tmp_path_factory.mktemp("plate") / "plate.step"
    write_shape(shape, "Plate", path)
    return path


@pytest.fixture(scope="module")
def faces(plate):
    """By what they are: the plate's faces by where they face, and its holes."""
    found = read_cad(plate).faces
    planes = {tuple(round(v) for v in f.nominal["normal"]): f.index for f in found if f.surface == "plane"}
    return planes, [f.index for f in found if f.surface == "cylinder"]


def wanted(faces):
    planes, holes = faces
    top, front, side = planes[0, 0, 1], planes[0, -1, 0], planes[-1, 0, 0]
    return Callouts(
        (
            Callout("flatness", 0.05, (top,), name="Top is flat"),
            Callout("position", 0.2, tuple(holes), (("A",), ("B", "C")), "maximum", ("none", "maximum"), "Both holes", True),
            Callout("surface_profile", 0.3, (front, side), (("A",),), boundaries=("none",)),
            Callout("perpendicularity", 0.1, (front,), (("A",),), boundaries=("none",)),
        ),
        (Lettered("A", (top,)), Lettered("B", (front,)), Lettered("C", (side,))),
        (Sized(tuple(holes[:1]), 10.0, -0.05, 0.1),),
    )


def test_what_is_written_is_read_again(plate, faces, tmp_path):
    out = tmp_path / "out.step"
    told = wanted(faces)
    out.write_bytes(with_callouts([plate.read_bytes()], told))
    assert b"AP242" in out.read_bytes()[:3000]
    model = read_cad(out)
    assert model.missing == ()
    assert [f.nominal for f in model.faces] == [f.nominal for f in read_cad(plate).faces]
    read = model.callouts
    assert {c.kind: c for c in read.tolerances} == {c.kind: replace(c, name="") for c in told.tolerances}
    assert read.datums == told.datums
    assert read.sizes == told.sizes
    assert read.left == ()


def test_a_file_without_tolerances_carries_none(plate):
    assert not read_cad(plate).callouts


def test_what_has_no_word_here_is_told(plate, faces, tmp_path):
    """A thickness, in the place of the diameter in the file's own text."""
    out = tmp_path / "out.step"
    text = with_callouts([plate.read_bytes()], wanted(faces)).decode()
    assert text.count("'diameter'") == 1
    out.write_text(text.replace("'diameter'", "'thickness'"))
    found = read_cad(out).callouts
    assert len(found.tolerances) == 4
    assert found.sizes == ()
    assert found.left == ("A dimension of 10 is not taken over.",)


def test_what_is_no_step_file_cannot_be_written_again(faces):
    with pytest.raises(FileError, match="could not write"):
        with_callouts([b"solid nothing"], wanted(faces))


def test_a_fault_in_the_tolerances_does_not_take_the_model_with_it():
    from zipplumb.cad.library.semantic import callouts_of

    found = callouts_of(None, ())
    assert found.tolerances == ()
    assert "could not be read" in found.left[0]


def test_datum_targets_are_read_again_where_they_lie(plate, faces, tmp_path):
    top = faces[0][0, 0, 1]
    targets = tuple(
        TargetPlace("A", k + 1, (x, y, 20.0), (0.0, 0.0, 1.0), (top,))
        for k, (x, y) in enumerate([(10, 10), (90, 10), (50, 50)])
    )
    profile = Callout("surface_profile", 0.3, (faces[0][0, -1, 0],), (("A",),), boundaries=("none",))
    out = tmp_path / "out.step"
    out.write_bytes(with_callouts([plate.read_bytes()], Callouts((profile,), targets=targets)))
    read = read_cad(out).callouts
    assert read.targets == targets
    assert [c.datums for c in read.tolerances] == [(("A",),)]
    assert read.left == ()
