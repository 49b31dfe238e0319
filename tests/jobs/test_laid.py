"""A scan laid on the CAD as an act: from an alignment, from three pairs, from a place; what makes no sense is refused."""

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN
from scan_bench import ScannedBench, lit, numbers
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import InputError, PlumbError
from zipplumb.core.frames import Motion
from zipplumb.jobs.align import laid
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import clouds
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot

PLACES = np.array([[0, 0, 0], [200, 0, 0], [0, 100, 40.0]])


@pytest.fixture(scope="module")
def scanned(stack):
    """A scan of the carrier's top. Returns the bench and the scan."""
    bench = ScannedBench.aligned(stack)
    scan = bench.scan()
    bench.work()
    return bench, scan


def test_it_is_laid_from_an_alignment_and_in_use_and_the_scan_can_be_given_in_it(scanned):
    bench, scan = scanned
    touched = bench.state().job.alignment_row_id
    assert laid.starts_of(bench.state()) == [(touched, "By touch")]
    row = laid.plan(TECHNICIAN, bench.job, bench.state(), [scan], touched)
    state = bench.state()
    assert (state.job.alignment_row_id, state.results[row].state) == (row, "done"), state.results[row].message
    assert state.row(row).recipe.name == "Laid scan 1"
    ledger = state.alignment.ledger
    assert (ledger.rank, len(ledger.loose)) == (3, 3)  # a top alone holds no more, and that is told
    top = bench.top()
    assert clouds.give(TECHNICIAN, bench.job, scan, []) >= 1  # the alignment rests on the scan, and not on what it gives
    assert bench.work().results[top].state == "done"


def test_that_other_places_are_as_good_is_told_of_the_alignment(scanned):
    bench, scan = scanned
    row = laid.plan(TECHNICIAN, bench.job, bench.state(), [scan], Motion.identity(), as_good=2)
    assert "2 other places fit it as well" in bench.state().results[row].system.alignment.doubt


def test_three_pairs_make_a_place_unless_they_lie_on_one_line():
    lies = Motion(Rotation.from_rotvec([0.1, 2.0, -1.0]).as_matrix(), np.array([500.0, -90, 30]))
    motion, off = laid.Pairs(PLACES, lies.points(PLACES)).motion()
    assert off < 1e-9
    np.testing.assert_allclose((motion @ lies).points(PLACES), PLACES, atol=1e-9)
    assert laid.motion_of(laid.numbers_of(motion)).points(PLACES) == pytest.approx(motion.points(PLACES), abs=1e-9)
    line = np.outer([0, 1, 2.0], [30, 40, 0])
    with pytest.raises(InputError, match="on one line"):
        laid.Pairs(line, lies.points(PLACES)).motion()
    nothing = np.empty((0, 3))
    wanted = [laid.Pairs(*each).wants for each in ((nothing, nothing), (PLACES, nothing), (PLACES, PLACES))]
    assert wanted == ["part", "scan", ""]


def test_what_makes_no_sense_is_refused(scanned):
    bench, scan = scanned
    state = bench.state()
    calls = [
        lambda: laid.plan(TECHNICIAN, bench.job, state, [], Motion.identity()),
        lambda: laid.plan(TECHNICIAN, bench.job, state, [999_999], Motion.identity()),
        lambda: laid.plan(REVIEWER, bench.job, state, [scan], Motion.identity()),
        lambda: laid.plan(TECHNICIAN, bench.job, state, [scan], 999_999),
        lambda: laid.found_places(state, []),
    ]
    for call in calls:
        with pytest.raises(PlumbError):
            call()
    with pytest.raises(PlumbError, match="one plane"), snapshot() as session:
        laid.found_places(load(session, bench.job), [scan])
    assert len(bench.state().rows) == len(state.rows)
    presses.keep(bench.arm, lit(-10.0), next(numbers))  # it goes on, and is not finished
    with pytest.raises(InputError, match="no points yet"):
        laid.found_places(bench.state(), [scan])
