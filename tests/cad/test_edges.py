"""Edges and whole outlines of a plate with holes, slots, an elliptical opening and a rounded corner."""

import subprocess
import sys

import numpy as np
import pytest

from zipplumb.cad import read_cad

WRITE = """
import math, sys
from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeFace, BRepBuilderAPI_MakeWire
from OCP.BRepFilletAPI import BRepFilletAPI_MakeFillet
from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder, BRepPrimAPI_MakePrism
from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
from OCP.TopAbs import TopAbs_ShapeEnum
from OCP.TopExp import TopExp_Explorer
from OCP.TopoDS import TopoDS
from OCP.gp import gp_Ax2, gp_Dir, gp_Elips, gp_Pnt, gp_Vec
at = lambda x, y, z: gp_Ax2(gp_Pnt(x, y, z), gp_Dir(0, 0, 1))
def cut(part, tool):
    return BRepAlgoAPI_Cut(part, tool).Shape()
part = BRepPrimAPI_MakeBox(200.0, 100.0, 10.0).Shape()
fillet = BRepFilletAPI_MakeFillet(part)
edges = TopExp_Explorer(part, TopAbs_ShapeEnum.TopAbs_EDGE)
fillet.Add(20.0, TopoDS.Edge(edges.Current()))
part = fillet.Shape()
part = cut(part, BRepPrimAPI_MakeCylinder(at(160, 70, -1), 6.0, 20.0).Shape())
box = BRepPrimAPI_MakeBox(gp_Pnt(50, 25, -1), gp_Pnt(90, 37, 20)).Shape()
slot = BRepAlgoAPI_Fuse(BRepAlgoAPI_Fuse(box, BRepPrimAPI_MakeCylinder(at(50, 31, -1), 6.0, 21.0).Shape()).Shape(),
                        BRepPrimAPI_MakeCylinder(at(90, 31, -1), 6.0, 21.0).Shape()).Shape()
part = cut(part, slot)
part = cut(part, BRepPrimAPI_MakeBox(gp_Pnt(60, 60, -1), gp_Pnt(90, 75, 20)).Shape())
ring = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(gp_Elips(at(130, 30, -1), 15.0, 9.0)).Edge()).Wire()
part = cut(part, BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(ring).Face(), gp_Vec(0, 0, 20)).Shape())
writer = STEPControl_Writer()
writer.Transfer(part, STEPControl_StepModelType.STEPControl_AsIs)
writer.Write(sys.argv[1])
"""


@pytest.fixture(scope="module")
def plate(tmp_path_factory):
    path = tmp_path_factory.mktemp("cad") / "plate.step"
    subprocess.run([sys.executable, "-c", WRITE, str(path)], check=True, capture_output=True)
    return read_cad(path)


def upper(plate, shape, inside):
    """What of a shape bounds the upper face."""
    found = [e for e in plate.edges if e.shape == shape and e.inside is inside and e.face is not None]
    return [e for e in found if plate.faces[e.face].nominal["point"][2] == pytest.approx(10)]


def test_every_polyline_is_told(plate):
    assert len(plate.edges) == len(plate.edge_starts) - 1
    assert [e.index for e in plate.edges] == list(range(len(plate.edges)))


def test_a_hole_and_an_elliptical_opening(plate):
    hole = upper(plate, "circle", True)[0].nominal
    assert hole["radius"] == pytest.approx(6) and hole["center"] == pytest.approx([160, 70, 10])
    opening = upper(plate, "ellipse", True)[0].nominal
    assert (opening["semi_major"], opening["semi_minor"]) == pytest.approx((15, 9))
    assert np.abs(opening["major_direction"]) == pytest.approx([1, 0, 0])


def test_whole_slots_from_any_of_their_edges(plate):
    slots = [e.nominal for e in upper(plate, "slot", True)]
    assert len(slots) == 5 + 4  # every edge of each; one end is written in two
    round_ones = [s for s in slots if s["ends"] == "round"]
    assert all((s["length"], s["width"]) == pytest.approx((52, 12)) for s in round_ones)
    assert all(s["center"] == pytest.approx([70, 31, 10]) for s in round_ones)
    square = next(s for s in slots if s["ends"] == "square")
    assert (square["length"], square["width"]) == pytest.approx((30, 15))
    assert square["center"] == pytest.approx([75, 67.5, 10])


def test_a_rounded_corner_is_an_arc_and_a_side_a_line(plate):
    (rounded,) = {e.inside for e in plate.edges if e.shape == "arc"}
    assert rounded is False  # the material lies within it
    corner = next(e.nominal for e in plate.edges if e.shape == "arc")
    assert (corner["radius"], corner["span_rad"]) == pytest.approx((20, np.pi / 2))
    sides = [e for e in plate.edges if e.shape == "line" and np.abs(e.nominal["direction"]) == pytest.approx([1, 0, 0])]
    assert {round(e.nominal["point"][2], 6) for e in sides} == {0.0, 10.0}
    assert all(e.face is not None for e in sides)
