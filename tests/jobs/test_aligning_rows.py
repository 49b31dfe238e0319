"""Alignments as acts of a person: tried before they are kept, compared, copied, asked again."""

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN, batch, numbers

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.jobs.align import alignment_text, guided, mounted, rough, systems
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.plan import sheet, without_cad
from zipplumb.jobs.state.results import load, what_if
from zipplumb.store.database import transaction

FREE_PLACES = "100,20,60,0,0,1;-150,20,60,0,0,1;0,100,60,0,0,1;-200,-140,30,0,-1,0;200,-140,30,0,-1,0;-250,20,30,-1,0,0"


def planned(bench):
    return systems.plan_datum_planes(TECHNICIAN, bench.job, [bench.rows[k] for k in "ABC"])


# ---- what would change -------------------------------------------------------------------------


def test_what_another_alignment_would_change_is_told_and_nothing_is_kept(aligned):
    first = planned(aligned)
    holds = [{"feature": aligned.rows[k], "directions": ["own"]} for k in ("A", "B", "end")]
    other = aligned.plan(kind="holds", name="From the right", holds=holds)
    state = aligned.state()
    found = alignment_text.compared(state, state.results, what_if(state, (), other), first, other)
    assert found.six[0].replace("\u2212", "-") in ("-0.080", "+0.080")
    changes = {c.name: (c.before, c.after) for c in found.changes}
    assert changes["Right"] == ("+0.080", "held")
    assert changes["Left"][0] == "held"
    after = aligned.state()
    assert after.job.alignment_row_id == first
    assert after.results[aligned.rows["end"]].first.deviation == pytest.approx(0.08, abs=1e-6)


def test_an_alignment_is_copied_and_the_copy_edited_alone(aligned):
    first = planned(aligned)
    second, third = (systems.copy(TECHNICIAN, aligned.job, first) for _ in range(2))
    names = [aligned.state().row(r).recipe.name for r in (first, second, third)]
    assert len(set(names)) == 3
    sheet.edit_row(TECHNICIAN, aligned.job, second, {"primary": str(aligned.rows["B"]), "secondary": str(aligned.rows["A"])})
    recipes = [aligned.state().row(r).recipe for r in (first, second)]
    assert [r.primary for r in recipes] == [aligned.rows["A"], aligned.rows["B"]]
    with pytest.raises(InputError, match="no alignment"):
        systems.copy(TECHNICIAN, aligned.job, aligned.rows["A"])


def test_a_form_that_is_being_filled_tells_what_it_holds_so_far(aligned):
    texts = {
        "steps.0.step": "turn", "steps.0.features.0.is": "row", "steps.0.features.0.row": str(aligned.rows["A"]),
        "steps.0.axis": "+Z", "steps.0.degrees": "0", "onto": "own",
        "steps.1.step": "turn", "steps.1.features.0.is": "row", "steps.1.features.0.row": "", "steps.1.axis": "+X",
    }  # fmt: skip
    found = systems.tried(aligned.state(), "steps", texts)
    assert found.worth == "2 of 6: loose"
    assert {f.grip for f in found.freedoms} == {"firm", "loose"}
    with pytest.raises(InputError):
        systems.tried(aligned.state(), "steps", {**texts, "steps.0.axis": "up"})
    nothing_chosen = {"steps.0.step": "turn", "steps.0.axis": "+Z", "steps.0.degrees": "0", "onto": "own"}
    assert systems.tried(aligned.state(), "steps", nothing_chosen) is None
    assert systems.tried(aligned.state(), "level", {"station": "", "plane": "", "origin": ""}) is None
    assert all(row.recipe.name != "As typed" for row in aligned.state().rows)


def test_a_bolt_circle_is_zero_and_clocked_by_one_of_its_holes(bench):
    """Six bores on a circle of 120 about (40, 25), 17° on: from there they lie at 60 and k·60° (geometry)."""
    top = bench.plan_plane("Top", [0, 0, 30], [0, 0, 1])
    bench.touch_plane(top)
    turns = np.radians(17 + 60 * np.arange(6))
    at = np.array([40.0, 25, 0]) + 60 * np.column_stack([np.cos(turns), np.sin(turns), 0 * turns])
    holes = [bench.touch_bore(f"Hole {k}", place.tolist(), [0, 0, 1]) for k, place in enumerate(at, 1)]
    with pytest.raises(InputError, match="three of its holes"):
        systems.plan_on_bolt_circle(TECHNICIAN, bench.job, top, holes[:2], holes[0])
    row = systems.plan_on_bolt_circle(TECHNICIAN, bench.job, top, holes[:5], holes[0])
    systems.activate(TECHNICIAN, bench.job, row)
    alignment = bench.state().alignment
    assert alignment.points([[40.0, 25, 30]])[0] == pytest.approx([0, 0, 0], abs=1e-6)
    seen = alignment.points(at)
    assert np.degrees(np.arctan2(seen[:, 1], seen[:, 0])) % 360 == pytest.approx(60 * np.arange(6), abs=1e-6)


