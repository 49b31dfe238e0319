"""Tolerances on faces of the model: put on by hand, taken over from the file, and written into it again."""

from contextlib import contextmanager

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN

from zipplumb.cad.callouts import Callout, Callouts, Lettered, Sized
from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.jobs.align import systems
from zipplumb.jobs.plan import adding, callouts, on_model, picking, sheet
from zipplumb.jobs.plan.alike import alike, things
from zipplumb.jobs.plan.on_model import Wanted
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Job, Part, Row


@pytest.fixture
def faces(bench):
    """The part's faces: its foot, its top, its four bolt holes."""
    with transaction() as session:
        return session.get(Part, bench.part).faces


def plane_of(faces, normal, nth=0):
    found = [f for f in faces if f["surface"] == "plane" and [round(v) for v in f["nominal"]["normal"]] == normal]
    return max(found, key=lambda f: f["area_mm2"])["index"] if nth == 0 else found[nth]["index"]


def holes_of(faces, radius=11.0):
    return [f["index"] for f in faces if f["surface"] == "cylinder" and f["nominal"]["radius"] == pytest.approx(radius)]


def lettered(bench, face, letter):
    row = picking.plan_from_face(TECHNICIAN, bench.job, face)
    with transaction() as session:
        adding.take_letter(session, bench.job, row, letter)
        stored = session.get(Row, row)
        stored.recipe = {**stored.recipe, "datum": letter}
    return row


@contextmanager
def at_work(bench):
    """The job while somebody is at it."""
    with transaction() as session:
        yield load(session, bench.job)


@contextmanager
def the_part(bench, **other):
    """The part as if its file said something else."""
    with transaction() as session:
        part = session.get(Part, bench.part)
        before = {name: getattr(part, name) for name in other}
        for name, value in other.items():
            setattr(part, name, value)
    yield
    with transaction() as session:
        part = session.get(Part, bench.part)
        for name, value in before.items():
            setattr(part, name, value)


def by_name(bench):
    return {row.recipe.name: row.recipe for row in bench.state().rows}


def test_a_tolerance_plans_what_it_needs_and_one_undo_takes_all_back(bench, faces):
    base = lettered(bench, plane_of(faces, [0, 0, -1]), "A")
    before = len(bench.state().rows)
    front = plane_of(faces, [0, -1, 0])
    row = on_model.put(TECHNICIAN, bench.job, [front], Wanted("perpendicularity", 0.05, "a", "Front", "machined"))
    recipe = bench.state().row(row).recipe
    assert (recipe.kind, recipe.zone_mm, recipe.to_datum, recipe.name, recipe.note) == (
        "perpendicularity", 0.05, base, "Front", "machined",
    )  # fmt: skip
    assert bench.state().row(recipe.of[0]).recipe.cad_face == front
    assert bench.state().row(recipe.of[0]).recipe.hits == 9  # so many show the form of a plane
    assert on_model.holding(bench.state(), front) == [row]
    with transaction() as session:
        last = adding.last_plan(session, bench.job)
    adding.take_plan_back(TECHNICIAN, bench.job, last.rows)
    assert len(bench.state().rows) == before


def test_two_tolerances_to_one_datum_are_edited_and_aligned_by(bench, faces):
    """The datum of a tolerance is no letter: a second to the same, its edit, and the letters of the job get on with it."""
    base = lettered(bench, plane_of(faces, [0, 0, -1]), "A")
    front, end = plane_of(faces, [0, -1, 0]), plane_of(faces, [1, 0, 0])
    for face in (front, end):
        row = on_model.put(TECHNICIAN, bench.job, [face], Wanted("perpendicularity", 0.05, "A"))
    sheet.edit_row(TECHNICIAN, bench.job, row, {"zone_mm": "0.08", "to_datum": str(base)})
    assert bench.state().row(row).recipe.zone_mm == 0.08
    lettered(bench, plane_of(faces, [0, -1, 0], 1), "B")
    lettered(bench, plane_of(faces, [-1, 0, 0]), "C")
    systems.plan_lettered(TECHNICIAN, bench.job)
    assert [r.recipe.kind for r in bench.state().rows if r.recipe.role == "system"] == ["datum_planes"]


def test_on_one_face_and_then_on_all_that_face_this_way(bench, faces):
    top = plane_of(faces, [0, -1, 0])
    with transaction() as session:
        same = on_model.alike_faces(session, bench.job, top, "facing")
        one = on_model.alike_faces(session, bench.job, top, "this")
        holes = on_model.alike_faces(session, bench.job, holes_of(faces)[0], "alike")
    assert one == (top,)
    assert set(same) == {
        f["index"] for f in faces if f["surface"] == "plane" and [round(v, 6) for v in f["nominal"]["normal"]] == [0, -1, 0]
    }
    row = on_model.put(TECHNICIAN, bench.job, same, Wanted("surface_profile", 0.2))
    assert len(bench.state().row(row).recipe.of) == len(same) > 1
    row = on_model.put(TECHNICIAN, bench.job, holes, Wanted("position", 0.3))
    assert len(bench.state().row(row).recipe.of) == 4


