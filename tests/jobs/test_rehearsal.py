"""Where to stand: what is in sight, how surely it would be measured, and which of some places is the best."""

import numpy as np
import pytest

from zipplumb.core.errors import InputError
from zipplumb.jobs import rehearsal
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.align import systems
from zipplumb.jobs.kit import instruments
from zipplumb.jobs.plan import adding, picking
from zipplumb.jobs.state.results import load
from zipplumb.store.database import transaction
from zipplumb.store.models import Instrument, Job, Part

TECHNICIAN = Actor(1, "Tamsin", "technician")
POINTS = {"West": (-900.0, 0, 100), "East": (900.0, 0, 100), "High": (0.0, 700, 600), "Low": (0.0, -700, 200)}


@pytest.fixture
def tracker(stack):
    with transaction() as session:
        return session.query(Instrument).filter_by(kind="tracker").first().id


@pytest.fixture
def planned(bench):
    """Four nests round the carrier, which hides one from the other side, and a bore through it."""
    bench.points = {n: bench.plan(kind="point", name=n, nominal={"shape": "point", "position": p}) for n, p in POINTS.items()}
    with transaction() as session:
        system = {"kind": "reference_points", "name": "Reference", "points": list(bench.points.values())}
        session.get(Job, bench.job).alignment_row_id = adding.add_row(session, TECHNICIAN, bench.job, system)
    return bench


def rehearsed(bench, instrument, stand):
    with transaction() as session:
        return rehearsal.rehearsal_of(session, load(session, bench.job), instrument).plan("A", np.array(stand, float))


def test_what_the_part_hides_is_not_in_sight(planned, tracker):
    plan = rehearsed(planned, tracker, [-4000.0, 0, 60.0])  # level with the upright part: East is behind it
    rows = {name: plan.rows[row] for name, row in planned.points.items()}
    assert rows["West"].whole and rows["West"].seen == "1 of 1"
    assert not rows["East"].whole and rows["East"].seen == "0 of 1"
    assert plan.whole == 3
    above = rehearsed(planned, tracker, [-4000.0, 0, 3000.0])
    assert above.whole == 4
    assert rows["West"].range == "3100"


def test_far_off_is_less_sure(planned, tracker):
    near, far = (rehearsed(planned, tracker, [-x, -x, 2500.0]) for x in (2000.0, 8000.0))
    assert near.whole == far.whole == 4
    assert 2 * near.mean_u_mm < far.mean_u_mm


def test_of_places_round_the_part_the_best_come_first(planned, tracker):
    with transaction() as session:
        here = rehearsal.rehearsal_of(session, load(session, planned.job), tracker)
        first, second = here.proposed(2500.0, 300.0, "AB")
        others = [here.plan("", first.place), here.plan("", second.place)]
    assert (first.name, second.name) == ("A", "B")
    assert (first.whole, -first.mean_u_mm) >= (second.whole, -second.mean_u_mm)
    assert [plan.whole for plan in others] == [first.whole, second.whole]
    assert first.place[2] == 300.0


def test_what_cannot_be_rehearsed_is_said(bench, tracker):
    with transaction() as session:
        state = load(session, bench.job)
        with pytest.raises(InputError, match="No row can be looked at from anywhere"):
            rehearsal.rehearsal_of(session, state, tracker)
        bare = instruments.add_instrument(
            f"Bare {bench.job}", "arm", "127.0.0.1", 1, 0.01, instruments.spec_from_form("arm", {})
        )
        with pytest.raises(InputError, match="has no calibrated probe"):
            rehearsal.rehearsal_of(session, state, bare)
        job = session.get(Job, bench.job)
        with pytest.raises(InputError, match="Y of place A"):
            rehearsal.stand_from(["1", "x", "2"], job, "place A")
        assert rehearsal.stand_from(["", " ", ""], job, "place A") is None


def test_faces_are_rehearsed_where_they_would_be_touched(aligned, tracker):
    systems.plan_lettered(TECHNICIAN, aligned.job)
    plan = rehearsed(aligned, tracker, [3000.0, -2500, 1500.0])
    # Left looks the other way, and the middle of Top is under the upright part
    assert plan.said == "It cannot be aligned from there alone: it does not see all of Top, Left. U as if another place saw it."
    end, side = plan.rows[aligned.rows["end"]], plan.rows[aligned.rows["B"]]
    assert end.whole and side.whole
    assert side.u == "holds the part"
    assert end.of and end.u_mm is not None and 0 < end.u_mm < 0.3
    assert end.angle.endswith("°") and float(end.angle[:-1]) < 90


def test_a_tip_that_is_wider_than_the_bore_is_told(aligned, tracker):
    with transaction() as session:
        faces = session.get(Job, aligned.job).part.faces
        holes = [f for f in faces if f["inside"] and f["nominal"]["shape"] == "cylinder" and f["nominal"]["radius"] < 15]
    hole = holes[0]
    aligned.plan(kind="cylinder", name="Bore", inside=True, nominal=hole["nominal"], face=hole["index"], hits=6)
    with transaction() as session:
        here = rehearsal.rehearsal_of(session, load(session, aligned.job), tracker)
    assert here.left_out == {"too narrow for a tip of 38.100": ["Bore"]}


def test_a_bore_of_the_cad_is_round_and_touched_from_within(bench):
    """Its places lie on triangles, which cut a bent face short, and its far wall is near: neither makes it uncertain."""
    with transaction() as session:
        faces = session.get(Part, bench.part).faces
    small = min((f for f in faces if (f["nominal"] or {}).get("shape") == "cylinder" and f["inside"]), key=_radius)
    big = max((f for f in faces if (f["nominal"] or {}).get("shape") == "cylinder" and f["inside"]), key=_radius)
    rows = [picking.plan_from_face(TECHNICIAN, bench.job, face["index"]) for face in (small, big)]
    with transaction() as session:
        here = rehearsal.rehearsal_of(session, load(session, bench.job), bench.arm)
        found = here.found(here.touched, here.box.mean(axis=0))
    for row in rows:
        assert found[row].state == "done"
        assert found[row].feature.fit.form < 1e-6
        assert found[row].characteristic("diameter").U < 0.03


def _radius(face):
    return face["nominal"]["radius"]
