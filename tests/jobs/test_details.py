"""A detail moved on its adjusters, round after round, by what is proposed; its screws are not what is stated."""

import re

import numpy as np
import pytest
from job_bench import TECHNICIAN, Bench, batch, numbers
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import InputError
from zipplumb.core.frames import Motion
from zipplumb.core.placing.adjusters import answers_of
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.place import details, placement
from zipplumb.jobs.place.details import details_of
from zipplumb.jobs.place.details_text import detail_text
from zipplumb.jobs.place.turning import Turning
from zipplumb.jobs.plan import adding
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument, Job

WORLD = {"P": (0.0, 0, 100), "Q": (900.0, 0, 100), "R": (0.0, 700, 100)}
TARGETS = {"T1": (200.0, 100, 300), "T2": (640, 100, 300), "T3": (640.0, 380, 300), "T4": (200.0, 380, 360)}
ADJUSTERS = """Foot 1; 190; 110; 50; up; 1.5; 4; 4
Foot 2; 650; 110; 50; up; 1.5; 4; 4
Foot 3; 420; 390; 50; +Z; 1.5; 4; 4

Side left; 220; 90; 90; +Y; 1.25
Side right; 620; 90; 90; +Y; 1.25
End; 180; 240; 90; toward the rail; 1,0
"""


def hit(bench, row, at):
    measuring.make_current(TECHNICIAN, bench.job, row)
    presses.keep(bench.arm, batch(center=at), next(numbers))
    measuring.finish(TECHNICIAN, bench.job)


@pytest.fixture
def bench_with_detail(bench):
    """The part aligned by three points (part = world), and four targets on something that stands off."""
    raw = {"kind": "point"}
    rows = {n: bench.plan(**raw, name=n, nominal={"shape": "point", "position": p}) for n, p in (WORLD | TARGETS).items()}
    for name, at in WORLD.items():
        hit(bench, rows[name], at)
    with transaction() as session:
        system = {"kind": "reference_points", "name": "Reference", "points": [rows[n] for n in WORLD]}
        session.get(Job, bench.job).alignment_row_id = adding.add_row(session, TECHNICIAN, bench.job, system)
    placement.set_placing(TECHNICIAN, bench.job, {"zone": "0.05", "+Z": "up", "-Z": "down", "+X": "toward the rail"})
    bench.points = rows
    bench.targets = [rows[n] for n in TARGETS]
    return bench


def shown(bench):
    with transaction() as session:
        state = load(session, bench.job)
        (now,) = details_of(session, state)
        return now, detail_text(state, now)


def test_turned_as_proposed_it_sits_after_a_few_rounds(bench_with_detail):
    bench, random = bench_with_detail, np.random.default_rng(8)
    number = details.add(TECHNICIAN, bench.job, "Carrier", bench.targets, ADJUSTERS)
    now, text = shown(bench)
    assert (text.word, text.look) == ("look", "Look at T1, T2, T3, T4.")
    nominal = np.array(list(TARGETS.values()), float)
    adjusters = [a.adjuster({}) for a in now.recipe.adjusters]
    pitch = [a.mm_per_turn * k for a, k in zip(adjusters, (1.09, 0.92, 1.05, 0.94, 1.07, 0.91), strict=True)]
    pose = Motion(Rotation.from_rotvec([3e-3, -2e-3, 3e-3]).as_matrix(), np.array([1.5, -2.0, 1.5]))
    for count in range(5):
        for row, at in zip(bench.targets, pose.points(nominal), strict=True):
            hit(bench, row, at + random.normal(0, 0.003, 3))
        now, text = shown(bench)
        if text.word == "sits":
            break
        assert (text.word, text.rounds) == ("move", count)
        assert "left at most: in" in text.then
        turns = {t.name: t.turns for t in now.plan.turns}
        moves = [turns.get(a.name, 0.0) * p for a, p in zip(adjusters, pitch, strict=True)]
        about = nominal.mean(axis=0)
        motion, *_ = np.linalg.lstsq(answers_of(adjusters, about), moves, rcond=None)
        turn = Rotation.from_rotvec(motion[3:]).as_matrix()
        pose = Motion(turn, about + motion[:3] - turn @ about) @ pose
        details.turned(TECHNICIAN, bench.job, number, count)
        assert bench.state().current.id == bench.targets[0]
        with pytest.raises(InputError, match="not the newest"):
            details.turned(TECHNICIAN, bench.job, number, count)  # pressed twice
    assert text.word == "sits" and count <= 3
    assert np.linalg.norm(pose.points(nominal) - nominal, axis=1).max() < 0.05
    details.look_again(TECHNICIAN, bench.job, number)
    assert shown(bench)[1].word == "look"