def test_what_does_not_go_is_refused_with_nothing_planned(bench, faces):
    top = plane_of(faces, [0, 0, 1])
    for wanted, words in (
        (Wanted("flatness", 0.1, "A"), "no datum A"),
        (Wanted("position", 0.1, "A, 7"), "“7” is no datum"),
        (Wanted("perpendicularity", 0.1), "one datum"),
        (Wanted("angularity", 0.1), "no tolerance of a face"),
        (Wanted("nonsense", 0.1), "no tolerance of a face"),
    ):
        with pytest.raises(InputError, match=words):
            on_model.put(TECHNICIAN, bench.job, [top], wanted)
    lettered(bench, top, "A")
    with pytest.raises(InputError, match="has no datum"):
        on_model.put(TECHNICIAN, bench.job, [plane_of(faces, [0, -1, 0])], Wanted("flatness", 0.1, "A"))
    with pytest.raises(NotAllowed):
        on_model.put(REVIEWER, bench.job, [top], Wanted("flatness", 0.1))
    assert len(bench.state().rows) == 1


@pytest.fixture
def carrying(bench, faces):
    """The part's file, as if it carried tolerances."""
    base, front, end = plane_of(faces, [0, 0, -1]), plane_of(faces, [0, -1, 0]), plane_of(faces, [1, 0, 0])
    holes = holes_of(faces)
    told = Callouts(
        (
            Callout("flatness", 0.05, (base,), name="Base is flat"),
            Callout("position", 0.3, tuple(holes), (("A",), ("B",), ("C",)), "maximum", ("none", "none", "none"), "", True),
            Callout("position", 0.2, tuple(holes), (("A",),), boundaries=("none",)),
            Callout("position", 0.1, tuple(holes), (("A",),), boundaries=("least",), round=True),
            Callout("angularity", 0.1, (front,), (("A",),), boundaries=("none",)),
            Callout("parallelism", 0.1, (front,), (("Z",),), boundaries=("none",)),
        ),
        (Lettered("A", (base,)), Lettered("B", (front,)), Lettered("C", (end,))),
        (Sized(tuple(holes), 22.0, 0.0, 0.2),),
        ("A dimension of 40 is not taken over.",),
    )
    with the_part(bench, callouts=told.to_data()):
        yield bench


def test_what_the_file_carries_is_planned_and_what_not_is_told(carrying):
    bench = carrying
    with at_work(bench) as state:
        told = callouts.told_of(state)
    assert [bool(each.why_not) for each in told] == [False, False, True, True, True, True]
    assert told[1].words == "Position 0.300, at maximum material to A, B, C"
    assert "between two planes" in told[2].why_not
    assert "boundary" in told[3].why_not
    assert "Derive" in told[4].why_not
    assert "datum Z" in told[5].why_not
    assert callouts.take_over(TECHNICIAN, bench.job) == 2
    rows = by_name(bench)
    assert rows["Base is flat"].kind == "flatness"
    position = next(r for r in rows.values() if r.kind == "position")
    assert position.condition == "maximum"
    letters = [bench.state().row(group[0]).recipe.datum_letter for group in position.in_order]
    assert letters == ["A", "B", "C"]
    limits = bench.state().row(position.of[0]).recipe.asked[0]
    assert (limits.key, limits.lower, limits.upper) == ("diameter", 0.0, 0.2)
    with transaction() as session:
        last = adding.last_plan(session, bench.job)
    assert len(last.rows) == len(bench.state().rows)  # one act
    with at_work(bench) as state:
        assert [each.why_not for each in callouts.told_of(state)][:2] == ["It is on the sheet."] * 2
    with pytest.raises(InputError, match="carries no tolerance that could be planned"):
        callouts.take_over(TECHNICIAN, bench.job)


def test_it_is_written_into_the_model_as_it_was_read(carrying):
    bench = carrying
    callouts.take_over(TECHNICIAN, bench.job)
    with transaction() as session:
        state = load(session, bench.job)
        out, told = callouts.callouts_of(state), callouts.carried(state.job)
        assert callouts.model_with_tolerances(session, state).startswith(b"ISO-10303-21")
    named = {c.kind: c for c in out.tolerances}
    assert set(named) == {"flatness", "position"}
    assert (named["position"].datums, named["position"].condition) == (told.tolerances[1].datums, "maximum")
    assert named["position"].round
    assert {d.letter: d.faces for d in out.datums} == {d.letter: d.faces for d in told.datums}
    assert {s.diameter_mm for s in out.sizes} == {22.0}


