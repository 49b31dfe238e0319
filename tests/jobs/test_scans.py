"""Scans in a job: light is kept once, worked out by workers, cut, given to rows, taken back; what makes no sense is refused."""

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN, batch
from scan_bench import DOWN, HIGH, ScannedBench, lit, numbers

from zipplumb.core.errors import InputError, PlumbError
from zipplumb.core.stripes import packed
from zipplumb.devices.hits import HitBatch
from zipplumb.jobs.align import systems
from zipplumb.jobs.kit import instruments, probes
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import cloud_work, clouds, measuring, onward, openings
from zipplumb.jobs.measure.clouds import ByCad, ByPlane, ByRectangle
from zipplumb.jobs.measure.lacking import lacking_of
from zipplumb.jobs.measure.prompts import prompt
from zipplumb.jobs.plan import sheet, standing
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.models import Instrument, Job, Reading
from zipplumb.store.scans import Cloud


def looked_at(job, scan):
    with snapshot() as session:
        return clouds.live_of(session, load(session, job), scan, 0)


@pytest.fixture
def scanned(stack):
    return ScannedBench.aligned(stack)


def test_light_is_kept_once_worked_out_by_a_worker_and_taken_by_rows(scanned):
    again = lit(-90.0)
    presses.keep(scanned.arm, again, next(numbers))
    presses.keep(scanned.arm, again, next(numbers))  # the same samples, sent twice
    scan = scanned.scan()
    state = scanned.state()
    assert (state.results[scan].state, state.results[scan].cloud.lines) == ("waits", 61)
    assert len(scanned.asked()) == 1  # however often it was loaded
    state = scanned.work()
    found = state.results[scan].cloud
    assert (state.results[scan].state, found.read, found.kept) == ("done", 61 * 400, 61 * 400)
    with transaction() as session:
        assert clouds.drawn_of(session, state, scan).shape == (found.cells, 5)
    top = scanned.top()
    assert clouds.may_take(scanned.state()) == [top]
    assert clouds.give(TECHNICIAN, scanned.job, scan, []) == 1
    assert scanned.state().results[top].state == "waits"
    state = scanned.work()
    assert state.results[top].state == "done", state.results[top].message
    assert state.results[top].characteristic("height").actual == pytest.approx(60.0, abs=0.01)
    side, end = (next(r.id for r in state.rows if r.recipe.name == name) for name in ("Side", "Left"))
    by_scan = scanned.plan(kind="datum_planes", name="By the scan", primary=top, secondary=side, tertiary=end)
    systems.activate(TECHNICIAN, scanned.job, by_scan)
    assert scanned.state().alignment is not None
    with pytest.raises(InputError, match="rests on points of this scan itself, by Plane 1"):
        clouds.give(TECHNICIAN, scanned.job, scan, [])
    assert scanned.work().results[top].state == "done"  # as it was given, by the other alignment
    with pytest.raises(InputError):
        standing.remove(TECHNICIAN, scanned.job, [scan])
    clouds.take_back(TECHNICIAN, scanned.job, scan)
    assert scanned.work().results[top].state == "todo"


def test_what_is_cut_away_is_seen_before_and_taken_back(scanned):
    for k in range(20):
        presses.keep(scanned.arm, lit(-100.0 + k, z=20.0), next(numbers))
    scan = scanned.scan(20)
    state = scanned.work()
    top = next(row.id for row in state.rows if row.recipe.name == "Top")
    with transaction() as session:  # of cells of 1 mm: 20 and 12 rows of them
        assert clouds.would_cut(session, state, scan, ByPlane(top, -10.0)) == pytest.approx(20 / 32, abs=0.03)
        assert clouds.would_cut(session, state, scan, ByPlane(top, -10.0, above=True)) == pytest.approx(12 / 32, abs=0.03)
    clouds.cut_away(TECHNICIAN, scanned.job, scan, ByPlane(top, -10.0))
    state = scanned.work()
    found = state.results[scan].cloud
    assert (found.read, found.kept) == (40 * 400, 20 * 400)
    assert state.row(scan).recipe.cuts[0].name == "under Top, 10.000 mm in"
    clouds.cut_away(TECHNICIAN, scanned.job, scan, ByPlane(top, 10.0))
    assert "Nothing is left of this scan" in scanned.work().results[scan].message
    clouds.uncut(TECHNICIAN, scanned.job, scan, 1)
    assert scanned.state().results[scan].cloud.kept == 20 * 400  # it is kept, and not worked out again
    assert not scanned.asked()


