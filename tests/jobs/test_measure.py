"""Keeping, undoing, finishing: at most once, and never a change of what was read."""

import threading
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN, Bench, batch, numbers
from sqlalchemy import func, select

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.core.probing import ByDistance, ByPress, ByTime, WhenStill
from zipplumb.core.stripes import packed, stripe_of_pairs
from zipplumb.demo.seed import OFFSET_MM
from zipplumb.jobs.align import systems
from zipplumb.jobs.kit import instruments, stations
from zipplumb.jobs.link import presses
from zipplumb.jobs.link.shared import settings_now
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.plan import sheet, standing
from zipplumb.jobs.state.readings import first_time, lift_aside, set_all_aside
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, stored, transaction
from zipplumb.store.models import Change, Instrument, Job, Mark, Reading, Row


@pytest.fixture
def place(bench):
    """A job with one bore row, and an arm of its own standing at it."""
    return bench.job, bench.plan(kind="cylinder", name="Bore 1", nominal=None, hits=6), bench.arm


def bore(turn, depth=0.0):
    return (27 * np.cos(turn), 27 * np.sin(turn), depth)


def take_bore(arm, count=8):
    for k in range(count):
        presses.keep(arm, batch(center=bore(k * 0.8, 9.0 * (k % 3))), next(numbers))


def count(row):
    with transaction() as session:
        return session.scalar(select(func.count()).select_from(Reading).where(Reading.row_id == row))


def found(job, row):
    with transaction() as session:
        return load(session, job).results[row]


def test_the_same_press_sent_twice_is_kept_once(place):
    _, row, arm = place
    one, number = batch(), next(numbers)
    for _ in range(3):
        assert presses.keep(arm, one, number) == "taken"
    assert count(row) == 1


