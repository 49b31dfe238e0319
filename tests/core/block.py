"""A made-up block that lies anywhere, and sheets that grow row by row with the readings that it would give."""

import numpy as np
from scipy.spatial.transform import Rotation

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.frames import Motion, perpendicular_pair
from zipplumb.core.readings import HitSet
from zipplumb.core.sheet import Kit, Sheet, SheetRow, StationPose, evaluate, recipe_from_dict

TIP = 3.0
WORLD = Motion(Rotation.from_euler("xyz", [20, -30, 50], degrees=True).as_matrix(), np.array([800.0, -300, 150]))
KIT = Kit({1: StationPose(1, Motion.identity())}, {1: ProbeCalibration(1, np.zeros(3), 2 * TIP, 0.0)})
UP = np.array([0.0, 0, 1])
CORNER = np.array([250.0, 140, 60])
TURN = np.linspace(0, 2 * np.pi, 12, endpoint=False)


class Bench:
    """A sheet that grows row by row, each with the readings that its part would give."""

    def __init__(self, lies=WORLD, u_hit_mm=0.01, noise_mm=0.0):
        self.noise_mm, self.random = noise_mm, np.random.default_rng(5)
        self.u_hit_mm, self.lies, self.rows, self.readings, self.touched = u_hit_mm, lies, [], {}, {}

    def add(self, raw, centers=None, outward=None):
        number = len(self.rows) + 1
        self.rows.append(SheetRow(number, recipe_from_dict({"name": f"Row {number}", **raw}), True))
        if centers is not None:
            self.touched[number] = np.atleast_2d(centers), outward
            self.readings[number] = self.read(*self.touched[number])
        return number

    def read_again(self, random):
        """All of it once more, with errors of its own."""
        self.random = random
        self.readings = {number: self.read(*touched) for number, touched in self.touched.items()}

    def read(self, centers, outward):
        n = len(centers)
        if self.noise_mm:
            centers = centers + self.random.normal(0, self.noise_mm, centers.shape)
        upright = np.tile([1.0, 0, 0, 0], (n, 1))
        world = self.lies.points(centers)
        away = np.full((n, 3), np.nan) if outward is None else self.lies.points(centers + 20 * np.atleast_2d(outward))
        left = None if outward is None else np.array([*away[-1], 1, 0, 0, 0])
        return HitSet(
            tuple(f"{len(self.rows)}.{k}" for k in range(n)), np.hstack([world, upright]), np.hstack([away, upright]),
            np.zeros(n, bool), np.ones(n, int), np.ones(n, int), np.arange(n, dtype=float), left, 1, 1, u_hit_mm=self.u_hit_mm,
        )  # fmt: skip

    # ---- features of a block 500 x 280 x 60 about the origin, top at z = 60 -----------------

    def plane(self, point, normal, **more):
        point, normal = np.array(point, float), np.array(normal, float)
        u, v = perpendicular_pair(normal)
        spots = point + TIP * normal + 40 * np.array([u + v, u - v, -u - v, -u + v, 0 * u])
        nominal = {"shape": "plane", "point": tuple(point), "normal": tuple(normal)}
        return self.add({"kind": "plane", "nominal": nominal, **more}, spots, normal)

    def point(self, place, actual=None):
        nominal = {"shape": "point", "position": tuple(place)}
        return self.add({"kind": "point", "nominal": nominal}, place if actual is None else actual)

    def circle(self, center, diameter, plane, normal=UP):
        center = np.array(center, float)
        u, v = perpendicular_pair(normal)
        rim = np.outer(np.cos(TURN), u) + np.outer(np.sin(TURN), v)
        nominal = {"shape": "circle", "center": tuple(center), "normal": tuple(normal), "radius": diameter / 2}
        return self.add(
            {"kind": "circle", "nominal": nominal, "plane": plane},
            center + (diameter / 2 - TIP) * rim,
            -0.04 * (diameter / 2 - TIP) * rim,
        )

    def slot(self, center, length, width, plane):
        straight = np.linspace(-(length - width) / 2, (length - width) / 2, 4)
        half, r = (length - width) / 2, width / 2 - TIP
        sides = [[x, s * r, 0] for x in straight for s in (1, -1)]
        ends = [[s * (half + r * np.cos(a)), r * np.sin(a), 0] for s in (1, -1) for a in (-0.9, 0, 0.9)]
        rel = np.array(sides + ends)
        nominal = {"shape": "slot", "center": tuple(center), "normal": (0, 0, 1), "direction": (1, 0, 0),
                   "length": length, "width": width}  # fmt: skip
        inward = -0.1 * rel / np.linalg.norm(rel, axis=1)[:, None]
        return self.add({"kind": "slot", "nominal": nominal, "plane": plane}, np.array(center) + rel, inward)

    def ellipse(self, center, major, minor, plane):
        """Semi-axes along X and Y."""
        turn = np.linspace(0, 2 * np.pi, 12, endpoint=False)
        rim = np.column_stack([major * np.cos(turn), minor * np.sin(turn), 0 * turn])
        inward = -np.column_stack([np.cos(turn) / major, np.sin(turn) / minor, 0 * turn])
        inward /= np.linalg.norm(inward, axis=1)[:, None]
        nominal = {"shape": "ellipse", "center": tuple(center), "normal": (0, 0, 1), "major_direction": (1, 0, 0),
                   "semi_major": major, "semi_minor": minor}  # fmt: skip
        return self.add({"kind": "ellipse", "nominal": nominal, "plane": plane}, center + rim + TIP * inward, 0.1 * inward)

    def arc(self, center, radius, span, plane):
        """Hollow, from +X on."""
        turn = np.linspace(0, span, 7)
        rim = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
        nominal = {"shape": "arc", "center": tuple(center), "normal": (0, 0, 1), "radius": radius, "start": (1, 0, 0),
                   "span_rad": span}  # fmt: skip
        return self.add({"kind": "arc", "nominal": nominal, "plane": plane}, center + (radius - TIP) * rim, -0.1 * rim)

    def edge(self, point, direction, outward, plane):
        direction, outward = np.array(direction, float), np.array(outward, float)
        spots = np.array(point) + np.outer([-80, -30, 10, 60, 90.0], direction) + TIP * outward
        nominal = {"shape": "line", "point": tuple(point), "direction": tuple(direction)}
        return self.add({"kind": "line", "nominal": nominal, "plane": plane}, spots, outward)

    def touch(self, place, normal):
        place, normal = np.array(place, float), np.array(normal, float)
        nominal = {"shape": "plane", "point": tuple(place), "normal": tuple(normal)}
        return self.add({"kind": "surface_point", "nominal": nominal}, place + TIP * normal, normal)

    def align(self, kit=KIT, surfaces=None, previous=None, **raw):
        number = self.add(raw)
        results, _ = evaluate(Sheet(tuple(self.rows), number), self.readings, kit, previous, surfaces)
        return results[number], results

    def lies_right(self, found, atol=1e-6):
        back = found.alignment.part_from_world @ self.lies
        return np.allclose(back.rotation, np.eye(3), atol=atol / 100) and np.allclose(back.points(CORNER), CORNER, atol=atol)


def block(bench):
    return bench.plane([0, 0, 60], [0, 0, 1], datum="A"), bench.plane([0, -140, 30], [0, -1, 0], datum="B"), bench.plane(
        [-250, 0, 30], [-1, 0, 0], datum="C"
    )  # fmt: skip
