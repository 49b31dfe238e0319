"""What would settle a row, planned: hits that join a finished row, what was foretold beside what came, plans taken over."""

from itertools import permutations

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN, batch, numbers

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.demo import carrier
from zipplumb.demo.seed import DIAMETER_MM
from zipplumb.jobs.align import systems
from zipplumb.jobs.kit import instruments
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.measure.ahead import ahead_of
from zipplumb.jobs.measure.onward import next_to_measure, wants_more
from zipplumb.jobs.measure.prompts import prompt
from zipplumb.jobs.plan import picking, sheet, standing
from zipplumb.jobs.proving import acts, plans
from zipplumb.jobs.proving.plans_told import plan_told
from zipplumb.jobs.proving.standing import causes_of, settling_of
from zipplumb.jobs.proving.told import causes_told, foretold_words, left_to_prove, minutes_text, told
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.models import Job, Part
from zipplumb.store.proofs import ProofPlan

FAR = [230, 120, 60]


def planned_bench(bench):
    """The carrier's datums and its rear face, as they are on the CAD, with a limit of its height."""
    with transaction() as session:
        faces = session.get(Part, bench.part).faces

    def on_cad(normal, height, **asked):
        flat = {face["index"]: face["nominal"] for face in faces if (face["nominal"] or {}).get("shape") == "plane"}
        stands = {k: [*plane["normal"], np.dot(plane["point"], normal)] for k, plane in flat.items()}
        index = next(k for k, each in stands.items() if np.allclose(each, [*normal, height], atol=1e-3))
        row = picking.plan_from_face(TECHNICIAN, bench.job, index)
        sheet.edit_row(TECHNICIAN, bench.job, row, asked)
        return row

    rows = [
        on_cad((0, 0, 1), carrier.FOOT, name="Top", datum="A"),
        on_cad((0, -1, 0), carrier.WIDTH / 2, name="Side", datum="B"),
        on_cad((-1, 0, 0), carrier.LENGTH / 2, name="Left", datum="C"),
    ]
    bench.plan(kind="datum_planes", name="As drawn", primary=rows[0], secondary=rows[1], tertiary=rows[2])
    limits = {"asked.height.on": "1", "asked.height.lower": "-0.08", "asked.height.upper": "0.08", "asked.first": "height"}
    return rows, on_cad((1, 0, 0), carrier.LENGTH / 2, name="Right", **limits)


@pytest.fixture
def far(bench):
    """A height far off its datum, known too badly for its limits."""
    rows, _ = planned_bench(bench)
    bench.rows = dict(zip("ABC", rows, strict=True))
    bench.seat = bench.plan_plane("Seat", FAR, [0, 0, 1], asked=[{"key": "height", "lower": -0.1, "upper": 0.1}])
    for row in (*rows, bench.seat):
        bench.touch_plane(row, 0.02 if row == bench.seat else 0.0)
    return bench


def ways_of(bench, row):
    with snapshot() as session:
        state = load(session, bench.job)
        found = settling_of(session, state, row)
        return None if found is None else told(state, row, found)


def touched(bench, place, normal=(0.0, 0, 1)):
    center = np.array(place) + DIAMETER_MM / 2 * np.array(normal)
    presses.keep(bench.arm, batch(center=center, came_from=center + 15 * np.array(normal)), next(numbers))