def test_the_same_press_from_two_links_at_once_is_kept_once(place):
    _, row, arm = place
    one, number = batch(), next(numbers)
    threads = [threading.Thread(target=presses.keep, args=(arm, one, number)) for _ in range(6)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert count(row) == 1


def test_a_sweep_sent_again_is_kept_once(place):
    _, row, arm = place
    held = batch("sweep", many=5)
    presses.keep(arm, held, None)
    presses.keep(arm, held, None)
    assert count(row) == 1


def test_a_bore_is_measured_finished_and_opened_again(place):
    job, row, arm = place
    take_bore(arm)
    assert presses.finish(arm, batch("pull_off", center=(5.0, 0, 0)), next(numbers)) == "finished"
    result = found(job, row)
    assert result.state == "done"
    assert result.first.actual == pytest.approx(60.0, abs=1e-6)
    measuring.undo(TECHNICIAN, job, sweep=False)
    assert found(job, row).state == "taking"


def test_too_few_hits_are_not_finished(place):
    job, row, arm = place
    take_bore(arm, 3)
    with pytest.raises(InputError, match="needs 5 hits"):
        measuring.finish(TECHNICIAN, job)
    assert found(job, row).hits == 3


def test_a_pull_off_outside_asks_and_a_second_one_settles(place):
    job, row, arm = place
    for k in range(8):
        turn = 0.8 * k
        one = batch(center=bore(turn, 9.0 * (k % 3)), came_from=(10 * np.cos(turn), 10 * np.sin(turn), 0))
        presses.keep(arm, one, next(numbers))
    assert presses.finish(arm, batch("pull_off", center=(60.0, 0, 0)), next(numbers)) == "asks"
    assert found(job, row).state == "asks"
    assert presses.finish(arm, batch("pull_off", center=(4.0, 0, 0)), next(numbers)) == "finished"
    assert found(job, row).first.actual == pytest.approx(60.0, abs=1e-6)


def test_undo_takes_back_one_hit_or_the_whole_sweep_and_deletes_nothing(place):
    job, row, arm = place
    take_bore(arm, 2)
    press = batch()
    presses.keep(arm, press, next(numbers))
    presses.keep(arm, batch("sweep", sweep=press.sweep, many=4), None)
    assert found(job, row).hits == 7
    measuring.undo(TECHNICIAN, job, sweep=False)
    assert found(job, row).hits == 6
    measuring.undo(TECHNICIAN, job, sweep=True)
    assert found(job, row).hits == 2
    assert count(row) == 4


def test_one_mark_takes_a_whole_batch_and_one_hit_of_it_can_count_again(place):
    job, row, arm = place
    press = batch()
    for _ in range(3):
        presses.keep(arm, batch("sweep", sweep=press.sweep, many=4), None)
    keys = found(job, row).feature.counted
    measuring.set_aside(TECHNICIAN, job, row, keys[5], True)  # of the second batch, before the whole is taken back
    measuring.undo(TECHNICIAN, job, sweep=True)
    with transaction() as session:
        assert session.scalar(select(func.count()).select_from(Mark).where(Mark.row_id == row)) == 1 + 3
        taken = session.scalar(select(Change.detail).where(Change.job_id == job).order_by(Change.id.desc()).limit(1))
    assert taken["hits"] == 11 and len(taken["readings"]) == 3
    assert found(job, row).hits == 0
    with pytest.raises(InputError, match="nothing to take back"):
        measuring.undo(TECHNICIAN, job, sweep=True)
    for key in (keys[4], keys[5], keys[11]):
        measuring.set_aside(TECHNICIAN, job, row, key, False)
    assert found(job, row).feature.counted == (keys[4], keys[5], keys[11])
    measuring.undo(TECHNICIAN, job, sweep=False)
    assert found(job, row).feature.counted == (keys[4], keys[5])


def test_a_station_set_aside_whole_gives_back_what_was_not_taken_back(place):
    job, row, arm = place
    for _ in range(2):
        presses.keep(arm, batch("sweep", many=3), None)
    keys = found(job, row).feature.counted
    measuring.undo(TECHNICIAN, job, sweep=False)
    with transaction() as session:
        set_all_aside(session, Reading.row_id == row, 1)
    assert found(job, row).hits == 0
    with transaction() as session:
        lift_aside(session, Reading.row_id == row, 1)
    assert found(job, row).feature.counted == keys[:5]


def test_a_hit_set_aside_and_counted_again(place):
    job, row, arm = place
    take_bore(arm)
    before = found(job, row)
    measuring.set_aside(TECHNICIAN, job, row, before.feature.counted[2], True)
    assert found(job, row).hits == 7
    measuring.set_aside(TECHNICIAN, job, row, before.feature.counted[2], False)
    assert found(job, row).first.actual == before.first.actual
    with pytest.raises(InputError, match="not on this row"):
        measuring.set_aside(TECHNICIAN, job, row, "999999.0", True)


def test_a_reviewer_changes_nothing(place):
    job, row, _ = place
    for act in (
        lambda: measuring.undo(REVIEWER, job, False),
        lambda: measuring.finish(REVIEWER, job),
        lambda: sheet.edit_row(REVIEWER, job, row, {"name": "x"}),
        lambda: standing.remove(REVIEWER, job, [row]),
        lambda: sheet.create_job(REVIEWER, "mine", 1),
    ):
        with pytest.raises(NotAllowed, match="Nothing was changed"):
            act()


def test_limits_are_typed_in_the_rows_own_terms(place):
    job, row, _ = place
    sheet.set_limits(TECHNICIAN, job, row, "-0.01", "0.01")
    sheet.switch_terms(TECHNICIAN, job, row)
    sheet.set_limits(TECHNICIAN, job, row, "-0.01", "0.01")
    with transaction() as session:
        assert session.get(Row, row).recipe["asked"][0] == {"key": "diameter", "lower": -0.02, "upper": 0.02}


def test_an_upper_limit_below_the_lower_one_leaves_the_row_as_it_was(place):
    job, row, _ = place
    sheet.set_limits(TECHNICIAN, job, row, "-0.01", "0.01")
    with pytest.raises(InputError, match="upper limit lies below"):
        sheet.set_limits(TECHNICIAN, job, row, "0.02", "0.01")
    with transaction() as session:
        assert session.get(Row, row).recipe["asked"][0] == {"key": "diameter", "lower": -0.01, "upper": 0.01}
    sheet.set_limits(TECHNICIAN, job, row, "", "0.02")  # one limit is a limit
    with transaction() as session:
        assert session.get(Row, row).recipe["asked"][0] == {"key": "diameter", "lower": None, "upper": 0.02}


def test_units_change_what_is_typed_and_nothing_stored(place):
    job, row, _ = place
    sheet.set_limits(TECHNICIAN, job, row, "-0.254", "0.254")
    sheet.set_units(TECHNICIAN, job, "in")
    with transaction() as session:
        before = dict(session.get(Row, row).recipe)
    sheet.set_limits(TECHNICIAN, job, row, "-0.01", "0.01")
    with transaction() as session:
        assert session.get(Row, row).recipe == before


def test_reference_points_measured_in_their_nests_align_the_part(bench):
    """Points as rows, an alignment on them as a row, and everything judged in it."""
    nests = np.array([[0, 0, 0], [800, 0, 0], [0, 500, 0], [300, 200, 400.0]])
    rows = [
        bench.plan(kind="point", name=f"Nest {k + 1}", nominal={"shape": "point", "position": p.tolist()})
        for k, p in enumerate(nests)
    ]
    for row, place in zip(rows, nests, strict=True):
        measuring.make_current(TECHNICIAN, bench.job, row)
        presses.keep(bench.arm, batch(center=place + [100.0, 0, 0]), next(numbers))
        assert measuring.finish(TECHNICIAN, bench.job) == "finished"
    alignment = bench.plan(kind="reference_points", name="By nests", points=rows)
    systems.activate(TECHNICIAN, bench.job, alignment)
    state = bench.state()
    solved = state.results[alignment].alignment
    assert solved.points([100.0, 0, 0]) == pytest.approx([0, 0, 0], abs=1e-6)
    assert (solved.ledger.rank, solved.ledger.spare) == (6, 6)
    assert state.results[rows[3]].held
    with pytest.raises(InputError, match="no alignment"):
        systems.activate(TECHNICIAN, bench.job, rows[0])


def test_what_the_tip_is_drawn_with_is_the_probe_on_the_instrument_and_nothing_of_an_earlier_one(bench):
    def now():
        found = settings_now()[bench.arm]
        return found.offset_mm, found.tip_radius_mm

    assert now()[0] == OFFSET_MM
    instruments.add_calibrated_probe(bench.arm, "A long one", [0.0, 0.0, 300.0], 12.0, 0.01, 0.002, "")
    assert now() == ([0.0, 0.0, 300.0], 6.0)
    with transaction() as session:
        session.get(Instrument, bench.arm).calibration_id = None
    assert now() == ([0.0, 0.0, 0.0], None)


def test_a_side_is_settled_only_on_a_measured_row_that_is_there(place):
    job, row, _ = place
    with pytest.raises(InputError, match="inside or outside"):
        measuring.settle_side(TECHNICIAN, job, row, 0)
    with pytest.raises(InputError, match="takes no hits"):
        measuring.settle_side(TECHNICIAN, job, row + 1000, 1)
    standing.remove(TECHNICIAN, job, [row])
    for act in (lambda: measuring.settle_side(TECHNICIAN, job, row, 1), lambda: measuring.make_current(TECHNICIAN, job, row)):
        with pytest.raises(InputError, match="takes no hits"):
            act()
    with transaction() as session:
        assert session.get(Row, row).recipe["settled_air"] is None


def test_the_first_row_to_measure_is_current_and_the_first_system_active(aligned):
    first = aligned.plan(kind="datum_planes", name="One", primary=aligned.rows["A"], secondary=aligned.rows["B"],
                         tertiary=aligned.rows["C"])  # fmt: skip
    aligned.plan(kind="holds", name="Two", holds=[{"feature": aligned.rows["A"], "directions": ["own"]}])
    assert aligned.state().job.alignment_row_id == first
    standing.remove(TECHNICIAN, aligned.job, [first])
    assert aligned.state().alignment is None


# ---- what a result rests on is kept with the reading ------------------------------------------


def test_what_a_maker_states_later_changes_no_number_of_before(aligned):
    before = aligned.state().results[aligned.rows["end"]].first.U
    with transaction() as session:
        instrument = session.get(Instrument, aligned.arm)
        instrument.u_hit_mm, instrument.level = 5.0, [0.0, 0.6, 0.8]
    after = aligned.state()
    assert before == after.results[aligned.rows["end"]].first.U
    assert after.results[aligned.rows["end"]].feature.u_hit_mm == 0.012


def test_the_level_is_the_one_that_was_told_when_it_was_read(bench):
    with transaction() as session:
        session.get(Instrument, bench.arm).level = [0.0, 0.6, 0.8]
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    bench.touch_plane(row)
    with transaction() as session:
        session.get(Instrument, bench.arm).level = [0.0, 0.0, 1.0]
    (station,) = bench.state().kit.stations.values()
    assert station.up.tolist() == [0.0, 0.6, 0.8]


def test_two_instruments_that_call_their_session_alike_both_keep_their_hits(stack):
    first, second = Bench(stack), Bench(stack)
    rows = [b.plan_plane("Top", [0, 0, 60], [0, 0, 1]) for b in (first, second)]
    hit = replace(batch(center=(0, 0, 63)), session="alike")
    for bench in (first, second):
        assert presses.keep(bench.arm, hit, 1) == "taken"
    assert [b.state().results[row].hits for b, row in zip((first, second), rows, strict=True)] == [1, 1]


def test_a_session_sent_again_into_another_job_is_refused_and_not_confirmed(bench, stack):
    other = Bench(stack)
    for b in (bench, other):
        b.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    hit = batch(center=(0, 0, 63))
    presses.keep(bench.arm, hit, 77)
    assert presses.keep(bench.arm, hit, 77) == "taken"  # sent again to the same job
    stations.bring(TECHNICIAN, other.job, bench.arm)
    for number in (77, 78):
        with pytest.raises(InputError, match="sent before, for something else"):
            presses.keep(bench.arm, hit, number)


def test_a_scanners_lines_are_refused_while_a_ball_is_on(bench):
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    points, counts = packed([stripe_of_pairs([(0.0, 90.0)]), stripe_of_pairs([(0.0, 91.0)])])
    stripes = replace(batch(kind="stripes", many=2), points=points, counts=counts)
    with pytest.raises(InputError, match="Lines of light came, and ball is on"):
        presses.keep(bench.arm, stripes, None)
    assert bench.state().results[row].hits == 0


def test_a_reopened_row_forgets_its_pull_off(bench):
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    bench.touch_plane(row)
    assert bench.state().readings[row].pull_off is not None
    measuring.undo(TECHNICIAN, bench.job, sweep=False)
    assert bench.state().readings[row].pull_off is None
    bench.touch_plane(row)
    measuring.make_current(TECHNICIAN, bench.job, row)
    presses.keep(bench.arm, batch(center=(5, 5, 63)), None)  # opened by a hit
    assert bench.state().readings[row].pull_off is None


def test_a_gap_in_a_sweep_is_told_with_the_row(bench):
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    bench.touch_plane(row)
    measuring.make_current(TECHNICIAN, bench.job, row)
    presses.keep(bench.arm, replace(batch(kind="sweep", center=(9, 9, 63)), gap_s=1.44), None)
    assert "lost for 1.4 s before hit 5" in " ".join(bench.state().results[row].warnings)


def test_a_link_that_says_nothing_is_not_connected(bench):
    instruments.seen(bench.arm, connected=True)
    assert bench.state().instrument.connected
    with transaction() as session:
        session.get(Instrument, bench.arm).seen_at = datetime.now(UTC) - timedelta(seconds=4)
    assert not bench.state().instrument.connected
    instruments.seen(bench.arm)
    assert bench.state().instrument.connected


def test_a_named_row_is_enough_to_see_its_new_hits(bench):
    rows = [bench.plan_plane(f"Plane {k}", [0, 0, 60], [0, 0, 1]) for k in range(3)]
    with snapshot() as session:
        before = load(session, bench.job)
    bench.touch_plane(rows[1])
    with snapshot() as session:
        after = load(session, bench.job, {rows[1]})
    assert after.results[rows[1]].state == "done"
    assert after.results[rows[0]] is before.results[rows[0]]


@pytest.mark.parametrize(("told", "way"), [
    ({}, ByDistance(5.0)), ({"spacing_mm": 2.0}, ByDistance(2.0)), ({"taking": "time", "every_s": 0.1}, ByTime(0.1)),
    ({"taking": "still"}, WhenStill(apart_mm=5.0)), ({"taking": "press"}, ByPress()),
])  # fmt: skip
def test_hits_are_taken_as_the_current_row_says(bench, told, way):
    bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], **told)
    assert settings_now()[bench.arm].taking == way


def test_the_way_of_taking_is_switched_from_the_device(place):
    job, row, arm = place
    ways = []
    for _ in range(4):
        number = next(numbers)
        assert presses.next_way(arm, "s", number) == "moved"
        assert presses.next_way(arm, "s", number) == "moved"  # sent twice, done once
        with transaction() as session:
            ways.append(session.get(Row, row).recipe["taking"])
    assert ways == ["time", "still", "press", "distance"]
    measuring.next_way(TECHNICIAN, job)
    assert isinstance(settings_now()[arm].taking, ByTime)


def test_a_press_does_not_wait_for_an_act_that_waits_for_it(bench):
    """A press is kept before its job is locked; an act on the job locks the instrument last."""
    with ThreadPoolExecutor() as beside, transaction() as session:
        assert first_time(session, bench.arm, "s", next(numbers))
        beside.submit(stations.bring, TECHNICIAN, bench.job, bench.arm).result(timeout=10)
        assert stored(session, Job, bench.job, lock=True).id == bench.job
