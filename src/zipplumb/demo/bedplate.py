"""The bedplate of the tidal turbine's drive train, with three details that are moved on adjusters. Its CAD as STEP.

All invented, and plain: a frame with pads, a pocket and a bolt circle. X along the shaft, Z up, the foot on Z = 0, the rail at
-Y; mm.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

LENGTH, WIDTH, HIGH = 3600.0, 1500.0, 600.0
PAD, PAD_HIGH, PADS = 300.0, 10.0, ((-1500.0, -500.0), (-1500.0, 500.0), (1500.0, 0.0))
POCKET = (2400.0, 700.0, 250.0)
BOLTS, BOLT, CIRCLE = 12, 26.0, 420.0  # how many, their diameter, and that of their circle about the middle
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
    shapes = [(frame, "Bedplate")]
    for detail in MOVABLE:
        x, y = detail.middle
        a, b = detail.size[0] / 2, detail.size[1] / 2
        shape = box(x - a, y - b, HIGH, x + a, y + b, HIGH + detail.size[2])
        if detail.bore:
            shape = BRepAlgoAPI_Cut(shape, rod((x - a - 1, y, HIGH + 200), (1, 0, 0), detail.bore, 2 * a + 2)).Shape()
        shapes.append((shape, detail.name))
    write_shapes(shapes, path)
