"""What would settle one row, and what stands in the way of many, in a sheet of 1,000 mixed rows; a plan that proves of 200."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from measure import best, row
from sheet import DATUMS, KIT, TIP, Builder, sheet

from zipplumb.core.frames import Array
from zipplumb.core.probing.next_place import places_in_order
from zipplumb.core.sheet import Sheet, evaluate
from zipplumb.core.sheet.base import Asked
from zipplumb.core.sheet.proving.causes import causes
from zipplumb.core.sheet.proving.planning import ProvingPlan, plan_that_proves
from zipplumb.core.sheet.proving.rehearsal import ExpectedTouches, RehearsedInstrument, rehearse
from zipplumb.core.sheet.proving.standing import Standing
from zipplumb.core.sheet.proving.way import Work
from zipplumb.core.sheet.proving.ways import settling


def run() -> None:
    asked, readings = sheet()
    near = tuple(_nearly(asked, readings))
    asked = replace(asked, rows=near)
    results, memory = evaluate(asked, readings, KIT)
    at = Standing(asked, readings, KIT, results, memory)
    open_ = [i for i, found in results.items() if found.verdict is not None and found.verdict.word == "not proven"]
    print(f"{len(asked.rows)} rows, of which {len(open_)} are not proven")
    whole = best(lambda: evaluate(asked, readings, KIT), 2)
    some = open_[:: max(1, len(open_) // 12)]

    def ways() -> None:
        for each in some:
            settling(at, each, lambda touched: None, Work())

    row("the ways that would settle one row", best(ways, 3) / len(some), whole, "working everything out")
    row(
        "what stands in the way of all",
        best(lambda: causes(at, lambda touched: None, Work()), 3),
        whole,
        "working everything out",
    )
    planned, places = _planned()
    least = {i: _least(planned, i, each) for i, each in places.items()}
    instrument, stand = RehearsedInstrument(0.012, None, TIP), np.zeros(3)

    def plan() -> ProvingPlan:
        return plan_that_proves(lambda touched: rehearse(planned, touched, stand, instrument), places, least, stand, 0.5)

    found = plan()
    print(
        f"{found.proven} of {len(found.proofs)} rows proven with {found.hits} hits, {sum(map(_hits, least.values()))} at least"
    )
    once = best(lambda: rehearse(planned, least, stand, instrument), 2)
    row(f"a plan that proves, of {len(places)} rows", best(plan, 1), once, "foretelling one plan")


def _hits(touches: ExpectedTouches) -> int:
    return len(touches.centers)


def _nearly(asked: Sheet, readings) -> list:
    """The rows, each with a limit so near to what was found that it is not proven."""
    results, _ = evaluate(asked, readings, KIT)
    for each in asked.rows:
        first = results[each.id].first
        if first is None or first.deviation is None or first.held or not first.U or not np.isfinite(first.U):
            yield each
            continue
        limits = (Asked(key=first.key, lower=first.deviation - 0.7 * first.U, upper=first.deviation + 50 * first.U),)
        yield replace(each, recipe=each.recipe.model_copy(update={"asked": limits}))


def _planned() -> tuple[Sheet, dict[int, ExpectedTouches]]:
    """Three datums and 200 bores on a plate, each with a limit of its place."""
    build = Builder()
    top, side, end = planes = [build.plane(p, n) for p, n in DATUMS]
    active = build.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    places = {i: ExpectedTouches(*_touches(build, i)) for i in planes}
    for k in range(200):
        at = [float(-800 + 80 * (k % 20)), float(-500 + 100 * (k // 20)), 0.0]
        nominal = {"shape": "circle", "center": at, "normal": [0, 0, 1], "radius": 10.0}
        raw = {"kind": "circle", "plane": top, "nominal": nominal, "asked": [{"key": "x", "lower": -0.03, "upper": 0.03}]}
        turns = np.linspace(0, 2 * np.pi, 48, endpoint=False)
        rim = np.column_stack([np.cos(turns), np.sin(turns), 0 * turns])
        places[build.add(raw)] = ExpectedTouches(np.array(at) + (10 - TIP) * rim, -rim)
    return Sheet(tuple(build.rows), active), places


def _touches(build: Builder, number: int) -> tuple[Array, Array]:
    plane = build.rows[number - 1].recipe.should_be
    u, v = np.linalg.svd(plane.normal[None])[2][1:]
    grid = np.array([a * u + b * v for a in np.linspace(-80, 80, 9) for b in np.linspace(-20, 20, 5)])
    return plane.point + TIP * plane.normal + grid, np.tile(plane.normal, (len(grid), 1))


def _least(asked: Sheet, number: int, places: ExpectedTouches) -> ExpectedTouches:
    recipe = asked.rows[asked.index[number]].recipe
    chosen = places_in_order(recipe.should_be, places.centers, recipe.practice_hits)
    return places.some(np.argmin(np.linalg.norm(places.centers[None] - chosen[:, None], axis=2), axis=1))