def test_it_is_told_in_the_words_of_the_place_and_what_cannot_be_done(bench_with_detail):
    bench = bench_with_detail
    details.add(
        TECHNICIAN, bench.job, "Carrier", bench.targets, "Foot 1; 190; 110; 50; up; 1.5; 4; 0.1\nFoot 2; 650; 110; 50; up; 1.5"
    )
    for row, at in zip(bench.targets, TARGETS.values(), strict=True):
        hit(bench, row, np.array(at) - [0, 0, 0.6])
    _, text = shown(bench)
    turn = {t.name: t for t in text.turns}
    assert turn["Foot 1"].note == "at its end"
    assert turn["Foot 2"].way.endswith(" up")
    assert any("No adjuster does it" in note for note in text.notes)
    assert any("At the end of its way: Foot 1" in note for note in text.notes)
    assert "not in yet" in text.then


def test_few_targets_a_bent_one_and_a_system_that_rests_on_it_are_said(bench_with_detail):
    bench = bench_with_detail
    details.add(TECHNICIAN, bench.job, "Carrier", bench.targets, "")
    hit(bench, bench.targets[0], np.array(TARGETS["T1"]) + [0.4, 0, 0])
    _, text = shown(bench)
    assert any("leave 3 of 6 motions untold" in note for note in text.notes)
    assert text.look == "Look at T2, T3, T4." and text.six[0] == "+0.400"
    for row, at in list(zip(bench.targets, TARGETS.values(), strict=True))[1:]:
        hit(bench, row, np.array(at))
    assert any("do not move as one" in note for note in shown(bench)[1].notes)
    with transaction() as session:
        system = {"kind": "reference_points", "name": "On it", "points": bench.targets[:3]}
        session.get(Job, bench.job).alignment_row_id = adding.add_row(session, TECHNICIAN, bench.job, system)
    assert any("what is moved cannot hold the system" in note for note in shown(bench)[1].notes)


def test_before_it_is_said_what_to_turn_those_are_wanted_that_tell_what_turns_do(bench_with_detail):
    bench = bench_with_detail
    details.add(TECHNICIAN, bench.job, "Carrier", bench.targets, ADJUSTERS)
    off = np.array([0.4, 0, -0.6])
    hit(bench, bench.targets[0], TARGETS["T1"] + off)
    now, text = shown(bench)
    assert now.plan is None and text.turns == () and text.word == "move"
    assert text.look.startswith("Look at ") and text.look.endswith(" first: without them a turn may spoil more.")
    assert len(now.wanted) == 2
    first, second = (list(TARGETS).index(name) for name in now.wanted)
    hit(bench, bench.targets[first], np.array(list(TARGETS.values())[first]) + off)
    assert shown(bench)[1].look == f"Look at {now.wanted[1]} first: without it a turn may spoil more."
    hit(bench, bench.targets[second], np.array(list(TARGETS.values())[second]) + off)
    assert {turn.name for turn in shown(bench)[1].turns} == {"Foot 1", "Foot 2", "Foot 3", "End"}


def test_which_way_a_screw_is_turned_seen_from_its_head(bench_with_detail):
    """A right-hand screw goes away from whoever turns it clockwise, and pushes the detail so; a left-hand one comes back."""
    bench = bench_with_detail
    feet = ADJUSTERS.splitlines()[:3]
    threads = [f"{feet[0]}; ; right", f"{feet[1]}; ; Left", feet[2]]
    details.add(TECHNICIAN, bench.job, "Carrier", bench.targets, "\n".join(threads))
    for row, at in zip(bench.targets, TARGETS.values(), strict=True):
        hit(bench, row, np.array(at) - [0, 0, 0.6])
    assert {t.name: t.hand for t in shown(bench)[1].turns} == {
        "Foot 1": "clockwise", "Foot 2": "counter-clockwise", "Foot 3": "",
    }  # fmt: skip


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("Foot; 1; 2; 3; up; 1.5; ; ; ; metric", "Line 1: “metric” is no thread: right or left"),
        ("Foot; 1; 2; 3; up", "Line 1: It has 5 entries"),
        ("Foot; 1; 2; 3; up; 1.5\nFoot; 1; 2; 3; sideways; 1", "Line 2: “sideways” is no direction"),
        ("Foot; 1; x; 3; up; 1.5", "Line 1: “x” in a number is not a number"),
        ("Foot; 1; 2; 3; up; 0", "Line 1: mm per turn"),
        ("; 1; 2; 3; up; 1", "Line 1: name"),
        ("\n".join(["Foot; 1; 2; 3; up; 1"] * 25), "The list of adjusters"),
        ("\n".join(["Foot; 1; 2; 3; up; 1"] * 2), "two adjusters have the same name"),
    ],
)
def test_a_list_with_one_bad_line_is_refused_whole(bench_with_detail, text, why):
    bench = bench_with_detail
    with pytest.raises(InputError, match=why):
        details.add(TECHNICIAN, bench.job, "Carrier", bench.targets, text)
    with transaction() as session:
        assert not details_of(session, load(session, bench.job))


