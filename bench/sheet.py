"""A change of one hit in a sheet of 1,000 rows, against working the whole sheet out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from measure import best, row

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.frames import Motion
from zipplumb.core.sheet import Kit, Reading, Sheet, SheetRow, Station, evaluate, recipe_from_dict

ROWS, HITS = 1000, 12


def run() -> None:
    random = np.random.default_rng(3)
    kit = Kit({1: Station(1, Motion.identity())}, {1: ProbeCalibration(1, np.zeros(3), 6.0, 0.002, 0.012)})
    rows, readings = [], {}
    for k in range(ROWS):
        nominal = {"shape": "plane", "point": [0, 0, k], "normal": [0, 0, 1]}
        rows.append(SheetRow(k, recipe_from_dict({"kind": "plane", "name": f"Plane {k}", "nominal": nominal}), True))
        place = np.column_stack([random.uniform(0, 100, (HITS, 2)), random.normal(k, 0.01, HITS)])
        poses = np.hstack([place, np.tile([1.0, 0, 0, 0], (HITS, 1))])
        ones = np.ones(HITS, int)
        keys = tuple(f"{k}.{i}" for i in range(HITS))
        readings[k] = Reading(keys, poses, poses + [0, 0, 9, 0, 0, 0, 0], np.zeros(HITS, bool), ones, ones, ones * 1.0)
    sheet = Sheet(tuple(rows))
    _, memory = evaluate(sheet, readings, kit)
    aside = np.arange(HITS) == 3
    changed = readings | {500: replace(readings[500], aside=aside)}
    print(f"evaluate(), {ROWS} rows of {HITS} hits")
    one = best(lambda: evaluate(sheet, changed, kit, memory))
    whole = best(lambda: evaluate(sheet, changed, kit), 3)
    row("one hit set aside", one, whole, "working everything out")