# ---- as it is mounted --------------------------------------------------------------------------


def test_ticks_are_tried_kept_and_changed_by_who_saw_them(aligned):
    planned(aligned)
    a, b, c, end = (aligned.rows[k] for k in ("A", "B", "C", "end"))
    texts = {f"{row}.own": "1" for row in (a, b, c)} | {f"{row}.level": "1" for row in (a, b, c)}
    found = mounted.answer(aligned.state(), texts, aligned.state().alignment)
    assert (found.worth, found.proven) == ("6 of 6, 3 spare", True)
    more = mounted.answer(aligned.state(), {**texts, f"{end}.own": "1", f"{end}.level": "1"}, aligned.state().alignment)
    assert more.worth.startswith("6 of 6")
    left = next(o for o in more.offsets if o.row == c)
    assert left.grew[0]  # the end that is 0.08 too far out pulls the other with it
    row = mounted.keep(TECHNICIAN, aligned.job, texts, None)
    assert [h.feature for h in aligned.state().row(row).recipe.ticks] == [a, b, c]
    seen = sheet.seen_of(aligned.state().row(row).recipe)
    sheet.edit_row(TECHNICIAN, aligned.job, row, {"note": "by another"})
    with pytest.raises(InputError, match="changed by somebody else"):
        mounted.keep(TECHNICIAN, aligned.job, texts, row, seen)
    with pytest.raises(InputError, match="held by no ticks"):
        mounted.keep(TECHNICIAN, aligned.job, texts, a)
    with pytest.raises(NotAllowed):
        mounted.keep(REVIEWER, aligned.job, texts, None)


@pytest.mark.parametrize(("texts", "why"), [
    ({}, "Nothing holds"), ({"own": "1", "level": "4"}, "level is 1, 2 or 3"),
    ({"own": "1", "level": "1", "weight": "x"}, "weight"),
    ({"X": "1", "level": "1"}, "faces across X"), ({"own": "1", "level": "1", "weight": "-1"}, "u mm|weight|greater"),
])  # fmt: skip
def test_ticks_that_cannot_be_are_said(aligned, texts, why):
    form = {f"{aligned.rows['A']}.{name}": text for name, text in texts.items()}
    said = mounted.answer(aligned.state(), form, None).message
    assert np.any([w in said.replace("_", " ") for w in why.split("|")]), said


# ---- a rough fit -------------------------------------------------------------------------------


@pytest.mark.parametrize("text", ["1,2,3", "a,b,c,d,e,f", "0,0,0,0,0,0", "1e9,0,0,0,0,1", "nan,0,0,0,0,1", "0,0,60,0,0,9"])
def test_picks_that_are_none_are_refused(text):
    with pytest.raises(InputError, match="no place"):
        rough.picks_from(text)


def test_a_rough_fit_is_planned_whole_or_not_at_all(bench):
    picks = rough.picks_from(FREE_PLACES)
    assert rough.picks_from(rough.text_of(picks)) == picks
    with pytest.raises(InputError, match="six freedoms need six"):
        rough.plan(TECHNICIAN, bench.job, picks[:5])
    assert not bench.state().rows
    with transaction() as session:
        found = rough.looked_at(load(session, bench.job), picks)
    assert (found.ledger.rank, found.ledger.spare, found.adds, found.enough) == (6, 0, (1, 1, 1, 1, 1, 1), True)
    assert found.better is not None  # so that something proves it
    alignment = rough.plan(TECHNICIAN, bench.job, picks)
    state = bench.state()
    assert [row.recipe.kind for row in state.rows] == ["surface_point"] * 6 + ["surfaces"]
    assert (state.job.alignment_row_id, state.job.current_row_id) == (alignment, state.rows[0].id)


