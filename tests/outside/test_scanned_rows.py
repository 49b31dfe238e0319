"""U of what is scanned holds the truth: neither too small though points are many, nor too large (JCGM 101, see ``stated``).

Drawn are the light's own noise, each point's own along its normal; the arm's error, shared by all points of a line; and the
head's calibration, shared by all that it has seen.
"""

from dataclasses import replace

import numpy as np
import pytest
from scanned_block import LIGHT, RADIUS, SCANNER, WHOLE, Scanned
from stated import RUNS, Stated

from zipplumb.core.cloud.giving import GivenPoints
from zipplumb.core.frames import rotations_from_quaternions
from zipplumb.core.sheet.clouds import FoundCloud

ARM_MM, OF_A_LINE, WALL, FLAT = 0.012, 5, 6000, 3000


@pytest.fixture(scope="module")
def block():
    it = Scanned()
    it.readings[it.scan] = replace(it.readings[it.scan], u_hit_mm=ARM_MM)
    return it


def taken(places, count):
    """So many of some places, evenly, and the line that each is said to be of: neighbours share one."""
    chosen = places[np.linspace(0, len(places) - 1, count).astype(int)]
    return chosen, np.repeat(chosen[::OF_A_LINE], OF_A_LINE)[:count]


@pytest.mark.parametrize("count", [50, 400])
def test_sizes_and_places_of_what_is_scanned(block, count):
    random, stated = np.random.default_rng(11), Stated()
    u_calibration = WHOLE.calibrations[SCANNER].u_offset_mm
    alone = np.sqrt(LIGHT.u_point_mm**2 - ARM_MM**2)
    axes = rotations_from_quaternions(block.readings[block.scan].poses[:, 3:])
    rows = {block.bore: taken(np.arange(WALL), count), block.top: taken(WALL + np.arange(FLAT), count)}
    block.done = {}
    _, memory = block.evaluate()
    block.done = dict.fromkeys(memory.wanted, FoundCloud("done"))  # whose points they are is what is drawn
    for run in range(RUNS):
        seated = u_calibration * random.normal(size=3)
        given = {}
        for row, (which, lines) in rows.items():
            arm = ARM_MM * random.normal(size=(9000, 3))[lines]
            own = alone * random.normal(size=(count, 1)) * block.normals[which]
            given[row] = GivenPoints(block.points[which] + own + arm + axes[lines] @ seated, lines)
        results, memory = block.evaluate(memory, margin_mm=1 + 1e-6 * run)  # another key
        (key,) = memory.wanted
        block.done[key] = FoundCloud("done", key=key, given=given)
        results, memory = block.evaluate(memory, margin_mm=1 + 1e-6 * run)
        size, height = results[block.bore].characteristic("diameter"), results[block.top].characteristic("height")
        stated.saw("diameter", size.actual - 2 * RADIUS, size.U)
        # the datums are touched without error here: of the height only what is of the scan counts
        scanned = [share for source, share in height.budget if source.whose in (block.top, SCANNER)]
        stated.saw("height", height.actual - 60, float(np.linalg.norm(scanned)))
    stated.must_hold()
