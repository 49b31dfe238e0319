"""How far off a place is, which way it is to be moved, and in whose words."""

import numpy as np
import pytest
from job_bench import TECHNICIAN, batch, numbers

from zipplumb.core.errors import InputError
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.place import placement
from zipplumb.jobs.plan import adding
from zipplumb.store.database import transaction
from zipplumb.store.models import Job

PLACES = {"P": (0.0, 0, 100), "Q": (400.0, 0, 100), "R": (0.0, 300, 100)}


@pytest.fixture
def placed(bench):
    """Three points that lie where they should, and the part aligned by them: part = world."""
    rows = {n: bench.plan(kind="point", name=n, nominal={"shape": "point", "position": p}) for n, p in PLACES.items()}
    for name, row in rows.items():
        measuring.make_current(TECHNICIAN, bench.job, row)
        presses.keep(bench.arm, batch(center=PLACES[name]), next(numbers))
        measuring.finish(TECHNICIAN, bench.job)
    with transaction() as session:
        raw = {"kind": "reference_points", "name": "Reference", "points": list(rows.values())}
        session.get(Job, bench.job).alignment_row_id = adding.add_row(session, TECHNICIAN, bench.job, raw)
    bench.points = rows
    return bench


def form(**more):
    return {"zone": "0.1", "+X": "toward the rail", "-Z": "down", **more}


def test_the_nearest_place_is_told_in_the_words_of_the_place(placed):
    placement.set_placing(TECHNICIAN, placed.job, form())
    state = placed.state()
    found = placement.missing(state, np.array([399.2, 0.3, 102.0]), 3.0)
    assert found.row.id == placed.points["Q"]
    assert found.way == pytest.approx([0.8, -0.3, -2.0])
    assert placement.told(state, found) == {
        "row": placed.points["Q"], "name": "Q", "far": "2.175", "word": "out", "symbol": "▲", "U": "", "mm": 2.175,
        "ways": "2.000 down, 0.800 toward the rail", "zone": 0.1, "side": -1,
    }  # fmt: skip
    near = placement.missing(state, np.array([0.05, 300, 100.05]), 3.0)
    assert near.row.id == placed.points["R"] and near.inside
    assert placement.missing(state, np.array([200.0, 150, 100]), 3.0) is None  # near nothing


def test_a_row_with_limits_of_its_own_is_judged_by_them(placed):
    with transaction() as session:
        raw = {"kind": "point", "name": "S", "nominal": {"shape": "point", "position": (0, 0, 900)}}
        tight = adding.add_row(session, TECHNICIAN, placed.job, raw | {"asked": [{"key": "off", "upper": 0.02}]})
    state = placed.state()
    found = placement.missing(state, np.array([0.0, 0.03, 900]), 3.0)
    assert (found.row.id, found.zone_mm, found.inside) == (tight, 0.02, False)
    assert not placement.missing(state, np.array([0.0, 0.06, 100]), 3.0).inside  # 0.05, where nothing was said
    placement.set_placing(TECHNICIAN, placed.job, form())
    assert placement.missing(placed.state(), np.array([0.0, 0.06, 100]), 3.0).inside


def test_a_surface_that_is_current_is_told_along_its_normal_with_the_tip_off(placed):
    top = placed.plan_plane("Far top", [0, 0, 2000], [0, 0, 1])
    measuring.make_current(TECHNICIAN, placed.job, top)
    found = placement.missing(placed.state(), np.array([70.0, 20, 2005.0]), 3.0)
    assert found.row.id == top
    assert found.way == pytest.approx([0, 0, -2.0], abs=1e-6)


