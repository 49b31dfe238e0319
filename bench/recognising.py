"""Recognition hit by hit, up to 200 hits, as a share of its 5 ms budget."""

from __future__ import annotations

import time

import fits
import numpy as np
from measure import spread

from zipplumb.core.fitting import Recogniser

BUDGET_S = 0.005
COUNT = 200


def run() -> None:
    print("Recognition, growing hit by hit to 200 hits; budget 5 ms a hit")
    for dimension, kinds in (
        ("3d", ("plane", "sphere", "cylinder", "cone", "torus")),
        ("2d", ("circle", "ellipse", "round_slot")),
    ):
        for kind in kinds:
            points = fits.CASES[kind][0](np.random.default_rng(2), COUNT)
            seconds, growing = [], Recogniser(dimension)
            for point in points:
                begin = time.perf_counter()
                found = growing.add(point)
                seconds.append(time.perf_counter() - begin)
            over = sum(s > BUDGET_S for s in seconds)
            print(
                f"  {dimension} {kind:12} {found.best.kind:12} {spread(seconds)}; {over} of {COUNT} over the budget", flush=True
            )