def test_proof_points_tell_how_far_the_part_is_off_anywhere(aligned):
    planned(aligned)
    rough.plan_proof(TECHNICIAN, aligned.job)
    for x, off in ((-200, 0.0), (150, 0.05)):  # on the foot's top, clear of the body
        presses.keep(aligned.arm, batch(center=(x, 110, 63 + off), came_from=(x, 110, 80)), next(numbers))
    state = aligned.state()
    told = [text.replace("\u2212", "-") for _, text in alignment_text.proofs_of(state)]
    assert [float(t) for t in told] == pytest.approx([0.0, 0.05], abs=2e-3)
    assert state.results[state.job.current_row_id].characteristic("highest").U < 0.2  # far from small patches


# ---- guided points, and no CAD -----------------------------------------------------------------


def measured_points(bench, places, off=0.0):
    rows = []
    for k, place in enumerate(np.array(places, float)):
        raw = {"kind": "point", "name": f"P{k + 1}", "nominal": {"shape": "point", "position": place.tolist()}}
        rows.append(bench.plan(**raw))
        measuring.make_current(TECHNICIAN, bench.job, rows[-1])
        presses.keep(bench.arm, batch(center=place + [0, 0, off if k == 3 else 0]), next(numbers))
        measuring.finish(TECHNICIAN, bench.job)
    return rows


SQUARE = [[0, 0, 0], [400, 0, 0], [400, 300, 0], [0, 300, 50], [200, 150, 120]]


def test_points_that_fail_are_asked_again_and_their_hits_are_kept_aside(bench):
    rows = measured_points(bench, SQUARE, off=0.9)
    alignment = guided.plan(TECHNICIAN, bench.job, rows, "0.3")
    zones = {z.name: z.word for z in guided.zones_of(bench.state(), bench.state().row(alignment))}
    assert zones["P4"] == "out"
    failing = guided.ask_again(TECHNICIAN, bench.job, alignment)
    state = bench.state()
    assert rows[3] in failing
    assert state.job.current_row_id == failing[0]
    assert all(state.readings[row].aside.all() for row in failing)  # nothing is deleted
    presses.keep(bench.arm, batch(center=SQUARE[3]), next(numbers))
    for row in failing[1:]:
        measuring.finish(TECHNICIAN, bench.job)
        measuring.make_current(TECHNICIAN, bench.job, row)
        presses.keep(bench.arm, batch(center=SQUARE[rows.index(row)]), next(numbers))
    measuring.finish(TECHNICIAN, bench.job)
    state = bench.state()
    assert {z.word for z in guided.zones_of(state, state.row(alignment))} == {"in"}
    with pytest.raises(InputError, match="No point fails"):
        guided.ask_again(TECHNICIAN, bench.job, alignment)


@pytest.mark.parametrize("zone", ["", "0", "-1", "x", "1e400", "nan"])
def test_a_zone_that_is_none_is_refused(bench, zone):
    rows = measured_points(bench, SQUARE[:3])
    with pytest.raises(InputError):
        guided.plan(TECHNICIAN, bench.job, rows, zone)
    alignment = guided.plan(TECHNICIAN, bench.job, rows, "0.5")
    with pytest.raises(InputError):
        guided.tighten(TECHNICIAN, bench.job, alignment, zone)
    assert bench.state().row(alignment).recipe.zone_mm == 0.5


def test_planes_become_axes_one_by_one_until_nothing_is_loose(bench):
    without_cad.begin(TECHNICIAN, bench.job)
    for normal, at in (((0, 0, 1), (0, 0, 60)), ((0, -1, 0), (0, -140, 30)), ((-1, 0, 0), (-250, 0, 30))):
        normal, at = np.array(normal, float), np.array(at, float)
        u, v = np.linalg.svd(normal[None])[2][1:]
        for a, b in ((-20, -20), (20, -20), (20, 20), (-20, 20)):
            center = at + a * u + b * v + 3 * normal
            presses.keep(bench.arm, batch(center=center, came_from=center + 15 * normal), next(numbers))
        assert bench.state().job.touching == without_cad.AXES_MODE
        measuring.finish(TECHNICIAN, bench.job)
    state = bench.state()
    assert state.job.touching == ""
    assert state.alignment.ledger.rank == 6
    # the part lies as the instrument stands here, so that what each faces first is right
    assert state.alignment.part_from_world.rotation == pytest.approx(np.eye(3), abs=1e-6)
