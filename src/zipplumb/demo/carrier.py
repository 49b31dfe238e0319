"""The bearing carrier: its CAD as STEP, and how the real one differs from it.

All invented. The part stands on its foot, Z up, the bearing bore along Y; mm.
"""

from __future__ import annotations

from pathlib import Path

LENGTH, WIDTH, FOOT = 500.0, 280.0, 60.0
BODY_LENGTH, BODY_WIDTH, BORE_HEIGHT, BODY_RADIUS = 260.0, 140.0, 240.0, 130.0
BORE, SPIGOT, SPIGOT_OUT = 160.0, 200.0, 15.0
BOLT, BOLT_X, BOLT_Y = 22.0, 205.0, 100.0
DOWEL, DOWEL_X, DOWEL_Y = 16.0, 205.0, 0.0


def write_step(path: Path) -> None:
    """Write the carrier's nominal geometry as a STEP file (millimetres)."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain

    def box(x0, y0, z0, x1, y1, z1):
        return BRepPrimAPI_MakeBox(gp_Pnt(x0, y0, z0), gp_Pnt(x1, y1, z1)).Shape()

    def rod(x, y, z, direction, diameter, length):
        return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(x, y, z), gp_Dir(*direction)), diameter / 2, length).Shape()

    def fuse(a, b):
        return BRepAlgoAPI_Fuse(a, b).Shape()

    def cut(a, b):
        return BRepAlgoAPI_Cut(a, b).Shape()

    along_y, up = (0, 1, 0), (0, 0, 1)
    half_length, half_width, half_body = LENGTH / 2, WIDTH / 2, BODY_LENGTH / 2
    shape = box(-half_length, -half_width, 0, half_length, half_width, FOOT)
    shape = fuse(shape, box(-half_body, -BODY_WIDTH / 2, FOOT - 1, half_body, BODY_WIDTH / 2, BORE_HEIGHT))
    shape = fuse(shape, rod(0, -BODY_WIDTH / 2, BORE_HEIGHT, along_y, 2 * BODY_RADIUS, BODY_WIDTH))
    shape = fuse(shape, rod(0, -BODY_WIDTH / 2 - SPIGOT_OUT, BORE_HEIGHT, along_y, SPIGOT, BODY_WIDTH + SPIGOT_OUT))
    shape = cut(shape, rod(0, -WIDTH, BORE_HEIGHT, along_y, BORE, 2 * WIDTH))
    for x in (-BOLT_X, BOLT_X):
        for y in (-BOLT_Y, BOLT_Y):
            shape = cut(shape, rod(x, y, -1, up, BOLT, FOOT + 2))
        shape = cut(shape, rod(x, DOWEL_Y, -1, up, DOWEL, FOOT + 2))
    tidy = ShapeUpgrade_UnifySameDomain(shape, True, True, False)
    tidy.Build()

    write_shape(tidy.Shape(), "Bearing carrier", path)


def write_shape(shape, name: str, path: Path) -> None:
    """Write one body with its name as a STEP file."""
    write_shapes([(shape, name)], path)


def write_shapes(shapes, path: Path) -> None:
    """Write bodies with their names as a STEP file."""
    from OCP.STEPCAFControl import STEPCAFControl_Writer
    from OCP.STEPControl import STEPControl_StepModelType
    from OCP.TCollection import TCollection_ExtendedString
    from OCP.TDataStd import TDataStd_Name
    from OCP.TDocStd import TDocStd_Document
    from OCP.XCAFDoc import XCAFDoc_DocumentTool

    document = TDocStd_Document(TCollection_ExtendedString("zipplumb"))
    tool = XCAFDoc_DocumentTool.ShapeTool_s(document.Main())
    for shape, name in shapes:
        TDataStd_Name.Set_s(tool.AddShape(shape, False), TCollection_ExtendedString(name))
    writer = STEPCAFControl_Writer()
    writer.SetNameMode(True)
    writer.Transfer(document, STEPControl_StepModelType.STEPControl_AsIs)
    path.parent.mkdir(parents=True, exist_ok=True)
    writer.Write(str(path))