def test_by_a_rectangle_on_the_stage_and_by_how_far_it_lies_off_the_cad(scanned):
    scan = scanned.scan(40)
    scanned.work()
    kept = scanned.state().results[scan].cloud.kept
    points = [[-220, 0, 0], [-240, 0, 0], [0, 0, 0], [0, -90, 0]]
    box = np.stack([points, [[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0]]], axis=1).astype(float)

    def share(typed):
        with snapshot() as session:
            return clouds.would_cut(session, load(session, scanned.job), scan, typed)

    goes, stays = ByRectangle(box, False), ByRectangle(box, True)
    away = share(stays)
    assert share(goes) + away == pytest.approx(1.0)
    clouds.cut_away(TECHNICIAN, scanned.job, scan, stays)
    state = scanned.work()
    left = state.results[scan].cloud
    assert left.kept == pytest.approx((1 - away) * kept, rel=0.1)
    assert state.row(scan).recipe.cuts[0].name == "outside a rectangle"
    seen = left.points.points
    assert seen[:, 0].max() < -219 and seen[:, 0].min() > -241 and seen[:, 1].min() > -91
    for k in range(10):  # over the part, and nothing of it
        presses.keep(scanned.arm, lit(-80.0 + k, z=70.0), next(numbers))
    presses.finish(scanned.arm, batch("pull_off"), next(numbers))
    more = scanned.work().results[scan].cloud
    assert share(ByCad(3.0)) > 0.1
    clouds.cut_away(TECHNICIAN, scanned.job, scan, ByCad(3.0))
    state = scanned.work()
    near = state.results[scan].cloud
    assert near.kept < more.kept and np.abs(near.points.points[:, 2] - 60).max() < 3.0
    assert state.row(scan).recipe.cuts[1].name == "farther than 3.000 mm off the CAD, by By touch"
    nonsense = ByRectangle(0 * box, False), ByRectangle(np.full((4, 2, 3), np.nan), True), ByCad(0.0), ByCad(1e9), ByCad(-1.0)
    for typed in nonsense:
        with pytest.raises(InputError, match="Nothing was cut away"):
            clouds.cut_away(TECHNICIAN, scanned.job, scan, typed)
    with transaction() as session:
        session.get(Job, scanned.job).alignment_row_id = None
    with pytest.raises(InputError, match="not aligned"):
        clouds.cut_away(TECHNICIAN, scanned.job, scan, ByCad(3.0))
    for _ in range(2):
        clouds.uncut(TECHNICIAN, scanned.job, scan, 0)
    assert scanned.work().results[scan].cloud.kept == more.read


def test_of_what_was_worked_out_of_a_scan_only_the_newest_few_are_kept(scanned):
    scan, top = scanned.scan(6), scanned.top()
    clouds.give(TECHNICIAN, scanned.job, scan, [])
    for k in range(cloud_work.KEPT + 3):
        clouds.cut_away(TECHNICIAN, scanned.job, scan, ByPlane(scanned.state().measured[0].id, -20.0 - k))
        scanned.work()
        state = scanned.work()
    assert state.results[top].state == "done"
    with transaction() as session:
        kept = [(each.what, each.id) for each in session.query(Cloud).filter(Cloud.row_id == scan)]
    assert {sum(what == each for each, _ in kept) for what in ("points", "rows")} == {cloud_work.KEPT}
    for _ in range(cloud_work.KEPT + 3):  # also what is kept no more comes again
        clouds.uncut(TECHNICIAN, scanned.job, scan, 0)
    scanned.work()
    state = scanned.work()
    assert state.results[scan].cloud.state == "done" == state.results[top].state


def test_a_worker_that_dies_leaves_what_another_takes_up_and_what_nobody_waits_for_goes(scanned):
    scan = scanned.scan(12)
    (first,) = scanned.asked()
    cloud_work.left(first)  # it ended its worker each time
    assert "ended the worker" in scanned.state().results[scan].message
    measuring.make_current(TECHNICIAN, scanned.job, scan)
    presses.keep(scanned.arm, lit(50.0), next(numbers))
    presses.finish(scanned.arm, batch("pull_off"), next(numbers))
    (second,) = scanned.asked()
    presses.keep(scanned.arm, lit(51.0), next(numbers))  # changed meanwhile: it is open again
    cloud_work.work_out(second)
    with transaction() as session:
        assert session.get(Cloud, second) is None
    presses.finish(scanned.arm, batch("pull_off"), next(numbers))
    state = scanned.work()
    assert state.results[scan].cloud.lines == 14
    with transaction() as session:
        ready = session.query(Cloud).filter(Cloud.row_id == scan, Cloud.state == "ready").one()
        done, made = ready.id, ready.given
    cloud_work.work_out(done)  # a second worker with the same task
    with transaction() as session:
        assert session.get(Cloud, done).given == made