def test_a_way_is_planned_its_hits_join_a_finished_row_and_what_came_stands_beside_what_was_foretold(far):
    assert far.state().results[far.seat].verdict.word == "not proven"
    told_ = ways_of(far, far.seat)
    way = next(way for way in told_.ways if "on Top" in way.words)
    assert "inside its limit" in told_.lead and way.gives.startswith("U 0.") and way.marks
    with pytest.raises(NotAllowed):
        acts.plan(REVIEWER, far.job, far.seat, way.key)
    for wrong in ("", "1:9999", "x"):
        with pytest.raises(InputError, match="another way by now"):
            acts.plan(TECHNICIAN, far.job, far.seat, wrong)
    rows = acts.plan(TECHNICIAN, far.job, far.seat, way.key)
    top = far.rows["A"]
    assert top in rows
    measuring.make_current(TECHNICIAN, far.job, top)
    state = far.state()
    aims = state.row(top).recipe.aims_left(state.results[top].hits)
    wanted = state.row(top).recipe.wanted_hits
    assert state.row(top).finished and wants_more(state, state.row(top))
    assert len(ahead_of(state).targets) == len(aims) == wanted - 4
    instruments.seen(far.arm, connected=True, trouble="")
    state = far.state()
    assert f"{wanted - 4} more" in prompt(state, state.instrument).title
    assert next_to_measure(state, far.seat) == top
    with snapshot() as session:
        assert "to come" in foretold_words(session, load(session, far.job), far.seat)
    for row in rows:
        measuring.make_current(TECHNICIAN, far.job, row)
        for place in far.state().row(row).recipe.aims:
            touched(far, [place[0], place[1], 60.0 + (0.02 if row == far.seat else 0.0)])
            state = far.state()
            assert state.alignment is not None and state.row(row).finished  # it stays aligned, and judged, all the while
        assert not len(ahead_of(state).targets if ahead_of(state) else [])
    assert state.results[far.seat].verdict.word in ("in", "close")
    with snapshot() as session:
        assert "was foretold; it is 0." in foretold_words(session, load(session, far.job), far.seat)
    touched(far, [0, 0, 60.0])  # one more than was asked for opens the row again, as ever
    assert not far.state().row(rows[-1]).finished
    measuring.undo(TECHNICIAN, far.job, False)
    assert ways_of(far, far.seat) is None or far.state().results[far.seat].verdict is None


def test_a_spare_hold_is_taken_at_a_press_and_what_was_foretold_stands_beside_what_came(bench):
    rows, _ = planned_bench(bench)
    seat = bench.plan_plane("Seat", FAR, [0, 0, 1], asked=[{"key": "height", "lower": -0.11, "upper": 0.11}])
    post = bench.plan_plane("Post", [FAR[0], -FAR[1], FAR[2]], [0, 0, 1])
    for row in (*rows, seat, post):
        bench.touch_plane(row)
    held = bench.plan(kind="holds", name="Best fit", holds=[{"feature": row, "directions": ["own"]} for row in rows])
    systems.activate(TECHNICIAN, bench.job, held)
    way = next(way for way in ways_of(bench, seat).ways if "Post" in way.words)
    assert way.words == "Post, measured already, holds the part too, in Best fit; all is judged anew."
    assert way.press == "Hold it so" and not way.marks
    before = bench.state().results[seat].first.U
    assert acts.plan(TECHNICIAN, bench.job, seat, way.key) == []
    state = bench.state()
    assert [each.feature for each in state.row(held).recipe.holds] == [*rows, post]
    assert before > state.results[seat].first.U
    with snapshot() as session:
        assert f"{state.results[seat].first.U:.3f} was foretold" in foretold_words(session, state, seat)
    with pytest.raises(InputError, match="another way by now"):
        acts.plan(TECHNICIAN, bench.job, seat, way.key)


def test_what_stands_in_the_way_is_mended_in_one_act_and_told_with_its_work(far):
    with snapshot() as session:
        state = load(session, far.job)
        found = causes_of(session, state)
        words = causes_told(state, found)
        left = left_to_prove(state, found)
    assert found and found[0].row == far.rows["A"]
    assert "Seat" in words[0].which and left.open == 1 and "one row not proven" in left.words
    acts.mend(TECHNICIAN, far.job, far.rows["A"])
    assert len(far.state().row(far.rows["A"]).recipe.aims) == len(found[0].aims)
    with pytest.raises(InputError, match="settle nothing"):
        acts.mend(TECHNICIAN, far.job, far.rows["C"] + 10**6)
    assert minutes_text(3.0) == "5 s" and minutes_text(600.0) == "10 min"


def orders_of_datums_are_compared(bench):
    with transaction() as session:
        assert plans.has_orders(load(session, bench.job))
    plan = plans.ask(TECHNICIAN, bench.job, bench.arm, 0.5, 2500.0, 1500.0, orders=True)
    plans.work_out(plan)
    with snapshot() as session:
        shown = plan_told(load(session, bench.job), plans.newest(session, bench.job))
    assert len(shown.orders) == 6 and shown.orders[0].startswith("A, B, C, as it is asked: 1 proven with ")
    assert sorted(each[:7] for each in shown.orders) == sorted(", ".join(each) for each in permutations("ABC"))


