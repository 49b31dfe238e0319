"""A change of one hit in a sheet of 1,000 mixed rows, of 200 tolerances, and of every kind, against working all out."""

from __future__ import annotations

import sys
import tracemalloc
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from measure import best, row

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.frames import Array, Motion, perpendicular_pair
from zipplumb.core.readings import HitSet
from zipplumb.core.sheet import Kit, PartSurfaces, Sheet, SheetRow, StationPose, evaluate, recipe_from_dict

ROWS, TIP = 1000, 3.0
TURN = np.linspace(0, 2 * np.pi, 12, endpoint=False)
RIM = np.column_stack([np.cos(TURN), np.sin(TURN), 0 * TURN])
UP = np.array([0.0, 0, 1])
DATUMS = (([0, 0, 0], [0, 0, 1]), ([0, -900, -30], [0, -1, 0]), ([-900, 0, -30], [-1, 0, 0]))


class Builder:
    """Rows with the readings that an exact part of some holes, balls and faces would give, and a little noise."""

    def __init__(self):
        self.random = np.random.default_rng(3)
        self.rows: list[SheetRow] = []
        self.readings: dict[int, HitSet] = {}

    def add(self, raw: dict, centers: Array | None = None, way: Array | None = None) -> int:
        number = len(self.rows) + 1
        self.rows.append(SheetRow(number, recipe_from_dict({"name": f"Row {number}", **raw}), True))
        if centers is not None and way is not None:
            n = len(centers)
            upright = np.tile([1.0, 0, 0, 0], (n, 1))
            noisy = centers + self.random.normal(0, 0.005, (n, 3))
            keys, ones = tuple(f"{number}.{k}" for k in range(n)), np.ones(n, int)
            poses, past = np.hstack([noisy, upright]), np.hstack([centers + 20 * np.atleast_2d(way), upright])
            self.readings[number] = HitSet(keys, poses, past, np.zeros(n, bool), ones, ones, ones * 1.0, u_hit_mm=0.012)
        return number

    def plane(self, point, normal) -> int:
        at, up = np.array(point, float), np.array(normal, float)
        u, v = perpendicular_pair(up)
        spots = at + TIP * up + 40 * np.outer(RIM[:, 0], u) + 30 * np.outer(RIM[:, 1], v)
        nominal = {"shape": "plane", "point": at.tolist(), "normal": up.tolist()}
        return self.add({"kind": "plane", "nominal": nominal, "asked": [{"key": "height", "upper": 0.1}]}, spots, up)

    def circle(self, center, plane: int) -> int:
        nominal = {"shape": "circle", "center": list(center), "normal": [0, 0, 1], "radius": 10.0}
        hits = np.array(center) + (10 - TIP) * RIM
        return self.add({"kind": "circle", "plane": plane, "nominal": nominal}, hits, -0.3 * RIM)

    def ball(self, center) -> int:
        out = np.vstack([RIM[::2], 0.6 * RIM[1::2] + 0.8 * UP])
        nominal = {"shape": "sphere", "center": list(center), "radius": 12.0}
        return self.add({"kind": "sphere", "inside": False, "nominal": nominal}, np.array(center) + (12 + TIP) * out, out)


def sheet() -> tuple[Sheet, dict[int, HitSet]]:
    """1,000 rows: faces, holes in the top, balls, an alignment, made planes and distances."""
    made = Builder()
    top, side, end = (made.plane(p, n) for p, n in DATUMS)
    alignment = made.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    places = made.random.uniform(-800, 800, (ROWS, 2))
    while len(made.rows) < ROWS:
        k = len(made.rows)
        x, y = places[k].tolist()
        if k % 10 == 9:
            made.add({"kind": "dimension", "of": [k - 1, k], "measure": "distance_of_the_middles"})
        elif k % 10 == 8:
            made.add({"kind": "construction", "of": [k], "make": "center"})
        elif k % 10 in (5, 6, 7):
            made.ball([x, y, 40.0])
        elif k % 10 in (3, 4):
            made.plane([x, y, 60.0], UP)
        else:
            made.circle([x, y, 0.0], top)
    return Sheet(tuple(made.rows), alignment), made.readings