def test_only_what_is_of_this_job(bench_with_detail, stack):
    bench, other = bench_with_detail, Bench(stack)
    number = details.add(TECHNICIAN, bench.job, "Carrier", bench.targets, ADJUSTERS)
    with pytest.raises(InputError, match="no place with a nominal"):
        details.add(TECHNICIAN, other.job, "Carrier", bench.targets, ADJUSTERS)
    for name, targets in (("", bench.targets), ("x" * 81, bench.targets), ("Carrier", [])):
        with pytest.raises(InputError, match="cannot be so"):
            details.add(TECHNICIAN, bench.job, name, targets, "")
    for act in (details.remove, details.look_again):
        with pytest.raises(InputError, match="not in this job"):
            act(TECHNICIAN, other.job, number)
    details.remove(TECHNICIAN, bench.job, number)
    with pytest.raises(InputError, match="not in this job"):
        details.look_again(TECHNICIAN, bench.job, number)


CORNERS = {
    "Corner 1": (0.0, 0, 800.0),
    "Corner 2": (2000.0, 0, 801.4),
    "Corner 3": (2000.0, 1200, 799.1),
    "Corner 4": (0.0, 1200, 800.3),
}
FEET = "\n".join(f"Foot {k}; Corner {k}; +Z; 1.5" for k in (1, 2, 3, 4))


def follow_a_corner(bench, now, rows, lean):
    """While the reflector rests on the corner that is moved first: how high it is, and what is left to turn."""
    with transaction() as session:
        state = load(session, bench.job)
        turning = Turning.of(state, now)
        turn = now.plan.turns[0]
        row = rows[int(turn.name[-1]) - 1]
        there, up = np.array(list(CORNERS.values())[rows.index(row)]), np.array([0, 0, turn.move_mm])
        told = turning.height_told(state, lean.inv().apply(there))
        assert told["name"] == f"Corner {turn.name[-1]}"
        assert told["ways"].endswith("toward +Z" if turn.move_mm > 0 else "toward −Z")
        assert told["mm"] == pytest.approx(abs(turn.move_mm), abs=0.03)
        left = turning.told(row, lean.inv().apply(there + up / 2))["turning"]
        assert left["name"] == turn.name and not left["astray"]
        assert float(left["left"].split()[0]) == pytest.approx(abs(turn.turns) / 2, abs=0.03)
        assert turning.height_told(state, lean.inv().apply(there + [500, 0, 0])) == {}


@pytest.mark.parametrize("to", ["highest", "lowest", "middle"])
def test_corners_are_brought_to_one_height_by_the_instruments_level(bench, to):
    """A frame on four feet, its heights told along gravity, which is not the instrument's Z; nothing of it has a nominal."""
    lean = Rotation.from_rotvec([4e-3, -3e-3, 0])  # of the instrument
    up = lean.inv().apply([0.0, 0, 1])
    with transaction() as session:
        instrument = session.get(Instrument, bench.arm)
        instrument.level, instrument.u_level_rad = up.tolist(), 2e-6
    rows = [bench.plan(kind="point", name=name) for name in CORNERS]
    belongs = {"where": "height", "by": "instrument", "to": to}
    number = details.add(TECHNICIAN, bench.job, "Frame", rows, FEET, belongs)
    heights, random = np.array([at[2] for at in CORNERS.values()]), np.random.default_rng(4)
    pitch = 1.5 * np.array([1.06, 0.95, 1.03, 0.97])
    for count in range(4):
        for row, at, height in zip(rows, CORNERS.values(), heights, strict=True):
            hit(bench, row, lean.inv().apply([*at[:2], height]) + random.normal(0, 0.003, 3))
        now, text = shown(bench)
        if count == 0:
            assert re.fullmatch(r"Highest: Corner 2\. Lowest: Corner 3, 2\.(29|30)\d below it\.", text.said[0])
            wanted = {"highest": 801.4, "lowest": 799.1, "middle": heights.mean()}[to]
            assert {t.name: t.move_mm for t in now.plan.turns} == pytest.approx(
                {f"Foot {k}": wanted - h for k, h in enumerate(heights, 1) if abs(wanted - h) > 0.03}, abs=0.05
            )
            assert text.six == () and not any("slides" in note for note in text.notes)
        if text.word != "move":
            break
        if count == 0:
            follow_a_corner(bench, now, rows, lean)
        by_name = {t.name: t.turns for t in now.plan.turns}
        heights = heights + pitch * [by_name.get(f"Foot {k}", 0.0) for k in (1, 2, 3, 4)]
        details.turned(TECHNICIAN, bench.job, number, count)
    assert text.word in ("sits", "close") and count <= 3
    assert np.ptp(heights) < 0.1
    details.fix(TECHNICIAN, bench.job, number)
    for row, at, height in zip(rows, CORNERS.values(), heights, strict=True):
        hit(bench, row, lean.inv().apply([*at[:2], height]))
    now, text = shown(bench)
    assert now.plan is None and text.fixed
    assert text.table.state == "Fixed: all targets are in."
    found = {line.name: line.found.numbers[2] for line in text.table.lines}
    wanted = {"highest": 801.4, "lowest": 799.1, "middle": 800.2}[to]
    assert found == pytest.approx({name: at[2] - wanted for name, at in CORNERS.items()}, abs=0.02)
    assert max(line.left.numbers[3] for line in text.table.lines) == pytest.approx(
        np.abs(heights - {"highest": heights.max(), "lowest": heights.min(), "middle": heights.mean()}[to]).max(), abs=0.001
    )


