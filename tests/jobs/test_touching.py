"""Just touching, and looking again: what was touched is recognised, accepted, changed and joined without touching anew."""

from types import SimpleNamespace

import numpy as np
import pytest
from job_bench import TECHNICIAN, batch, numbers

from zipplumb.core.errors import InputError
from zipplumb.demo.seed import DIAMETER_MM
from zipplumb.jobs.kit import probes
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import again, measuring, touching
from zipplumb.jobs.measure.prompts import prompt
from zipplumb.jobs.plan import adding, sheet
from zipplumb.store.database import transaction
from zipplumb.store.models import Job

TIP = DIAMETER_MM / 2
UP = np.array([0.0, 0, 1])


def hit(bench, center, came_from):
    return presses.keep(bench.arm, batch(center=center, came_from=came_from), next(numbers))


def touch_bore(bench, radius=20.0, at=(1000.0, 0, 0), depths=(0, 10, 20), each=5):
    """Far off the part, so that no nominal is near."""
    middle = np.array(at, float)
    for depth in depths:
        for k in range(each):
            turn = 2 * np.pi * (k + 0.3 * depth) / each
            out = np.array([np.cos(turn), np.sin(turn), 0])
            hit(bench, middle + depth * UP + (radius - TIP) * out, middle + depth * UP)


def touch_noisy_bore(bench, random):
    """Nine hits of a bore of 18 mm, 15 mm deep; three times as far off as an arm states."""
    for turn, depth in random.uniform((0, -15), (2 * np.pi, 0), (9, 2)):
        out = np.array([np.cos(turn), np.sin(turn), 0])
        inside = np.array([1000.0, 0, depth])
        hit(bench, inside + (9 - TIP) * out + random.normal(0, 0.045, 3), inside)


def finish(bench, away):
    return presses.finish(bench.arm, batch("pull_off", center=away), next(numbers))


def just_touch(bench, way="space"):
    while touching_now(bench) != way:
        touching.turn(TECHNICIAN, bench.job)


def touching_now(bench):
    with transaction() as session:
        return session.get(Job, bench.job).touching


def said(bench):
    return prompt(bench.state(), SimpleNamespace(connected=True, trouble="", target=""))


def test_what_was_touched_becomes_what_it_is(bench):
    just_touch(bench)
    assert "Just touch, in space" in said(bench).title
    touch_bore(bench)
    assert said(bench).title.startswith("Bore? Finish")
    assert finish(bench, (1000, 0, 10)) == "finished"
    state = bench.state()
    row = state.current
    assert (row.recipe.kind, row.recipe.name, row.recipe.inside) == ("cylinder", "Bore 1", True)
    assert state.results[row.id].characteristic("diameter").actual == pytest.approx(40, abs=1e-6)
    touch_bore(bench, radius=12, at=(1200, 0, 0))  # the next thing, with no step between
    finish(bench, (1200, 0, 10))
    assert [r.recipe.name for r in bench.state().rows] == ["Bore 1", "Bore 2"]


def test_what_is_there_can_be_chosen_where_the_hits_are_three_times_worse_than_stated(bench):
    random, just_bore = np.random.default_rng(3), 0
    just_touch(bench)
    for _ in range(12):
        touch_noisy_bore(bench, random)
        kinds = [option.code for option in touching.options(bench.state(), bench.state().current)]
        assert "fit:cylinder" in kinds
        just_bore += kinds[0] == "fit:cylinder"
        finish(bench, (1000, 0, 10))
    assert just_bore < 12  # or nothing was shown


def test_in_a_plane_an_outline_is_recognised(bench):
    just_touch(bench, "plane")
    touch_bore(bench, depths=(0,), each=9)
    assert touching.options(bench.state(), bench.state().current)[0].code == "fit:circle"
    finish(bench, (1000, 0, 0))
    assert bench.state().current.recipe.kind == "circle"