def test_a_plan_that_proves_is_worked_out_shown_and_taken_over_for_rows_that_are_not_measured(bench):
    rows, seat = planned_bench(bench)
    plan = plans.ask(TECHNICIAN, bench.job, bench.arm, 0.5, 2500.0, 1500.0)
    with pytest.raises(InputError, match="being worked out"):
        plans.ask(TECHNICIAN, bench.job, bench.arm, 0.5, 2500.0, 1500.0)
    plans.work_out(plan)
    with snapshot() as session:
        kept = plans.newest(session, bench.job)
        shown = plan_told(load(session, bench.job), kept)
    assert (kept.state, kept.share) == ("ready", 1.0)
    by_name = {row.name: row for row in shown.rows}
    assert by_name["Right"].proven and by_name["Right"].hits >= 9 and by_name["Right"].wanted == "0.040"
    assert "50 %" in shown.lead and "1 of one row" in shown.lead and not shown.stands
    orders_of_datums_are_compared(bench)
    bench.touch_plane(rows[1])
    with pytest.raises(InputError, match="None of these rows"):
        plans.take_over(TECHNICIAN, bench.job, plan, [rows[1], 10**6])
    with pytest.raises(NotAllowed):
        plans.take_over(REVIEWER, bench.job, plan, rows)
    assert plans.take_over(TECHNICIAN, bench.job, plan, [*rows, seat]) == 3
    state = bench.state()
    assert state.row(seat).recipe.hits == by_name["Right"].hits and state.row(rows[1]).recipe.hits == 4
    standing.remove(TECHNICIAN, bench.job, [seat])
    with snapshot() as session:
        assert "Right" not in {row.name for row in plan_told(load(session, bench.job), kept).rows}
    with pytest.raises(InputError, match="not there any more"):
        plans.take_over(TECHNICIAN, bench.job, plan + 10**6, rows)


@pytest.mark.parametrize(
    ("used", "far_mm", "high_mm", "why"),
    [
        (1.0, 2500, 1500, "never proven"),
        (-0.1, 2500, 1500, "never proven"),
        (0.5, 0, 1500, "so far off"),
        (0.5, 2500, 1e9, "so far off"),
    ],
)
def test_what_makes_no_sense_is_refused_in_a_sentence(bench, used, far_mm, high_mm, why):
    planned_bench(bench)
    with pytest.raises(InputError, match=why):
        plans.ask(TECHNICIAN, bench.job, bench.arm, used, far_mm, high_mm)
    with pytest.raises(InputError):
        plans.ask(TECHNICIAN, bench.job, 10**6, 0.5, 2500.0, 1500.0)


def test_what_nothing_holds_is_not_promised(bench):
    """In an alignment that leaves the part loose nothing is known of a height along it, whatever is touched."""
    rows, right = planned_bench(bench)
    loose = bench.plan(kind="holds", name="Loose", holds=[{"feature": rows[0], "directions": ["own"]}])
    with transaction() as session:
        session.get(Job, bench.job).alignment_row_id = loose
    plan = plans.ask(TECHNICIAN, bench.job, bench.arm, 0.5, 2500.0, 1500.0)
    plans.work_out(plan)
    with snapshot() as session:
        kept = plans.newest(session, bench.job)
        shown = plan_told(load(session, bench.job), kept)
    assert kept.state == "ready"
    line = next((row for row in shown.rows if row.row == right), None)
    assert line is None or (line.U, line.proven) == ("–", False)


def test_a_plan_that_fails_says_so_and_another_may_be_asked_for(bench):
    planned_bench(bench)
    plan = plans.ask(TECHNICIAN, bench.job, bench.arm, 0.5, 2500.0, 1500.0)
    sheet.create_job(TECHNICIAN, "Beside", bench.part)
    plans.left(plan)
    with snapshot() as session:
        assert session.get(ProofPlan, plan).state == "failed"
    again = plans.ask(TECHNICIAN, bench.job, bench.arm, 0.5, 2500.0, 1500.0)
    for row in bench.state().rows:
        if not row.recipe.takes_hits:
            standing.remove(TECHNICIAN, bench.job, [row.id])
    plans.work_out(again)
    with snapshot() as session:
        assert session.get(ProofPlan, again).state in ("ready", "failed")
