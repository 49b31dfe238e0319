"""The sensor bracket of the tidal turbine: a small part that has every kind of feature. Its CAD as STEP.

All invented. The plate lies on Z = 0, its top is A, the long side B, the left end C; a bent sheet stands off its right end; mm.
"""

from __future__ import annotations

import math
from itertools import pairwise
from pathlib import Path

LENGTH, WIDTH, THICK = 360.0, 240.0, 40.0
BORE = (30.0, -120.0, 60.0)  # diameter, and where its axis is in X and Y
BOSS, BOSS_HIGH = (40.0, -50.0, 60.0), 25.0
CONE, CONE_DEEP, CONE_HALF_DEG = (32.0, 20.0, 60.0), 12.0, 45.0
BALL, BALL_ABOVE = (36.0, 80.0, 60.0), 6.0  # a spherical seat, its center above the top
RING, RING_TUBE = (50.0, 140.0, 60.0), 12.0  # a round groove: diameters of the ring and the tube
ROUND_SLOT = (54.0, 14.0, -115.0, -15.0)  # over all, width, where its middle is
SQUARE_SLOT = (40.0, 12.0, -40.0, -15.0)
ELLIPSE = (50.0, 30.0, 45.0, -15.0)  # both diameters, where its middle is; long along X
CRADLE_RADIUS, CRADLE_DEG, CRADLE_X = 40.0, 50.0, -80.0  # in the side at +Y
BOLTS, BOLT, CIRCLE = 12, 13.0, (76.0, 122.0, -60.0)  # how many, their diameter, the bolt circle
WAVE_X, WAVE_DEEP = (10.0, 40.0, 80.0, 120.0, 150.0), ((0.0, 11.0, 15.0, 7.0, 0.0), (0.0, 8.0, 18.0, 9.0, 0.0))
SHEET = (90.0, 100.0, 3.0)  # along its slope, across, thick
SHEET_LEAN_DEG, SHEET_TURN_DEG = 35.0, 8.0


