"""An instrument that is carried, and two that work at once: what is read waits until its station is tied."""

from dataclasses import replace

import numpy as np
import pytest
from job_bench import TECHNICIAN, Bench, batch, numbers
from scipy.spatial.transform import Rotation

from zipplumb.core.errors import InputError
from zipplumb.core.frames import Motion
from zipplumb.demo.seed import DIAMETER_MM, OFFSET_MM
from zipplumb.jobs.kit import instruments, stations
from zipplumb.jobs.kit.network_text import network_text
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import measuring
from zipplumb.jobs.measure.prompts import prompt
from zipplumb.jobs.plan import adding
from zipplumb.jobs.state.readings import conditions_of
from zipplumb.store.database import transaction
from zipplumb.store.models import Change, Instrument, Job, Reading

NESTS = {"North": (-900.0, 800, 300), "East": (1200.0, 700, 420), "South": (1100.0, -900, 350), "West": (-800.0, -700, 260)}
THERE = Motion(Rotation.from_euler("z", 100, degrees=True).as_matrix(), np.array([2600.0, 300, 20]))  # the second station
OFF = {"East": np.array([0.0, 0.4, 0])}


@pytest.fixture
def nests(bench):
    return {name: bench.plan(kind="point", name=name) for name in NESTS}


def connected(bench):
    with transaction() as session:
        instrument = session.get(Instrument, bench.arm)
        session.expunge(instrument)
    instrument.link_up, instrument.trouble = True, ""
    return type("Seen", (), {"connected": True, "trouble": "", "target": "", "calibration": instrument.calibration})()


def read(bench, row, place, station=None, arm=None):
    measuring.make_current(TECHNICIAN, bench.job, row)
    seen = np.asarray(place) if station is None else station.inverse().points(np.asarray(place))
    presses.keep(arm or bench.arm, batch(center=seen), next(numbers))
    measuring.finish(TECHNICIAN, bench.job)


def carried(bench, nests, count=4, knocked=False):
    """All nests read, the arm carried to the second station, and some of them read from there."""
    for name, row in nests.items():
        read(bench, row, NESTS[name])
    stations.bring(TECHNICIAN, bench.job, bench.arm)
    for name in list(nests)[:count]:
        read(bench, nests[name], np.add(NESTS[name], OFF.get(name, 0.0) if knocked else 0.0), THERE)


def test_carried_it_stands_at_a_new_station_and_is_led_round_the_points_that_tie_it(bench, nests):
    for name, row in nests.items():
        read(bench, row, NESTS[name])
    assert network_text(bench.state()).ready
    stations.bring(TECHNICIAN, bench.job, bench.arm)
    stations.bring(TECHNICIAN, bench.job, bench.arm)  # pressed twice: nothing was read there yet
    state = bench.state()
    assert [s.name for s in state.kit.stations.values()] == ["Station 1", "Station 2"]
    assert state.current.id == nests["North"]
    said = prompt(state, connected(bench))
    assert "North" in said.title and said.title.endswith("from here too.") and "0 of 3" in said.line and said.hits == 0
    for name in ("North", "East", "South"):
        assert bench.state().current.recipe.name == name
        presses.keep(bench.arm, batch(center=THERE.inverse().points(np.array(NESTS[name]))), next(numbers))
        measuring.finish(TECHNICIAN, bench.job)
    state = bench.state()
    assert state.current.recipe.name == "West"
    assert "is tied by 3 common points" in prompt(state, connected(bench)).line
    assert np.allclose(state.stations[list(state.kit.stations)[1]].world_from_station.translation, THERE.translation, atol=1e-6)
    assert "With a fourth" in network_text(state).worth  # three: a knocked one is found out, and cannot be named


def test_what_is_read_before_it_is_tied_waits_and_then_stands_where_it_is(bench, nests):
    carried(bench, nests, 2)
    top = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1])
    measuring.make_current(TECHNICIAN, bench.job, top)
    for x, y in ((0, 0), (300, 0), (300, 200), (0, 200)):
        center = np.array([x, y, 60 + DIAMETER_MM / 2])
        hit = batch(center=THERE.inverse().points(center), came_from=THERE.inverse().points(center + [0, 0, 15]))
        presses.keep(bench.arm, hit, next(numbers))
    waits = bench.state().results[top]
    assert (waits.state, waits.hits) == ("waits", 4)
    assert "Station 2 is not tied to Station 1" in waits.message and "wait" in waits.message
    read(bench, nests["South"], NESTS["South"], THERE)
    measuring.make_current(TECHNICIAN, bench.job, top)
    measuring.finish(TECHNICIAN, bench.job)
    shape = bench.state().results[top].feature.shape
    assert shape.distance(np.array([[150.0, 100, 60]])) == pytest.approx(0, abs=1e-6)


