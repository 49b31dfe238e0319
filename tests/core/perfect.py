"""A part without error, read without error: it lies anywhere, may be warm, and is touched partly and in any order."""

import numpy as np
from block import KIT, TIP, TURN, UP, Bench, block
from scipy.spatial.transform import Rotation

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.frames import Motion, perpendicular_pair
from zipplumb.core.sheet import Kit

ALPHA = 11.7e-6  # of carbon steel, by K
RIM = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])
BALL = np.vstack([RIM[::2], 0.6 * RIM[1::2] + 0.8 * UP, [UP]])
AXES = ("bore", "far bore", "leaning bore", "cross bore")
EDGES = ("edge", "end edge")


class PerfectPart(Bench):
    """``rows``: the number of each of its features by name. ``warmer`` than 20 °C by so many K; its tip's ball is too, so that
    all lengths are longer alike."""

    def __init__(self, seed, warmer=0.0):
        self.draw = np.random.default_rng(seed)
        self.long = 1 + ALPHA * warmer
        turn = Rotation.random(random_state=self.draw).as_matrix()
        super().__init__(Motion(turn, self.draw.uniform(-2000, 2000, 3)), u_hit_mm=0.005)
        self.kit = Kit(KIT.stations, {1: ProbeCalibration(1, np.zeros(3), 2 * TIP * self.long, 0.0)})
        self.named = self._features()
        for name, row in self.named.items():
            self.touched[row] = self._in_some_order(name, *self.touched[row])
            self.readings[row] = self.read(*self.touched[row])

    def read(self, centers, outward):
        return super().read(self.long * np.atleast_2d(centers), outward)

    def _in_some_order(self, name, centers, outward):
        """From the other end, to and fro, or over half the length of what has an axis."""
        count, draw = len(np.atleast_2d(centers)), self.draw
        order = np.arange(count)
        if name in AXES + EDGES and draw.random() < 0.5:
            order = order[::-1]
        if name in EDGES and draw.random() < 0.3:
            order = draw.permutation(count)
        if name in AXES + EDGES and draw.random() < 0.5:
            order = order[: 24 if name in AXES else 3]
        each = outward if outward is None or np.ndim(outward) == 1 else np.atleast_2d(outward)[order]
        return np.atleast_2d(centers)[order], each

    def bore(self, at, direction, radius, heights, **more):
        at, direction = np.array(at, float), np.array(direction, float) / np.linalg.norm(direction)
        u, v = perpendicular_pair(direction)
        rim = np.outer(np.cos(TURN), u) + np.outer(np.sin(TURN), v)
        nominal = {"shape": "cylinder", "point": at.tolist(), "direction": direction.tolist(), "radius": radius}
        centers = np.vstack([at + height * direction + (radius - TIP) * rim for height in heights])
        return self.add({"kind": "cylinder", "nominal": nominal, **more}, centers, np.tile(-0.3 * rim, (len(heights), 1)))

    def _features(self):
        top, side, end = block(self)
        limits = {"asked": [{"key": "diameter", "lower": -0.1, "upper": 0.1}]}
        found = {
            "top": top, "side": side, "end": end,
            "bottom": self.plane([20, 10, 0], [0, 0, -1]), "far side": self.plane([0, 140, 30], [0, 1, 0]),
            "slant": self.plane([100, 0, 60], np.array([1, 0, 1]) / np.sqrt(2)),
            "nearly level": self.plane([-100, 0, 30], [0, np.sin(0.05), np.cos(0.05)]),
            "point": self.point([10, 20, 60]), "other point": self.point([200, -30, 40]),
            "circle": self.circle([50, 20, 60], 30, top), "other circle": self.circle([150, -40, 60], 20, top),
            "slot": self.slot([100, 20, 60], 40, 12, top), "ellipse": self.ellipse([-150, 100, 60], 25, 15, top),
            "edge": self.edge([0, -140, 60], [1, 0, 0], [0, -1, 0], top),
            "end edge": self.edge([-250, 0, 60], [0, -1, 0], [-1, 0, 0], top),
            "bore": self.bore([0, 0, 60], [0, 0, 1], 20, (-30, -20, -10), **limits),
            "far bore": self.bore([-120, 50, 60], [0, 0, 1], 15, (-12, -9, -5)),
            "leaning bore": self.bore([60, -60, 60], [0.06, 0.02, 1], 12, (-30, -20, -10)),
            "cross bore": self.bore([-250, 30, 30], [-1, 0, 0], 10, (-30, -20, -10)),
        }  # fmt: skip
        ball = {"shape": "sphere", "center": [0, 80, 90], "radius": 20}
        found["ball"] = self.add({"kind": "sphere", "inside": False, "nominal": ball}, [0, 80, 90] + 23 * BALL, 0.3 * BALL)
        seat = {"shape": "cone", "apex": [-60, -60, 0], "direction": [0, 0, 1], "half_angle": np.radians(30)}
        across, off = np.tan(np.radians(30)), TIP * np.array([-np.cos(np.radians(30)), np.sin(np.radians(30))])
        hits = np.vstack([(z * across + off[0]) * RIM + [-60, -60, z + off[1]] for z in (20, 30, 40)])
        found["cone"] = self.add({"kind": "cone", "nominal": seat}, hits, np.tile(-0.3 * RIM, (3, 1)))
        return found

    def of(self, *names):
        return [self.named[name] for name in names]
