"""A block whose datums are touched, and which is scanned: what is asked for is worked out here, as a worker would."""

from dataclasses import replace

import numpy as np
from block import KIT, UP, WORLD, Bench, block
from scipy.spatial.transform import Rotation

from zipplumb.core.calibration import Light, ProbeCalibration
from zipplumb.core.cloud.light import Chunk
from zipplumb.core.frames import Motion
from zipplumb.core.readings import HitSet
from zipplumb.core.sheet import Kit, Sheet, evaluate
from zipplumb.core.stripes import packed

SCANNER, HIGH, RADIUS = 7, 110.0, 20.1
LIGHT = Light(Motion.identity(), 0.02)
WHOLE = Kit(KIT.stations, {**KIT.calibrations, SCANNER: ProbeCalibration(SCANNER, np.zeros(3), 0.0, 0.0, "", 0.003, LIGHT)})
BORE = {"shape": "cylinder", "point": [0, 0, 30], "direction": [0, 0, 1], "radius": 20}
TOP = {"shape": "plane", "point": [0, 0, 60], "normal": [0, 0, 1]}


def looking(ways):
    """w, x, y, z (n, 4) of scanners whose light goes those ways (n, 3)."""
    x = np.cross(ways, np.where(np.abs(ways[:, 2:]) < 0.9, [[0.0, 0, 1]], [[1.0, 0, 0]]))
    x /= np.linalg.norm(x, axis=1, keepdims=True)
    turned = np.stack([x, np.cross(ways, x), ways], axis=2)
    return Rotation.from_matrix(turned).as_quat(scalar_first=True)


def faces(points, margin_mm=0.0):
    """The wall of the bore (face 4), or the top (face 1) where that is nearer."""
    far = np.linalg.norm(points[:, :2], axis=1)
    on_wall = np.abs(far - 20) < np.abs(points[:, 2] - 60)
    out = np.column_stack([points[:, 0] / far, points[:, 1] / far, 0 * far])
    feet = np.where(on_wall[:, None], 20 * out + points * [0, 0, 1], points * [1, 1, 0] + [0, 0, 60])
    return feet, np.where(on_wall[:, None], -out, UP), np.where(on_wall, 4, 1), np.zeros(len(points), bool)


class Scanned:
    """A block whose datums are touched, with a bore of radius 20.1 and its top scanned; what is asked for is made here."""

    def __init__(self, noise_mm=0.0, seed=2):
        self.bench = bench = Bench()
        top, side, end = block(bench)
        self.active = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
        self.scan = bench.add({"kind": "scan", "system": self.active})
        self.bore = bench.add({"kind": "cylinder", "nominal": BORE, "face": 4, "scans": [self.scan]})
        self.top = bench.add({"kind": "plane", "nominal": TOP, "face": 1, "scans": [self.scan]})
        random = np.random.default_rng(seed)
        turn, deep = np.sort(random.uniform(0, 2 * np.pi, 6000)), random.uniform(20, 55, 6000)
        out = np.column_stack([np.cos(turn), np.sin(turn), 0 * turn])
        flat = np.column_stack([random.uniform(60, 90, 3000), random.uniform(-20, 20, 3000), np.full(3000, 60.0)])
        points = np.vstack([RADIUS * out + deep[:, None] * UP, flat])
        ways = np.vstack([(out - UP) / np.sqrt(2), np.tile(-UP, (3000, 1))])
        self.normals = WORLD.vectors(np.vstack([-out, np.tile(UP, (3000, 1))]))
        self.points = points = WORLD.points(points + noise_mm * random.normal(size=(9000, 1)) * ways)
        ways = WORLD.vectors(ways)
        poses = np.hstack([points - HIGH * ways, looking(ways)])
        ones = np.ones(9000, int)
        self.readings = dict(bench.readings)
        self.readings[self.scan] = HitSet(
            tuple(f"9.{k}" for k in range(9000)), poses, np.full((9000, 7), np.nan), np.zeros(9000, bool), ones, SCANNER * ones,
            ones.astype(float), u_hit_mm=0.02,
        )  # fmt: skip
        data, counts = packed([np.array([[0.0, HIGH, 1.0]], np.float32)] * 9000)
        self.chunk = Chunk(poses, data, counts, np.zeros(9000, bool), 1, SCANNER)
        self.done, self.asked = {}, []

    def evaluate(self, memory=None, **changed):
        """``changed``: recipes' fields of the scan, whether it is finished, or the part's surfaces."""
        finished, surfaces = changed.pop("finished", True), changed.pop("surfaces", None)
        rows = [
            row if row.id != self.scan else replace(row, recipe=row.recipe.model_copy(update=changed), finished=finished)
            for row in self.bench.rows
        ]
        return evaluate(Sheet(tuple(rows), self.active), self.readings, WHOLE, memory, surfaces, self.done.get)

    def work(self, memory):
        """All that is asked for, and what is then."""
        while memory.wanted:
            for key, asked in memory.wanted.items():
                self.asked.append(key)
                self.done[key] = replace(asked.run([self.chunk], 1, faces, lambda _: None), key=key)
            _, memory = self.evaluate(memory)

    def worked_out(self):
        _, memory = self.evaluate()
        self.work(memory)
        return self.evaluate(memory)