def test_what_cannot_be_levelled_is_said(bench):
    rows = [bench.plan(kind="point", name=name) for name in CORNERS]
    level = {"where": "height", "by": "instrument", "to": "highest"}
    with pytest.raises(InputError, match="moved corner by corner"):
        details.add(TECHNICIAN, bench.job, "Frame", rows, "Foot; 0; 0; 0; +Z; 1", level)
    with pytest.raises(InputError, match="no place with a nominal"):
        details.add(TECHNICIAN, bench.job, "Frame", rows, FEET)
    with pytest.raises(InputError, match="moved up and down only"):
        details.add(TECHNICIAN, bench.job, "Frame", rows, "Foot; Corner 1; +X; 1", level)
    with pytest.raises(InputError, match="two adjusters are under one target"):
        details.add(TECHNICIAN, bench.job, "Frame", rows, "Foot; Corner 1; +Z; 1\nWedge; Corner 1; +Z; 1", level)
    with pytest.raises(InputError, match="Where it belongs"):
        details.add(TECHNICIAN, bench.job, "Frame", rows, FEET, {"where": "height", "by": "the sun"})
    number = details.add(TECHNICIAN, bench.job, "Frame", rows, FEET, level)
    for row, at in zip(rows[:3], CORNERS.values(), strict=False):
        hit(bench, row, at)
    _, text = shown(bench)
    assert text.notes == ("No instrument here tells what is level: level by the active system's Z.",)
    with pytest.raises(InputError, match="Not all of its targets are seen"):
        details.fix(TECHNICIAN, bench.job, number)
    details.add(TECHNICIAN, bench.job, "Again", rows, "", level | {"by": "system"})
    with transaction() as session:
        assert "align first" in details_of(session, load(session, bench.job))[1].refused


def test_what_is_left_to_turn_follows_the_reflector(bench_with_detail):
    """While T1 is watched: all before it moved, half of it half way up, a stop at the end, and one that goes down."""
    bench = bench_with_detail
    details.add(TECHNICIAN, bench.job, "Carrier", bench.targets, ADJUSTERS)
    nominal = np.array(list(TARGETS.values()), float)
    for row, at in zip(bench.targets, nominal - [0, 0, 1.0], strict=True):
        hit(bench, row, at)
    with transaction() as session:
        state = load(session, bench.job)
        (now,) = details_of(session, state)
        turning = Turning.of(state, now)
    first = now.plan.turns[0].name
    watched, where = bench.targets[0], nominal[0] - [0, 0, 1.0]
    told = turning.told(watched, where)["turning"]
    assert (told["name"], told["left"], told["enough"], told["astray"]) == (first, "0.68 turns", False, False)
    assert told["way"].endswith("up")
    carried = now.plan.carries[:, 0]
    half = turning.told(watched, where + carried[0] / 2)["turning"]
    assert (half["name"], half["left"]) == (first, "0.34 turns")
    assert turning.told(watched, where + carried.sum(axis=0))["turning"]["enough"]
    assert turning.told(watched, where - [0, 0, 0.5])["turning"]["astray"]
    assert turning.told(bench.points["P"], where) == {}


def test_a_body_of_the_cad_is_one_details_only(bench_with_detail):
    bench = bench_with_detail
    details.add(TECHNICIAN, bench.job, "Carrier", bench.targets[:2], "", body=0)
    with transaction() as session:
        assert details.movable_bodies(session, bench.job) == [0]
    for body, words in ((0, "another detail's already"), (77, "no such body")):
        with pytest.raises(InputError, match=words):
            details.add(TECHNICIAN, bench.job, "Other", bench.targets[2:], "", body=body)
    assert shown(bench)[0].recipe.body == 0