@pytest.mark.parametrize(
    ("wrong", "why"),
    [
        ({"zone": "0"}, "larger than nothing"),
        ({"zone": "nan"}, "zone"),
        ({"+X": "x" * 25}, "at most 24"),
        ({"-Y": "a\x00b"}, "at most"),
    ],
)
def test_nonsense_is_refused_and_what_was_kept_stays(placed, wrong, why):
    placement.set_placing(TECHNICIAN, placed.job, form())
    with pytest.raises(InputError, match=why):
        placement.set_placing(TECHNICIAN, placed.job, form(**wrong))
    kept = placement.Placing.of_job(placed.state().job)
    assert (kept.zone_mm, kept.words["+X"], kept.words["+Y"]) == (0.1, "toward the rail", "toward +Y")


def test_inches(placed):
    from zipplumb.jobs.plan import sheet

    sheet.set_units(TECHNICIAN, placed.job, "in")
    placement.set_placing(TECHNICIAN, placed.job, form(zone="0.01"))
    state = placed.state()
    assert placement.Placing.of_job(state.job).zone_mm == pytest.approx(0.254)
    assert placement.told(state, placement.missing(state, np.array([0.0, 25.4, 100]), 3.0))["far"] == "1.0000"


def test_what_is_watched_is_in_only_where_that_is_sure(placed):
    """JCGM 106: inside the zone less U it is in, beyond the zone and U out, and between not proven."""
    placement.set_placing(TECHNICIAN, placed.job, form(zone="0.1"))
    state = placed.state()
    (station,) = state.kit.stations.values()
    tip = np.array([0.0, 0.0, 100.0])
    u = placement.u_of_watching(state, station, tip, tip)
    assert u > np.hypot(state.stood[station.id].u_hit_mm, 0.0)  # the part is not known for nothing either
    for off, word in ((0.1 - 2.2 * u, "in"), (0.1 - u, "not proven"), (0.1 + u, "not proven"), (0.1 + 2.2 * u, "out")):
        found = placement.missing(state, tip + [off, 0, 0], 3.0, u)
        assert (found.word, found.inside) == (word, word == "in"), off
        assert placement.told(state, found)["U"]
    assert placement.missing(state, tip + [0.099, 0, 0], 3.0).word == "in"
    with transaction() as session:
        session.get(Job, placed.job).rule = "simple"
    state = placed.state()
    assert placement.u_of_watching(state, station, tip, tip) == 0.0


def test_in_the_middle_of_a_bore_it_is_led_onto_the_axis_and_near_its_wall_to_that(placed):
    nominal = {"shape": "cylinder", "point": [0, 0, 3000], "direction": [0, 0, 1], "radius": 40}
    bore = placed.plan(kind="cylinder", name="Seat", nominal=nominal)
    measuring.make_current(TECHNICIAN, placed.job, bore)
    state = placed.state()
    found = placement.missing(state, np.array([1.5, -2.0, 3010.0]), 3.0)
    assert (found.row.id, found.axis) == (bore, True)
    assert found.way == pytest.approx([-1.5, 2.0, 0.0])
    assert placement.told(state, found)["name"] == "Seat, its axis"
    near = placement.missing(state, np.array([35.0, 0, 3010.0]), 3.0)
    assert not near.axis
    assert near.way == pytest.approx([2.0, 0, 0], abs=1e-6)  # the tip off
    nominal = {"shape": "cone", "apex": [0, 0, 3000], "direction": [0, 0, 1], "half_angle": 0.5}
    measuring.make_current(TECHNICIAN, placed.job, placed.plan(kind="cone", name="Cone seat", nominal=nominal))
    assert not placement.missing(placed.state(), np.array([4.0, 0, 3020.0]), 3.0).axis  # its size is told by no radius
    nominal = {"shape": "line", "point": [0, 500, 3000], "direction": [1, 0, 0]}
    edge = placed.plan(kind="line", name="Edge", nominal=nominal, plane_hits=3)
    measuring.make_current(TECHNICIAN, placed.job, edge)
    found = placement.missing(placed.state(), np.array([70.0, 501.0, 3002.0]), 3.0)
    assert found.axis and found.way == pytest.approx([0, -1.0, -2.0])