def test_what_is_new_is_drawn_while_it_is_scanned(scanned):
    for k in range(4):
        presses.keep(scanned.arm, lit(-100.0 + k), next(numbers))
    state = scanned.state()
    scan = next(row.id for row in state.rows if row.recipe.kind == "scan")
    with transaction() as session:
        first, last = clouds.live_of(session, state, scan, 0)
        assert clouds.live_of(session, state, scan, last)[0].shape == (0, 5)
    assert first.shape == (4 * 400 / clouds.LIVE_EVERY, 5)
    np.testing.assert_allclose(first[:, 2], 60.0, atol=0.01)  # in the part: it is aligned
    presses.keep(scanned.arm, lit(-90.0), next(numbers))
    with transaction() as session:
        assert clouds.live_of(session, state, scan, last)[0][:, 1] == pytest.approx(-90.0, abs=0.01)
    measuring.undo(TECHNICIAN, scanned.job, True)
    with transaction() as session:
        assert clouds.live_of(session, state, scan, 0)[0].shape == (0, 5)


def test_undo_takes_the_last_pass_back_and_the_scan_is_open(scanned):
    scan = scanned.scan(10)
    measuring.undo(TECHNICIAN, scanned.job, True)  # the finish
    with pytest.raises(InputError, match="takes all light"):
        measuring.next_way(TECHNICIAN, scanned.job)
    measuring.undo(TECHNICIAN, scanned.job, True)  # all of one press
    state = scanned.state()
    assert state.results[scan].state == "todo"
    with transaction() as session:
        kept = session.query(Reading).filter(Reading.row_id == scan, Reading.kind == "stripes").count()
    assert kept == 10  # nothing is deleted


def test_a_ball_touches_no_scan_and_light_needs_the_scanner(scanned):
    scan = scanned.scan(10)
    measuring.make_current(TECHNICIAN, scanned.job, scan)
    with transaction() as session:
        session.get(Instrument, scanned.arm).calibration_id = scanned.ball
    with pytest.raises(InputError, match="is scanned, and ball"):
        presses.keep(scanned.arm, batch(center=[0, 0, 63]), next(numbers))
    with pytest.raises(InputError, match="Lines of light came"):
        presses.keep(scanned.arm, lit(0.0), next(numbers))
    with transaction() as session:
        assert session.query(Reading).filter(Reading.row_id == scan, Reading.kind != "pull_off").count() == 10
        assert probes.PROBE_KINDS["scanner"].touches is False


def test_what_makes_no_sense_is_refused(scanned):
    scan, top = scanned.scan(10), scanned.top()
    scanned.work()
    with transaction() as session:
        part = session.get(Job, scanned.job).part_id
    other = sheet.create_job(TECHNICIAN, "Other", part)
    calls = [
        lambda: clouds.give(TECHNICIAN, other, scan, []),
        lambda: clouds.give(TECHNICIAN, scanned.job, top, []),
        lambda: clouds.give(TECHNICIAN, scanned.job, scan, [999_999]),
        lambda: clouds.give(REVIEWER, scanned.job, scan, []),
        lambda: clouds.cut_away(TECHNICIAN, scanned.job, scan, ByPlane(scan, 0.0)),
        lambda: clouds.cut_away(TECHNICIAN, scanned.job, scan, ByPlane(999_999, 0.0)),
        lambda: clouds.cut_away(TECHNICIAN, other, scan, ByPlane(top, 0.0)),
        lambda: clouds.uncut(TECHNICIAN, scanned.job, scan, 0),
        lambda: clouds.take_back(TECHNICIAN, other, scan),
        lambda: looked_at(other, scan),
    ]
    before = scanned.state().row(scan).recipe
    for call in calls:
        with pytest.raises(PlumbError):
            call()
    assert scanned.state().row(scan).recipe == before
    with transaction() as session:
        session.get(Job, scanned.job).alignment_row_id = None
    with pytest.raises(InputError, match="not aligned"):
        clouds.give(TECHNICIAN, scanned.job, scan, [])


HOLE = (-180.0, -60.0, 10.0)  # where its middle is, and its radius


def over_a_hole(bench, lines=80):
    """Lines over the top, 0.6 mm apart, which end where the hole is. Returns the scan."""
    x, y, radius = HOLE
    for k in range(lines):
        at = y - 24 + 0.6 * k
        across = np.linspace(-26, 26, 521)
        line = np.column_stack([across, np.full(521, HIGH), np.ones(521)]).astype(np.float32)
        line[np.hypot(across, at - y) < radius] = np.nan
        data, counts = packed([line])
        n = next(numbers)
        pose = (x, at, 60 + HIGH, *DOWN)
        light = HitBatch("stripes", "light", 1, (n,), (float(n),), pose, (float("nan"),) * 7, points=data, counts=counts)
        presses.keep(bench.arm, light, next(numbers))
    presses.finish(bench.arm, batch("pull_off"), next(numbers))
    return next(row.id for row in bench.state().rows if row.recipe.kind == "scan")