def test_another_is_chosen_from_the_device_and_accepted(bench):
    just_touch(bench)
    touch_bore(bench)
    codes = [o.code for o in touching.options(bench.state(), bench.state().current)]
    assert codes[0] == "fit:cylinder"
    assert len(codes) > 1
    presses.step(bench.arm, 1, "s", next(numbers))
    assert codes[1].removeprefix("fit:") in bench.state().current.recipe.chosen
    presses.step(bench.arm, -1, "s", next(numbers))
    touching.choose_by_code(TECHNICIAN, bench.job, bench.state().current.id, codes[1])
    with pytest.raises(InputError, match="not proposed any more"):
        touching.choose_by_code(TECHNICIAN, bench.job, bench.state().current.id, "fit:elephant")
    finish(bench, (1000, 0, 10))
    assert bench.state().current.recipe.kind == codes[1].removeprefix("fit:")


def test_too_few_hits_are_kept_and_the_row_stays_open(bench):
    just_touch(bench)
    with pytest.raises(InputError, match="No row to measure"):
        measuring.finish(TECHNICIAN, bench.job)
    hit(bench, (1000, 0, 0), (1000, 0, 20))
    assert "prove nothing" in said(bench).line
    measuring.finish(TECHNICIAN, bench.job)
    assert bench.state().current.recipe.kind == "point"


def test_behind_the_last_row_one_just_touches(bench):
    row = bench.plan_plane("Top", [0, 0, 60], UP.tolist())
    presses.step(bench.arm, 1, "s", next(numbers))
    assert touching_now(bench) == "space"
    presses.step(bench.arm, 1, "s", next(numbers))
    assert (touching_now(bench), bench.state().current.id) == ("", row)


@pytest.fixture
def laid(aligned):
    """With the part's coordinate system from its three planes."""
    rows = aligned.rows
    aligned.plan(kind="datum_planes", name="System", primary=rows["A"], secondary=rows["B"], tertiary=rows["C"])
    return aligned


def touch_top(bench, spots=((-20, -20), (20, -20), (20, 20), (-20, 20)), z=60.0, x=60.0):
    for a, b in spots:
        hit(bench, (x + a, 5 + b, z + TIP), (x + a, 5 + b, z + 20))


def test_hits_go_to_the_planned_row_that_waits_for_them(laid):
    row = laid.plan_plane("Pad", [60, 5, 60], UP.tolist())
    just_touch(laid)
    touch_top(laid)
    offered = touching.options(laid.state(), laid.state().current)
    assert (offered[0].code, offered[0].words) == (f"row:{row}", "Pad")
    finish(laid, (60, 5, 90))
    state = laid.state()
    assert state.current.id == row
    assert (state.results[row].state, state.results[row].hits) == ("done", 4)
    assert state.results[row].characteristic("height").deviation == pytest.approx(0, abs=0.02)
    assert all(r.recipe.kind != "touched" for r in state.rows)
    with transaction() as session:  # a calibration knows the rows that its hits belong to now
        used = probes.uses_of(session, list(state.kit.calibrations))
    assert "Pad" in {name for uses in used.values() for use in uses for name in use.rows}
    key = state.readings[row].keys[0]
    measuring.set_aside(TECHNICIAN, laid.job, row, key, True)
    assert laid.state().results[row].hits == 3
    measuring.set_aside(TECHNICIAN, laid.job, row, key, False)
    again.give_back(TECHNICIAN, laid.job, row)
    state = laid.state()
    assert state.results[row].hits == 0
    assert [r.recipe.kind for r in state.rows][-1] == "touched"


def test_a_face_of_the_part_is_proposed(laid):
    just_touch(laid)
    face = next(f for f in laid.state().faces if f["surface"] == "cylinder" and f["inside"])
    shape, low, high = face["nominal"], np.array(face["box"][:3]), np.array(face["box"][3:])
    axis, middle = np.array(shape["direction"]), (low + high) / 2
    center = np.array(shape["point"]) + ((middle - shape["point"]) @ axis) * axis
    u, v = np.linalg.svd(axis[None])[2][1:]
    for k in range(10):
        out = np.cos(k * 2.4) * u + np.sin(k * 2.4) * v
        at = center + 4 * (k % 3 - 1) * axis
        hit(laid, at + (shape["radius"] - TIP) * out, at)
    offered = touching.options(laid.state(), laid.state().current)
    assert offered[0].words == "Bore of the CAD"
    finish(laid, center)
    recipe = laid.state().current.recipe
    assert recipe.kind == "cylinder"
    assert recipe.nominal.radius == pytest.approx(shape["radius"])
    assert laid.state().current.recipe.cad_face is not None