def toleranced(holes: int = 200) -> tuple[Sheet, dict[int, HitSet]]:
    """As many holes, each with its position in one datum system."""
    made = Builder()
    planes = [made.plane(p, n) for p, n in DATUMS]
    alignment = made.add(dict(zip(("kind", "primary", "secondary", "tertiary"), ("datum_planes", *planes), strict=True)))
    datums = [{"features": [plane]} for plane in planes]
    for x, y in made.random.uniform(-800, 800, (holes, 2)).tolist():
        hole = made.circle([x, y, 0.0], planes[0])
        made.add({"kind": "position", "of": [hole], "zone_mm": 0.2, "datums": datums})
    return Sheet(tuple(made.rows), alignment), made.readings


KIT = Kit({1: StationPose(1, Motion.identity())}, {1: ProbeCalibration(1, np.zeros(3), 2 * TIP, 0.002)})


def of_every_kind() -> tuple[Sheet, dict[int, HitSet], Kit, PartSurfaces]:
    """300 rows and a few, of all kinds, as the tests have them."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests" / "core"))
    import block
    import every_kind

    bench = block.Bench(noise_mm=0.005)
    active = every_kind.rows_of_every_kind(bench)["datum_planes"]
    while len(bench.rows) < 300:
        every_kind.rows_of_every_kind(bench)
    return Sheet(tuple(bench.rows), active), bench.readings, block.KIT, every_kind.SURFACES


def run() -> None:
    asked, readings, kit, surfaces = of_every_kind()
    whole = best(lambda: evaluate(asked, readings, kit, None, surfaces), 3)
    print(f"evaluate(), {len(asked.rows)} rows of every kind, from nothing: {whole:.2f} s")
    changes(*sheet(), "sphere", f"{ROWS} rows of mixed kinds")
    judgements()
    changes(*toleranced(), "circle", "200 holes with 200 tolerances")


def changes(asked: Sheet, readings: dict[int, HitSet], kind: str, words: str) -> None:
    """A hit of a row of some kind, and one of the primary datum, against working everything out."""
    results, memory = evaluate(asked, readings, KIT)
    states = {state: sum(r.state == state for r in results.values()) for state in ("done", "failed", "waits")}
    print(f"evaluate(), {words} with readings: {states}")

    def aside(number: int) -> dict[int, HitSet]:
        reading = readings[number]
        return readings | {number: replace(reading, aside=np.arange(len(reading)) == 3)}

    some = [r.id for r in asked.rows if r.recipe.kind == kind]  # type: ignore[attr-defined]
    changed, datum = aside(some[len(some) // 2]), aside(1)
    whole = best(lambda: evaluate(asked, changed, KIT), 3)
    row("one hit set aside", best(lambda: evaluate(asked, changed, KIT, memory)), whole, "working everything out")
    row("a hit of the primary datum", best(lambda: evaluate(asked, datum, KIT, memory), 3), whole, "working everything out")

    def every_u() -> None:
        """How sure a number without limits is, is worked out when it is asked: here all are."""
        for result in evaluate(asked, datum, KIT, memory)[0].values():
            for characteristic in result.characteristics:
                _ = characteristic.U

    row("the same, and every U read", best(every_u, 3), whole, "working everything out")


def judgements() -> None:
    """Each judged number of a part by itself, of few and of many hits; the slowest, and the most memory."""
    sys.path[:0] = [str(Path(__file__).parent.parent / "tests" / name) for name in ("core", "outside")]
    from test_drawn_part import DrawnPart

    for hits in (36, 4000):
        part = DrawnPart(hits, 0.02)
        _, memory = evaluate(part.sheet, part.readings, KIT)
        found = []
        for name, number in part.judged.items():
            alone = _without(part.sheet, number)
            _, others = evaluate(alone, part.readings, KIT, memory)
            seconds = best(partial(_judged, part, others, number), 3)
            tracemalloc.start()
            _judged(part, others, number)
            found.append((seconds, name, tracemalloc.get_traced_memory()[1] / 2**20))
            tracemalloc.stop()
        slowest, large = max(found), max(found, key=lambda one: one[2])
        print(f"One judgement of {hits} hits, the most of {len(found)}: ", end="")
        print(f"{slowest[1]} {slowest[0] * 1e3:.1f} ms, {large[1]} {large[2]:.1f} MB")


def _without(sheet: Sheet, number: int) -> Sheet:
    return replace(sheet, rows=tuple(row for row in sheet.rows if row.id != number))


def _judged(part, memory, number: int) -> None:
    results, _ = evaluate(part.sheet, part.readings, KIT, memory)
    for characteristic in results[number].characteristics:
        _ = characteristic.U