def test_a_hole_of_its_flattest_face_becomes_a_row_that_takes_its_edges(scanned):
    scan, job = over_a_hole(scanned), scanned.job
    with pytest.raises(InputError, match="no edges yet"):
        openings.find(scanned.state(), scan, None)
    clouds.only_edges(TECHNICIAN, job, scan, True)
    state = scanned.work()
    cloud = state.results[scan].cloud
    assert cloud.cells == len(cloud.edges) < 0.02 * cloud.read
    found = openings.find(state, scan, None)
    assert [openings.words_of(each, "mm")[:4] for each in found.each] in (["Ø 20"], ["Ø 19"])
    with pytest.raises(InputError, match="No hole is chosen"):
        openings.plan(TECHNICIAN, job, scan, None, [], found.seen, "Hole")
    for chosen, seen in (([0], "another"), ([1], found.seen), ([-1], found.seen)):
        with pytest.raises(InputError, match="changed meanwhile"):
            openings.plan(TECHNICIAN, job, scan, None, chosen, seen, "Hole")
    with pytest.raises(PlumbError):
        openings.plan(REVIEWER, job, scan, None, [0], found.seen, "Hole")
    plane, hole = openings.plan(TECHNICIAN, job, scan, None, [0], found.seen, "Hole")
    state = scanned.state()
    assert [state.row(i).recipe.name for i in (plane, hole)] == ["Plane 1", "Hole 1"]
    diameter = state.results[hole].characteristic("diameter")
    assert state.results[hole].state == "done" and abs(diameter.actual - 20) < diameter.U < 0.1
    x, y = (state.results[hole].characteristic(key).actual for key in "xy")
    assert (x, y) == pytest.approx(HOLE[:2], abs=0.05)
    again = openings.find(state, scan, plane)  # the plane is a row now
    assert openings.plan(TECHNICIAN, job, scan, plane, [0], again.seen, "")


def test_what_is_lacking_is_told_of_faces_that_are_planned_and_not_measured(scanned):
    for k in range(clouds.LIVE_CHUNKS + 16):
        presses.keep(scanned.arm, lit(-100 + 0.6 * k), next(numbers))
    scan = next(row.id for row in scanned.state().rows if row.recipe.kind == "scan")

    def told():
        with snapshot() as session:
            return lacking_of(session, load(session, scanned.job), scan)

    assert (told().words, told().of) == ("", 0)
    scanned.top()
    first = told()
    assert (first.enough, first.of) == (0, 1) and " % seen" in first.words
    assert first.hatch.shape[1:] == (2, 3) and len(first.hatch) > 100
    assert told().words == first.words  # all light that came before the face was planned counts at once
    presses.keep(scanned.arm, lit(-100.0, x=(150, 190)), next(numbers))
    assert len(told().hatch) < len(first.hatch)  # only what is new is looked at
    with pytest.raises(InputError, match="no scan"), snapshot() as session:
        lacking_of(session, load(session, scanned.job), scan - 1)


def test_a_planned_scan_is_asked_for_and_gives_its_points_when_the_device_finishes_it(scanned):
    def ask():
        instruments.seen(scanned.arm, connected=True, trouble="")
        with snapshot() as session:
            state = load(session, scanned.job)
            return prompt(state, state.instrument).title

    scan = scanned.plan(kind="scan", name="Top and bores", asks="the top and its bores.", gives=True)
    top = scanned.top()
    touched = scanned.state().measured[0].id
    measuring.make_current(TECHNICIAN, scanned.job, scan)
    assert ask() == "Scan the top and its bores."
    with transaction() as session:
        arm = session.get(Instrument, scanned.arm)
        light, arm.calibration_id = arm.calibration_id, scanned.ball
    assert ask() == "Put the scanner on. Scan the top and its bores."
    with transaction() as session:
        session.get(Instrument, scanned.arm).calibration_id = light
    assert scanned.scan(40) == scan
    scanned.work()
    state = scanned.work()  # and whose they are
    assert state.row(touched).recipe.scans == () and state.row(top).recipe.scans == (scan,)
    assert state.results[top].state == "done" and state.row(top).finished
    assert ask() == "All rows are done. Make the report."
    measuring.undo(TECHNICIAN, scanned.job, True)  # the finish of the scan, not that of a row which was given its points
    assert not scanned.state().row(scan).finished
    taken = [row for row in scanned.state().measured if scan in row.recipe.scans]
    assert [row.id for row in taken] == [top]


def test_a_planned_scan_comes_in_its_turn(scanned):
    scan, top = scanned.plan(kind="scan", name="Light"), scanned.top()
    assert onward.next_to_measure(scanned.state(), scan) == top
    assert onward.next_to_measure(scanned.state(), top) == scan
    measuring.make_current(TECHNICIAN, scanned.job, top)
    measuring.step(TECHNICIAN, scanned.job, -1)
    assert scanned.state().job.current_row_id == scan