def write_step(path: Path) -> None:
    """Write the bracket's nominal geometry as a STEP file (millimetres)."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
    from OCP.BRepBuilderAPI import (
        BRepBuilderAPI_MakeEdge,
        BRepBuilderAPI_MakeFace,
        BRepBuilderAPI_MakeWire,
        BRepBuilderAPI_Transform,
    )
    from OCP.BRepPrimAPI import (
        BRepPrimAPI_MakeBox,
        BRepPrimAPI_MakeCone,
        BRepPrimAPI_MakeCylinder,
        BRepPrimAPI_MakePrism,
        BRepPrimAPI_MakeSphere,
        BRepPrimAPI_MakeTorus,
    )
    from OCP.gp import gp_Ax1, gp_Ax2, gp_Dir, gp_Elips, gp_Pnt, gp_Trsf, gp_Vec
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain

    from .carrier import write_shape

    up = gp_Dir(0, 0, 1)

    def at(x, y, z):
        return gp_Ax2(gp_Pnt(x, y, z), up)

    def rod(x, y, z, diameter, length):
        return BRepPrimAPI_MakeCylinder(at(x, y, z), diameter / 2, length).Shape()

    def box(x0, y0, z0, x1, y1, z1):
        return BRepPrimAPI_MakeBox(gp_Pnt(x0, y0, z0), gp_Pnt(x1, y1, z1)).Shape()

    def fuse(a, b):
        return BRepAlgoAPI_Fuse(a, b).Shape()

    def cut(a, b):
        return BRepAlgoAPI_Cut(a, b).Shape()

    shape = box(-LENGTH / 2, -WIDTH / 2, 0, LENGTH / 2, WIDTH / 2, THICK)
    shape = fuse(shape, rod(BOSS[1], BOSS[2], THICK - 1, BOSS[0], BOSS_HIGH + 1))
    shape = cut(shape, rod(BORE[1], BORE[2], -1, BORE[0], THICK + 2))
    low = CONE[0] / 2 - CONE_DEEP * math.tan(math.radians(CONE_HALF_DEG))
    shape = cut(shape, BRepPrimAPI_MakeCone(at(CONE[1], CONE[2], THICK - CONE_DEEP), low, CONE[0] / 2, CONE_DEEP).Shape())
    shape = cut(shape, BRepPrimAPI_MakeSphere(gp_Pnt(BALL[1], BALL[2], THICK + BALL_ABOVE), BALL[0] / 2).Shape())
    shape = cut(shape, BRepPrimAPI_MakeTorus(at(RING[1], RING[2], THICK), RING[0] / 2, RING_TUBE / 2).Shape())
    length, width, x, y = ROUND_SLOT
    half = (length - width) / 2
    slot = box(x - half, y - width / 2, -1, x + half, y + width / 2, THICK + 1)
    for end in (-half, half):
        slot = fuse(slot, rod(x + end, y, -1, width, THICK + 2))
    shape = cut(shape, slot)
    length, width, x, y = SQUARE_SLOT
    shape = cut(shape, box(x - length / 2, y - width / 2, -1, x + length / 2, y + width / 2, THICK + 1))
    long, short, x, y = ELLIPSE
    outline = gp_Elips(at(x, y, -1), long / 2, short / 2)
    wire = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(outline).Edge()).Wire()
    shape = cut(shape, BRepPrimAPI_MakePrism(BRepBuilderAPI_MakeFace(wire).Face(), gp_Vec(0, 0, THICK + 2)).Shape())
    out = CRADLE_RADIUS * math.cos(math.radians(CRADLE_DEG / 2))
    shape = cut(shape, rod(CRADLE_X, WIDTH / 2 + out, -1, 2 * CRADLE_RADIUS, THICK + 2))
    shape = cut(shape, _wave())
    for k in range(BOLTS):
        turn = 2 * math.pi * k / BOLTS
        x, y = CIRCLE[1] + CIRCLE[0] / 2 * math.cos(turn), CIRCLE[2] + CIRCLE[0] / 2 * math.sin(turn)
        shape = cut(shape, rod(x, y, -1, BOLT, THICK + 2))
    along, across, thick = SHEET
    sheet = box(-4, -across / 2, -thick, along, across / 2, 0)
    for axis, degrees in ((gp_Dir(0, 1, 0), -SHEET_LEAN_DEG), (gp_Dir(0, 0, 1), SHEET_TURN_DEG)):
        turned = gp_Trsf()
        turned.SetRotation(gp_Ax1(gp_Pnt(0, 0, 0), axis), math.radians(degrees))
        sheet = BRepBuilderAPI_Transform(sheet, turned, True).Shape()
    moved = gp_Trsf()
    moved.SetTranslation(gp_Vec(LENGTH / 2, 60.0, THICK - 8))
    shape = fuse(shape, BRepBuilderAPI_Transform(sheet, moved, True).Shape())
    tidy = ShapeUpgrade_UnifySameDomain(shape, True, True, False)
    tidy.Build()
    write_shape(tidy.Shape(), "Sensor bracket", path)


def _wave():
    """The volume cut off at +Y: between two splines, below and above, so that its face is free in both directions."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeEdge, BRepBuilderAPI_MakeWire
    from OCP.BRepOffsetAPI import BRepOffsetAPI_ThruSections
    from OCP.GeomAPI import GeomAPI_PointsToBSpline
    from OCP.gp import gp_Pnt
    from OCP.OCP.collections import Array1_gp_Pnt

    through = BRepOffsetAPI_ThruSections(True, False, 1e-6)
    for z, deep in zip((-1.0, THICK / 2, THICK + 1), (WAVE_DEEP[0], WAVE_DEEP[1], WAVE_DEEP[0]), strict=True):
        places = [gp_Pnt(x, WIDTH / 2 - d, z) for x, d in zip(WAVE_X, deep, strict=True)]
        points = Array1_gp_Pnt(1, len(places))
        for k, place in enumerate(places, start=1):
            points.SetValue(k, place)
        far = [gp_Pnt(x, WIDTH / 2 + 30, z) for x in (WAVE_X[-1], WAVE_X[0])]
        corners = [places[-1], *far, places[0]]
        wire = BRepBuilderAPI_MakeWire(BRepBuilderAPI_MakeEdge(GeomAPI_PointsToBSpline(points).Curve()).Edge())
        for start, end in pairwise(corners):
            wire.Add(BRepBuilderAPI_MakeEdge(start, end).Edge())
        through.AddWire(wire.Wire())
    return through.Shape()
