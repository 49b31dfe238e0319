"""Drawn jobs: a block whose datums are touched as it comes, with one feature on it that has limits."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np
from block import KIT, TIP, UP, Bench

from zipplumb.core.probing.next_place import places_in_order
from zipplumb.core.sheet import RowResult, Sheet, evaluate
from zipplumb.core.sheet.proving.rehearsal import ExpectedTouches
from zipplumb.core.sheet.proving.standing import Standing, with_hits
from zipplumb.core.sheet.proving.way import MoreHits

SIDE, END = np.array([0.0, -1, 0]), np.array([-1.0, 0, 0])
RADIUS = 20.0
RIM = np.linspace(0, 2 * np.pi, 48, endpoint=False)


def on_top(xy, over=0.0):
    return np.column_stack([xy, np.full(len(xy), 60 + over)])


def on_side(xz, over=0.0):
    return np.column_stack([xz[:, 0], np.full(len(xz), -140 - over), 30 + xz[:, 1]])


def on_end(yz, over=0.0):
    return np.column_stack([np.full(len(yz), -250 - over), yz[:, 0], 30 + yz[:, 1]])


def grid(a, b, n=7, m=5):
    return np.array([[x, y] for x in np.linspace(-a, a, n) for y in np.linspace(-b, b, m)])


def rim(turns):
    return np.column_stack([np.cos(turns), np.sin(turns), 0 * turns])


DATUMS = (
    ("A", [0, 0, 60], UP, on_top, (240, 130)),
    ("B", [0, -140, 30], SIDE, on_side, (240, 25)),
    ("C", [-250, 0, 30], END, on_end, (130, 25)),
)


@dataclass(frozen=True, eq=False)
class Drawn:
    """``where``: by row, takes places (n, 3) in the part to the tip's center when the real surface there is touched."""

    at: Standing
    row: int
    spots: Callable[[int], np.ndarray | None]
    where: Mapping[int, Callable[[np.ndarray], np.ndarray]]
    noise_mm: float
    bench: Bench

    def taken(self, way: MoreHits, random) -> RowResult:
        """The row once all hits of a way were taken, each with an error of its own."""
        readings = dict(self.at.readings)
        for row, world in way.places.items():
            centers = self.where[row](self.bench.lies.inverse().points(world))
            centers = self.bench.lies.points(centers + random.normal(0, self.noise_mm, centers.shape))
            readings[row] = with_hits(readings[row], self.at.results[row].feature, centers, KIT.stations)
        return evaluate(self.at.sheet, readings, KIT)[0][self.row]


