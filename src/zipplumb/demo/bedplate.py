"""The bedplate of the tidal turbine's drive train, with three details that are moved on adjusters. Its CAD as STEP.

All invented. X along the shaft, Z up, the foot on Z = 0, the rail at -Y, the fairing flange at +Y; mm.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

LENGTH, WIDTH, HIGH = 3600.0, 1500.0, 600.0
PAD, PAD_HIGH, PADS = 300.0, 10.0, ((-1500.0, -500.0), (-1500.0, 500.0), (1500.0, 0.0))
POCKET = (2400.0, 700.0, 250.0)
BOLTS, BOLT, CIRCLE = 12, 26.0, 420.0  # how many, their diameter, and that of their circle about the middle
RAIL = (3200.0, 40.0, 300.0, 420.0)  # its length, how far it stands out of the side, and from which height to which
STOP = (60.0, 240.0, 90.0)  # at the end at -X, on the top
SEATS, SEAT, SEAT_BORE, SHAFT = (-620.0, 620.0), (120.0, 320.0, 350.0), 120.0, HIGH + 200  # bearing seats on one axis
KEYS, KEY, KEY_DEEP = (-300.0, 300.0), (120.0, 25.0), 12.0  # two slots for keys, along X
KEYS_Y = -450.0
DOWEL, DOWEL_HALF_DEG = (900.0, -450.0, 40.0), 30.0  # a conical seat: where, its diameter at the top, half its angle
BALL, BALL_UP = (-900.0, -450.0, 30.0), 8.0  # a spherical seat: where, its radius, and its center over the top
FLANGE_X, FLANGE_Z = (-1200.0, 1200.0), (200.0, 520.0)  # of the fairing flange, on the side at +Y
# how far it stands out of the side, along X; from the bottom to the top
FLANGE_OUT = (
    (24.0, 34.0, 46.0, 52.0, 44.0, 30.0, 22.0),
    (30.0, 42.0, 56.0, 62.0, 52.0, 38.0, 28.0),
    (22.0, 33.0, 45.0, 50.0, 41.0, 29.0, 21.0),
)
NEST_UP = 40.0  # the center of a reflector in a nest over what that stands on
# eight nests for reference points, on the top near the edges
REFERENCES = tuple((x, y, HIGH + NEST_UP) for x in (-1700.0, -600.0, 600.0, 1700.0) for y in (-680.0, 680.0))


@dataclass(frozen=True)
class Movable:
    """A detail: a block of some size about a middle, on the top; nests on its corners, adjusters under and beside it."""

    name: str
    stem: str
    middle: tuple[float, float]
    size: tuple[float, float, float]
    bore: float = 0.0

    @property
    def targets(self) -> dict[str, tuple[float, float, float]]:
        x, y, z = (v / 2 for v in self.size)
        corners = ((-1, -1), (1, -1), (1, 1), (-1, 1))
        at = HIGH + 2 * z + NEST_UP
        return {
            f"{self.stem}{k}": (self.middle[0] + 0.8 * i * x, self.middle[1] + 0.8 * j * y, at)
            for k, (i, j) in enumerate(corners, 1)
        }

    @property
    def adjusters(self) -> list[tuple[str, tuple[float, float, float], str, float]]:
        """Name, where it touches, which way is up, and the pitch that is stated."""
        x, y = self.middle
        a, b = (v / 2 for v in self.size[:2])
        return [
            ("Foot 1", (x - a, y - b, HIGH), "+Z", 1.5), ("Foot 2", (x + a, y - b, HIGH), "+Z", 1.5),
            ("Foot 3", (x, y + b, HIGH), "+Z", 1.5), ("Side 1", (x - a, y - b, HIGH + 60), "+Y", 1.25),
            ("Side 2", (x + a, y - b, HIGH + 60), "+Y", 1.25), ("End", (x - a, y, HIGH + 60), "+X", 1.0),
        ]  # fmt: skip


MOVABLE = (
    Movable("Forward carrier", "F", (1100.0, 0.0), (280.0, 500.0, 340.0), 160.0),
    Movable("Aft carrier", "T", (-1100.0, 0.0), (280.0, 500.0, 340.0), 160.0),
    Movable("Gearbox foot", "G", (-100.0, 450.0), (360.0, 240.0, 120.0)),
)


def write_step(path: Path) -> None:
    """Write the nominal geometry, a body for the frame and one for each detail, as a STEP file (millimetres)."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeBox, BRepPrimAPI_MakeCylinder
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt
    from OCP.ShapeUpgrade import ShapeUpgrade_UnifySameDomain

    from .carrier import write_shapes

    def box(x0, y0, z0, x1, y1, z1):
        return BRepPrimAPI_MakeBox(gp_Pnt(x0, y0, z0), gp_Pnt(x1, y1, z1)).Shape()

    def rod(at, direction, diameter, length):
        return BRepPrimAPI_MakeCylinder(gp_Ax2(gp_Pnt(*at), gp_Dir(*direction)), diameter / 2, length).Shape()

    frame = box(-LENGTH / 2, -WIDTH / 2, 0, LENGTH / 2, WIDTH / 2, HIGH)
    long, wide, deep = POCKET
    frame = BRepAlgoAPI_Cut(frame, box(-long / 2, -wide / 2, -1, long / 2, wide / 2, deep)).Shape()
    for x, y in PADS:
        pad = box(x - PAD / 2, y - PAD / 2, HIGH - 1, x + PAD / 2, y + PAD / 2, HIGH + PAD_HIGH)
        frame = BRepAlgoAPI_Fuse(frame, pad).Shape()
    for turn in np.linspace(0, 2 * np.pi, BOLTS, endpoint=False):
        at = (CIRCLE / 2 * np.cos(turn), CIRCLE / 2 * np.sin(turn), HIGH - 80)
        frame = BRepAlgoAPI_Cut(frame, rod(at, (0, 0, 1), BOLT, 81)).Shape()
    frame = _with_seats(frame, box, rod)
    tidy = ShapeUpgrade_UnifySameDomain(BRepAlgoAPI_Fuse(frame, _flange()).Shape(), True, True, False)
    tidy.Build()
    frame = tidy.Shape()
    shapes = [(frame, "Bedplate")]
    for detail in MOVABLE:
        x, y = detail.middle
        a, b = detail.size[0] / 2, detail.size[1] / 2
        shape = box(x - a, y - b, HIGH, x + a, y + b, HIGH + detail.size[2])
        if detail.bore:
            shape = BRepAlgoAPI_Cut(shape, rod((x - a - 1, y, HIGH + 200), (1, 0, 0), detail.bore, 2 * a + 2)).Shape()
        shapes.append((shape, detail.name))
    write_shapes(shapes, path)