def test_a_knocked_nest_is_named_set_aside_and_counted_again(bench, nests):
    carried(bench, nests, knocked=True)
    found = network_text(bench.state())
    assert "contradict" in found.doubt
    second = list(bench.state().kit.stations)[1]
    with pytest.raises(InputError, match="station is not there"):
        stations.set_sighting_aside(TECHNICIAN, bench.job, nests["East"], 10**6, True)
    stations.set_sighting_aside(TECHNICIAN, bench.job, nests["East"], second, True)
    found = network_text(bench.state())
    assert not found.doubt
    assert [c.state for c in next(p for p in found.points if p.name == "East").cells] == ["", "aside"]
    stood = [bench.state().stations[second].world_from_station]
    stations.set_sighting_aside(TECHNICIAN, bench.job, nests["East"], second, False)
    stood.append(bench.state().stations[second].world_from_station)
    with transaction() as session:
        told = stations.last_effect(session, bench.state())
    went = np.linalg.norm(stood[0].translation - stood[1].translation)
    assert told.startswith(f"East from Station 2 was counted again: Station 2 went {went:.3f} mm and turned")
    assert "contradict" in network_text(bench.state()).doubt
    with transaction() as session:
        acts = {c.act for c in session.query(Change).filter(Change.job_id == bench.job)}
    assert {"set a sighting aside", "count a sighting again"} <= acts


def test_what_is_left_of_every_sighting_is_drawn_on_the_part(bench):
    rows = {name: bench.plan(kind="point", name=name, nominal={"shape": "point", "position": at}) for name, at in NESTS.items()}
    carried(bench, rows, knocked=True)
    assert network_text(bench.state()).lines == ()  # nothing is aligned
    with transaction() as session:
        system = {"kind": "reference_points", "name": "Reference", "points": list(rows.values())}
        session.get(Job, bench.job).alignment_row_id = adding.add_row(session, TECHNICIAN, bench.job, system)
    found = network_text(bench.state())
    lines = np.array(found.lines)
    lengths = np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1)
    assert lines.shape == (8, 2, 3) and found.times >= 100
    assert 100 < lengths.max() < 200
    longest = lines[lengths.argmax(), 0]
    assert np.linalg.norm(longest - NESTS["East"]) < 1.0  # begins where the knocked one is worked out to lie


def test_two_instruments_work_at_once_and_the_first_reading_stays_the_world(bench, nests, stack):
    other = Bench(stack)
    stations.bring(TECHNICIAN, bench.job, other.arm)  # brought first of all, read from last
    for name, row in nests.items():
        read(bench, row, NESTS[name])
        read(bench, row, NESTS[name], THERE, other.arm)
    state = bench.state()
    worlds = [s for s in state.stations.values() if s.pose_terms is None]
    assert [state.stood[s.id].name for s in worlds] == [f"Arm of job {bench.job}"]
    assert {text.word for text in network_text(state).stations} == {"the world", "tied"}
    assert network_text(state).stations[1].line.startswith("by 4 common points")


def test_it_was_not_moved_so_it_stands_where_it_stood(bench, nests, stack):
    elsewhere = Bench(stack)
    read(bench, nests["North"], NESTS["North"])
    stations.bring(TECHNICIAN, elsewhere.job, bench.arm)
    stations.bring(TECHNICIAN, bench.job, bench.arm, unmoved=True)
    assert len(bench.state().kit.stations) == 1
    stations.bring(TECHNICIAN, elsewhere.job, bench.arm)
    stations.bring(TECHNICIAN, bench.job, bench.arm)
    assert len(bench.state().kit.stations) == 2


def test_before_it_is_moved_it_is_said_what_is_still_to_be_read(bench, nests):
    assert "none is seen from Station 1" in network_text(bench.state()).before
    line = {"a": (0.0, 0, 100), "b": (500.0, 0, 100), "c": (1000.0, 3, 100)}
    for name, place in line.items():
        read(bench, bench.plan(kind="point", name=name), place)
    assert "nearly on one line" in network_text(bench.state()).before
    read(bench, nests["North"], NESTS["North"])
    found = network_text(bench.state())
    assert found.ready and "enough to move it" in found.before


def test_what_a_tracker_states_is_kept_with_what_it_read(bench, nests):
    with transaction() as session:
        instrument = session.get(Instrument, bench.arm)
        instrument.spec = {"range_mm": 0.01, "range_per_m_mm": 0.002, "angle_rad": 4e-6}
        assert conditions_of(instrument, batch())["spec"] == instrument.spec
    read(bench, nests["North"], (9000.0, 0, 0))
    with transaction() as session:
        session.get(Instrument, bench.arm).spec = {"range_mm": 1.0, "range_per_m_mm": 1.0, "angle_rad": 1.0}
        kept = session.query(Reading).filter(Reading.job_id == bench.job).one()
        assert kept.conditions["spec"]["range_mm"] == 0.01
    state = bench.state()
    assert state.results[nests["North"]].feature.u_hit_mm == pytest.approx(4e-6 * np.hypot(9000, 183), rel=0.01)
    assert replace(state.readings[nests["North"]]).stated


def test_an_instrument_comes_back_to_where_it_never_left(bench):
    """Another was brought meanwhile: both stand at the job, and the one that was brought last is measured with."""
    other = instruments.add_instrument(f"Other of job {bench.job}", "arm", "127.0.0.1", 1, 0.012)
    instruments.add_calibrated_probe(other, f"other ball {bench.job}", OFFSET_MM, DIAMETER_MM, 0.01, 0.002, "")
    assert bench.state().instrument.id == bench.arm
    first = bench.state().station.id
    stations.bring(TECHNICIAN, bench.job, other)
    assert bench.state().instrument.id == other
    stations.bring(TECHNICIAN, bench.job, bench.arm, unmoved=True)
    assert (bench.state().instrument.id, bench.state().station.id) == (bench.arm, first)
    stations.bring(TECHNICIAN, bench.job, other, unmoved=True)
    assert bench.state().instrument.id == other
    assert len(bench.state().kit.stations) == 2  # nobody was carried