def draw(random) -> Drawn:
    """Noise, where each datum is touched and how often, the feature, its limits and how far it is off: all drawn; how far it
    is off as parts are taken to be, see ``chance``."""
    noise = random.choice([0.005, 0.01, 0.02])
    bench, spots, where = Bench(u_hit_mm=noise), {}, {}

    def add(raw, centers, outward, places, true):
        row = bench.add(raw, centers + random.normal(0, noise, centers.shape), outward)
        spots[row], where[row] = bench.lies.points(places), true
        return row

    n = int(random.integers(3, 7))
    datums = []
    for letter, point, normal, on, (a, b) in DATUMS:
        touched = random.uniform(-1, 1, (n, 2)) * [random.uniform(0.08, 0.9) * a, random.uniform(0.3, 0.9) * b]
        nominal = {"shape": "plane", "point": point, "normal": list(normal)}

        def onto(c, point=np.array(point), normal=np.array(normal)):
            return c + ((point - c) @ normal + TIP)[:, None] * normal

        raw = {"kind": "plane", "nominal": nominal, "datum": letter}
        datums.append(add(raw, on(touched, TIP), normal, on(grid(a, b)), onto))
    keys = dict(zip(("primary", "secondary", "tertiary"), datums, strict=True))
    system = bench.add({"kind": "datum_planes", **keys})
    limit = random.choice([2, 4, 8, 16]) * noise
    off, at = random.normal(0, limit), np.array([random.uniform(-200, 200), random.uniform(-100, 100)])
    m = int(random.integers(3, 8))
    asked = {"lower": -limit, "upper": limit}
    if random.random() < 0.5:
        nominal = {"shape": "plane", "point": [*at, 60], "normal": [0, 0, 1]}
        centers = on_top(at + random.uniform(-15, 15, (m, 2)), off + TIP)
        row = add({"kind": "plane", "nominal": nominal, "asked": [{"key": "height", **asked}]}, centers, UP,
                  on_top(at + grid(18, 18)), lambda c: on_top(c[:, :2], off + TIP))  # fmt: skip
    else:
        nominal = {"shape": "circle", "center": [*at, 60], "normal": [0, 0, 1], "radius": RADIUS}
        center = np.array([at[0] + off, at[1], 60.0])

        def into(c):
            way = (c - center) * [1, 1, 0]
            return center + (RADIUS - TIP) * way / np.linalg.norm(way, axis=1)[:, None]

        turns = random.uniform(0, 2 * np.pi, m) if m > 4 else np.linspace(0, 2 * np.pi, m, endpoint=False)
        raw = {"kind": "circle", "nominal": nominal, "plane": datums[0], "asked": [{"key": "x", **asked}]}
        centers = center + (RADIUS - TIP) * rim(turns)
        row = add(raw, centers, -0.04 * (RADIUS - TIP) * rim(turns), [*at, 60] + RADIUS * rim(RIM), into)
    sheet = Sheet(tuple(bench.rows), system)
    results, memory = evaluate(sheet, bench.readings, KIT)
    return Drawn(Standing(sheet, bench.readings, KIT, results, memory), row, spots.get, where, noise, bench)


def draw_plan(random, features=6):
    """A planned sheet: the block's datums and so many seats and bores with limits. The sheet, by row all places where it may be
    touched, and those by which it is touched at least."""
    bench, places = Bench(), {}

    def add(raw, centers, outward):
        row = bench.add(raw)
        places[row] = ExpectedTouches(centers, np.broadcast_to(outward, centers.shape))
        return row

    datums = [
        add({"kind": "plane", "datum": letter, "nominal": {"shape": "plane", "point": point, "normal": list(normal)}},
            on(grid(a, b, 9, 7), TIP), normal)
        for letter, point, normal, on, (a, b) in DATUMS
    ]  # fmt: skip
    system = bench.add({"kind": "datum_planes", **dict(zip(("primary", "secondary", "tertiary"), datums, strict=True))})
    for _ in range(features):
        limit, at = random.choice([0.02, 0.03, 0.05, 0.08]), np.array([random.uniform(-220, 220), random.uniform(-110, 110)])
        asked = {"lower": -limit, "upper": limit}
        if random.random() < 0.5:
            nominal = {"shape": "plane", "point": [*at, 60], "normal": [0, 0, 1]}
            raw = {"kind": "plane", "nominal": nominal, "asked": [{"key": "height", **asked}]}
            add(raw, on_top(at + grid(15, 15, 9, 7), TIP), UP)
        else:
            nominal = {"shape": "circle", "center": [*at, 60], "normal": [0, 0, 1], "radius": RADIUS}
            key = random.choice(["x", "y", "diameter"])
            raw = {"kind": "circle", "nominal": nominal, "plane": datums[0], "asked": [{"key": key, **asked}]}
            add(raw, [*at, 60] + (RADIUS - TIP) * rim(RIM), -rim(RIM))
    sheet = Sheet(tuple(bench.rows), system)
    return sheet, places, {row: at_least(sheet, row, each) for row, each in places.items()}


def at_least(sheet, row, places):
    """As good practice has it at least (BS 7172:1989, from memory)."""
    recipe = sheet.rows[sheet.index[row]].recipe
    chosen = places_in_order(recipe.should_be, places.centers, recipe.practice_hits)
    return places.some(np.argmin(np.linalg.norm(places.centers[None] - chosen[:, None], axis=2), axis=1))