def _with_seats(frame, box, rod):
    """The rail, the end stop, the bearing seats on one axis, two key slots, a conical and a spherical seat."""
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse
    from OCP.BRepPrimAPI import BRepPrimAPI_MakeCone, BRepPrimAPI_MakeSphere
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    half, out, low, high = RAIL[0] / 2, RAIL[1], RAIL[2], RAIL[3]
    long, wide, tall = STOP
    added = [
        box(-half, -WIDTH / 2 - out, low, half, -WIDTH / 2 + 1, high),
        box(-LENGTH / 2, -wide / 2, HIGH - 1, -LENGTH / 2 + long, wide / 2, HIGH + tall),
        *(box(x - SEAT[0] / 2, -SEAT[1] / 2, HIGH - 1, x + SEAT[0] / 2, SEAT[1] / 2, HIGH + SEAT[2]) for x in SEATS),
    ]
    for shape in added:
        frame = BRepAlgoAPI_Fuse(frame, shape).Shape()
    x, y, across = DOWEL
    deep = across / 2 / np.tan(np.radians(DOWEL_HALF_DEG))
    upright = gp_Ax2(gp_Pnt(x, y, HIGH - deep), gp_Dir(0, 0, 1))
    removed = [rod((x - SEAT[0], 0, SHAFT), (1, 0, 0), SEAT_BORE, 2 * SEAT[0]) for x in SEATS]
    removed.append(BRepPrimAPI_MakeCone(upright, 0.0, across, 2 * deep).Shape())
    removed.append(BRepPrimAPI_MakeSphere(gp_Pnt(BALL[0], BALL[1], HIGH + BALL_UP), BALL[2]).Shape())
    for x in KEYS:
        straight = (KEY[0] - KEY[1]) / 2
        removed.append(box(x - straight, KEYS_Y - KEY[1] / 2, HIGH - KEY_DEEP, x + straight, KEYS_Y + KEY[1] / 2, HIGH + 1))
        removed += [rod((x + s * straight, KEYS_Y, HIGH - KEY_DEEP), (0, 0, 1), KEY[1], KEY_DEEP + 1) for s in (-1, 1)]
    for shape in removed:
        frame = BRepAlgoAPI_Cut(frame, shape).Shape()
    return frame


def _flange():
    """The fairing flange: what lies between the side and a free surface before it."""
    from OCP.BRepBuilderAPI import BRepBuilderAPI_MakeFace
    from OCP.BRepPrimAPI import BRepPrimAPI_MakePrism
    from OCP.GeomAPI import GeomAPI_PointsToBSplineSurface
    from OCP.gp import gp_Pnt, gp_Vec
    from OCP.OCP.collections import Array2_gp_Pnt

    along, up = np.linspace(*FLANGE_X, len(FLANGE_OUT[0])), np.linspace(*FLANGE_Z, len(FLANGE_OUT))
    places = Array2_gp_Pnt(1, len(along), 1, len(up))
    for j, z in enumerate(up):
        for i, x in enumerate(along):
            places.SetValue(i + 1, j + 1, gp_Pnt(float(x), WIDTH / 2 + FLANGE_OUT[j][i], float(z)))
    face = BRepBuilderAPI_MakeFace(GeomAPI_PointsToBSplineSurface(places).Surface(), 1e-6).Face()
    return BRepPrimAPI_MakePrism(face, gp_Vec(0, -100.0, 0)).Shape()