def test_without_tolerances_there_is_nothing_to_write(bench):
    with transaction() as session, pytest.raises(InputError, match="No tolerance of this job"):
        state = load(session, bench.job)
        callouts.model_with_tolerances(session, state)
    with pytest.raises(InputError, match="carries no tolerance"):
        callouts.take_over(TECHNICIAN, bench.job)


def test_datum_targets_are_a_datum_by_their_letter(bench, faces):
    """Three places called A1 to A3; a tolerance to A is told from them together, goes into the file and comes back."""
    base = plane_of(faces, [0, 0, 1])
    low, high = np.array(faces[base]["box"][:3]), np.array(faces[base]["box"][3:])
    places = [low + np.array(share) * (high - low) for share in ([0.1, 0.1, 0], [0.9, 0.1, 0], [0.5, 0.9, 0])]
    rows = [picking.plan_place(TECHNICIAN, bench.job, base, list(at), [0, 0, 1], "A") for at in places]
    hole = holes_of(faces)[0]
    row = on_model.put(TECHNICIAN, bench.job, [hole], Wanted("position", 0.2, "A"))
    assert [datum.features for datum in bench.state().row(row).recipe.datums] == [tuple(rows)]
    with pytest.raises(InputError, match="no datum B on the sheet"):
        on_model.put(TECHNICIAN, bench.job, [hole], Wanted("position", 0.2, "A, B"))
    with at_work(bench) as state:
        told = callouts.callouts_of(state)
    assert [c.datums for c in told.tolerances] == [(("A",),)]
    assert [t.name for t in told.targets] == ["A1", "A2", "A3"] and {t.faces for t in told.targets} == {(base,)}
    with the_part(bench, callouts=told.to_data()):
        job = sheet.create_job(TECHNICIAN, "From the file", bench.part)
        assert callouts.take_over(TECHNICIAN, job) == 1
        with transaction() as session:
            found = {r.recipe.name: r for r in load(session, job).rows}
    assert {"A1", "A2", "A3"} <= found.keys()
    (position,) = [r.recipe for r in found.values() if r.recipe.kind == "position"]
    assert [d.features for d in position.datums] == [tuple(found[n].id for n in ("A1", "A2", "A3"))]


def test_a_bore_in_two_halves_is_toleranced_once(bench, faces):
    """On either half, or on both, there is one row for the bore."""
    hole = holes_of(faces)[0]
    left, right = ({**faces[hole], "index": i} for i in (hole, len(faces)))
    middle = (faces[hole]["box"][0] + faces[hole]["box"][3]) / 2
    left["box"], right["box"] = [*left["box"][:3], middle, *left["box"][4:]], [middle, *right["box"][1:]]
    with the_part(bench, faces=[*faces[:hole], left, *faces[hole + 1 :], right]):
        both = on_model.put(TECHNICIAN, bench.job, [right["index"], hole], Wanted("position", 0.2))
        again = on_model.put(TECHNICIAN, bench.job, [hole], Wanted("cylindricity", 0.1))
        recipes = [bench.state().row(row).recipe for row in (both, again)]
    assert len(recipes[0].of) == 1 and recipes[0].of == recipes[1].of


@pytest.mark.parametrize("which", ["bracket_job", "bedplate_job"])
def test_every_face_of_every_part_is_picked_planned_and_toleranced_without_a_fault(stack, which):
    """Free faces, balls, edges broken by rounds: what a tolerance is not for says so, and nothing else."""
    with transaction() as session:
        part = session.get(Job, getattr(stack, which)).part_id
        faces = session.get(Part, part).faces
    job, done = sheet.create_job(TECHNICIAN, f"Every face of {which}", part), 0
    whole = things(faces)
    assert sorted(f["index"] for thing in whole for f in thing) == [f["index"] for f in faces]
    assert all(len({f["body"] for f in thing}) == 1 for thing in whole)
    for k, face in enumerate(faces):
        same = alike(faces, face["index"])
        assert not same or face["index"] in same[0]
        kind = ("flatness", "cylindricity", "surface_profile", "position")[k % 4]
        try:
            on_model.put(TECHNICIAN, job, [face["index"]], Wanted(kind, 0.1))
            done += 1
        except InputError:
            continue
    assert done > len(faces) / 8
    with transaction() as session:
        assert not [r for r in load(session, job).results.values() if "could not be worked out" in r.message]
