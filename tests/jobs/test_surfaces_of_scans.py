"""A click on a scan says which surface is there; made a row, it takes the scan's points as far as the surface goes."""

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN
from scan_bench import ScannedBench, lit, numbers

from zipplumb.core.errors import InputError, PlumbError
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import clouds, surfaces

ON_TOP, ON_STEP = np.array([-220.0, -90.0, 60.0]), np.array([-120.0, -90.0, 40.0])


@pytest.fixture(scope="module")
def stepped(stack):
    """A scan of the top, and of a step 20 mm lower beside it. Returns the bench and the scan."""
    bench = ScannedBench.aligned(stack)
    for k in range(60):
        presses.keep(bench.arm, lit(-100 + 0.6 * k, x=(-140.0, -100.0), z=40.0), next(numbers))
    scan = bench.scan()
    bench.work()
    return bench, scan


def test_what_was_pointed_at_is_a_row_with_the_points_that_lie_there(stepped):
    bench, scan = stepped
    found = surfaces.find(bench.state(), scan, ON_STEP)
    assert [each.kind for each in found.each] == ["plane"]
    assert surfaces.words_of(found, found.each[0], "in").startswith("Plane, ±0.000")
    (row,) = surfaces.plan(TECHNICIAN, bench.job, scan, ON_STEP, "plane", found.seen, "Step")
    state = bench.state()
    assert (state.row(row).recipe.name, state.results[row].state) == ("Step 1", "done")
    assert 0.8 * len(found.each[0].members) < state.results[row].feature.scanned <= len(found.each[0].members)
    assert state.results[row].feature_part.shape.point[2] == pytest.approx(40.0, abs=0.01)
    assert state.results[row].feature_part.shape.normal[2] == pytest.approx(1.0, abs=1e-5)  # to the scanner
    assert clouds.points_of(state, scan, state.row(row)) == state.results[row].feature.scanned
    assert not bench.asked()  # the scan itself was not worked out anew


def test_what_makes_no_sense_is_refused_and_nothing_is_planned(stepped):
    bench, scan = stepped
    found = surfaces.find(bench.state(), scan, ON_TOP)
    before = len(bench.state().rows)
    for kind, seen in (("cylinder", found.seen), ("plane", "another"), ("nonsense", found.seen)):
        with pytest.raises(InputError, match="changed meanwhile"):
            surfaces.plan(TECHNICIAN, bench.job, scan, ON_TOP, kind, seen, "")
    with pytest.raises(InputError, match="Nothing was scanned there"):
        surfaces.find(bench.state(), scan, ON_TOP + [0, 0, 300])
    with pytest.raises(PlumbError):
        surfaces.plan(REVIEWER, bench.job, scan, ON_TOP, "plane", found.seen, "")
    with pytest.raises(InputError, match="70 letters"):
        surfaces.plan(TECHNICIAN, bench.job, scan, ON_TOP, "plane", found.seen, "x" * 71)
    assert len(bench.state().rows) == before
    clouds.only_edges(TECHNICIAN, bench.job, scan, True)
    with pytest.raises(InputError, match="no points yet"):
        surfaces.find(bench.state(), scan, ON_TOP)  # it is being worked out
