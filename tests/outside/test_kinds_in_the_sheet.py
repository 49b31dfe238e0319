"""Arcs and ellipses as a person measures them, the whole way through the sheet, against descents of another library.

Source: orthogonal distance regression, solved by scipy.optimize.least_squares from the same hits; the distance to an
ellipse is found by scipy.optimize.minimize_scalar, as the tip's center lies one radius off its nearest place.
"""

import numpy as np
import pytest
from block import KIT, Bench, block
from scipy.optimize import least_squares, minimize_scalar

from zipplumb.core.sheet import Sheet, evaluate

TIP = 3.0


def measured(bench, number):
    """The row's shape in the part, with noise on its hits; and the centers of its hits, in the part."""
    results, _ = evaluate(Sheet(tuple(bench.rows), bench.alignment), bench.readings, KIT)
    found = results[number]
    assert found.state == "done", found.message
    part_from_world = results[bench.alignment].alignment.part_from_world
    return found, part_from_world.points(found.feature.centers)


@pytest.fixture
def bench():
    bench = Bench(u_hit_mm=0.02, noise_mm=0.02)
    top, side, end = block(bench)
    bench.top = top
    bench.alignment = bench.add({"kind": "datum_planes", "primary": top, "secondary": side, "tertiary": end})
    return bench


def test_an_ellipse(bench):
    row = bench.ellipse([150, 20, 60], 25, 15, bench.top)
    found, centers = measured(bench, row)

    def off(p):
        turn = np.array([[np.cos(p[4]), np.sin(p[4])], [-np.sin(p[4]), np.cos(p[4])]])
        inside = (centers[:, :2] - p[:2]) @ turn.T

        def nearest(point):
            def far(angle):
                return np.hypot(p[2] * np.cos(angle) - point[0], p[3] * np.sin(angle) - point[1])

            guess = np.arctan2(point[1] / p[3], point[0] / p[2])
            return minimize_scalar(far, bounds=(guess - 0.5, guess + 0.5), method="bounded", options={"xatol": 1e-12}).fun

        return np.array([nearest(point) for point in inside]) - TIP

    best = least_squares(off, [150, 20, 25, 15, 0.0], xtol=1e-14, ftol=1e-14, gtol=1e-14).x
    told = {c.key: c.actual for c in found.characteristics}
    assert [told["x"], told["y"]] == pytest.approx(best[:2], abs=2e-5)
    assert [told["major_diameter"], told["minor_diameter"]] == pytest.approx(2 * best[2:4], abs=4e-5)


def test_an_arc(bench):
    row = bench.arc([0, 60, 60], 40, np.radians(50), bench.top)
    found, centers = measured(bench, row)
    best = least_squares(lambda p: np.hypot(*(centers[:, :2] - p[:2]).T) - p[2], [0, 60, 37], xtol=1e-14).x
    told = {c.key: c for c in found.characteristics}
    assert [told["x"].actual, told["y"].actual] == pytest.approx(best[:2], abs=1e-5)
    assert told["diameter"].actual == pytest.approx(2 * (best[2] + TIP), abs=2e-5)
    assert abs(told["diameter"].actual - 80) < told["diameter"].U  # what a short arc says of its radius is little, and said