def test_a_wrong_guess_is_changed_without_touching_again(bench):
    just_touch(bench)
    touch_bore(bench)
    finish(bench, (1000, 0, 10))
    row = bench.state().current
    before = bench.state().readings[row.id].keys
    kinds = dict(again.other_kinds(row.recipe))
    assert {"plane", "cone", "sphere", "circle"} <= set(kinds)
    assert "surface_point" not in kinds  # which takes a nominal
    seen = again.become(TECHNICIAN, bench.job, row.id, "cone", sheet.seen_of(row.recipe))
    assert bench.state().row(row.id).recipe.kind == "cone"
    assert bench.state().readings[row.id].keys == before
    with pytest.raises(InputError, match="changed by somebody else"):
        again.become(TECHNICIAN, bench.job, row.id, "cylinder", sheet.seen_of(row.recipe))
    again.become(TECHNICIAN, bench.job, row.id, "cylinder", seen)
    assert bench.state().results[row.id].characteristic("diameter").actual == pytest.approx(40, abs=1e-6)
    with pytest.raises(InputError, match="cannot be taken for that"):
        again.become(TECHNICIAN, bench.job, row.id, "holds")
    with transaction() as session:
        acts = [each["act"] for each in again.history(session, bench.job, row.id)]
    assert acts[:2] == ["take for another kind"] * 2


def test_hits_of_two_rows_are_joined_and_given_back(bench):
    first = bench.touch_bore("Lower", [0, 0, 0], [0, 0, 1])
    second = bench.touch_bore("Upper", [0, 0, 100], [0, 0, 1])
    with pytest.raises(InputError, match="its own hits already"):
        again.join(TECHNICIAN, bench.job, first, first)
    again.join(TECHNICIAN, bench.job, second, first)
    state = bench.state()
    assert state.results[first].hits == 24
    assert [(r.id, r.finished) for r in state.rows] == [(first, True), (second, False)]  # it is planned as it was
    assert state.results[second].state == "todo"
    measuring.make_current(TECHNICIAN, bench.job, first)
    hit(bench, (10 - TIP, 0, 50), (0, 0, 50))  # measuring goes on in the joined row
    assert bench.state().results[first].hits == 25
    assert again.give_back(TECHNICIAN, bench.job, first) == second
    state = bench.state()
    assert (state.results[first].hits, state.results[second].hits) == (13, 12)
    assert state.results[second].state == "done"
    with pytest.raises(InputError, match="no hits of another row"):
        again.give_back(TECHNICIAN, bench.job, first)


def test_what_rests_on_a_row_whose_hits_were_given_away_waits(aligned):
    end, top = aligned.rows["end"], aligned.rows["A"]
    offset = aligned.plan(kind="construction", of=[top], make="offset_plane", offset_mm=5, name="Offset")
    again.join(TECHNICIAN, aligned.job, top, end)
    assert aligned.state().results[offset].state == "waits"
    again.give_back(TECHNICIAN, aligned.job, end)
    assert aligned.state().results[offset].state == "done"
    nominal = {"shape": "circle", "center": [0, 0, 60], "normal": [0, 0, 1], "radius": 20}
    rim = aligned.plan(kind="circle", name="Rim", nominal=nominal, plane=top)
    with pytest.raises(InputError, match="rests on this row"):
        again.join(TECHNICIAN, aligned.job, top, rim)


def test_what_was_touched_is_no_plan_that_could_be_taken_back(bench):
    row = bench.plan_plane("Top", [0, 0, 60], UP.tolist())
    just_touch(bench)
    touch_bore(bench)
    with transaction() as session:
        assert adding.last_plan(session, bench.job).rows == (row,)
    assert adding.take_plan_back(TECHNICIAN, bench.job, [row]) == 1
    assert [r.recipe.kind for r in bench.state().rows] == ["touched"]
