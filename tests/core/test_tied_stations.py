"""Stations tied by points that they see in common: made-up shops whose truth is known."""

from dataclasses import replace

import numpy as np
import pytest
from block import UP
from scipy.spatial.transform import Rotation

from zipplumb.core.calibration import ProbeCalibration
from zipplumb.core.errors import InputError
from zipplumb.core.frames import Motion, perpendicular_pair
from zipplumb.core.network import InstrumentClass
from zipplumb.core.probing.balls import usual_ball
from zipplumb.core.readings import HitSet
from zipplumb.core.sheet import Kit, Sheet, SheetRow, StationPose, Untied, evaluate, recipe_from_dict

TIP = 19.05
TRACKER = InstrumentClass(0.005, 0.001, 3e-6)
TRUE = {1: Motion.identity(), 2: Motion(Rotation.from_euler("z", 110, degrees=True).as_matrix(), np.array([5200.0, 900, -40])),
        3: Motion(Rotation.from_euler("z", -80, degrees=True).as_matrix(), np.array([2500.0, -3000, 60]))}  # fmt: skip
ON_A_LINE = np.outer([0, 1, 2.0], [900, 300, 10])
NESTS = np.array([[1500.0, -900, 200], [3500, -800, 350], [3600, 1500, 250], [1400, 1600, 300], [2500, 300, 1400]])
REFLECTOR = {1: ProbeCalibration(1, np.zeros(3), 2 * TIP, 0.0)}


def stood_at(*stations):
    return Kit({k: StationPose(k, Motion.identity(), name=f"Station {k}") for k in stations}, REFLECTOR)


KIT = stood_at(1, 2)


class Shop:
    """Points and planes, each read from some of the stations."""

    def __init__(self, random=None, kit=KIT, knocked=()):
        self.random, self.kit, self.rows, self.readings = random, kit, [], {}
        self.knocked = dict(knocked)

    def add(self, raw, places=None, seen_from=(), outward=None):
        number = len(self.rows) + 1
        self.rows.append(SheetRow(number, recipe_from_dict({"name": f"Row {number}", **raw}), True))
        if seen_from:
            self.readings[number] = self.read(number, np.atleast_2d(places), seen_from, outward)
        return number

    def read(self, number, places, seen_from, outward=None):
        poses, stations, away = [], [], []
        for station in seen_from:
            into = TRUE[station].inverse()
            for place in places + self.knocked.get((number, station), 0.0):
                local = into.points(place)
                far = np.linalg.norm(local)
                if self.random is not None:
                    along = local / far
                    u, v = perpendicular_pair(along)
                    local = local + self.random.normal(0, TRACKER.range_mm + TRACKER.range_per_m_mm * far / 1000) * along
                    local = local + TRACKER.angle_rad * far * (self.random.normal() * u + self.random.normal() * v)
                poses.append([*local, 1, 0, 0, 0])
                stations.append(station)
                away.append([*into.points(place + 50 * (UP if outward is None else outward)), 1, 0, 0, 0])
        n, ones = len(poses), np.ones(len(poses), int)
        return HitSet(
            tuple(f"{number}.{k}" for k in range(n)), np.array(poses), np.array(away), np.zeros(n, bool), np.array(stations),
            ones, np.arange(n, dtype=float), np.array(away[-1]), int(stations[-1]), 1, u_hit_mm=0.01,
            stated=dict.fromkeys(seen_from, TRACKER),
        )  # fmt: skip

    def nests(self, count=5, seen_from=(1, 2)):
        for place in NESTS[:count]:
            self.add({"kind": "point"}, place, seen_from)

    def plane(self, height, seen_from):
        corners = np.array(
            [[2000.0, 0, height], [3000, 0, height], [3000, 800, height], [2000, 800, height], [2500, 400, height]]
        )
        nominal = {"shape": "plane", "point": (2500, 400, height), "normal": (0, 0, 1)}
        return self.add({"kind": "plane", "nominal": nominal}, corners + TIP * UP, seen_from, UP)

    def worked_out(self, previous=None):
        return evaluate(Sheet(tuple(self.rows)), self.readings, self.kit, previous)


def test_what_is_read_from_another_station_stands_in_the_world():
    shop = Shop()
    shop.nests()
    low, high = shop.plane(100.0, (1,)), shop.plane(400.0, (2,))
    step = shop.add({"kind": "dimension", "of": [low, high], "measure": "perpendicular_distance"})
    results, memory = shop.worked_out()
    assert results[high].feature.shape.distance(np.array([[2500.0, 400, 400]])) == pytest.approx(0, abs=1e-6)
    assert results[step].first.actual == pytest.approx(300, abs=1e-6)
    assert results[step].first.uncertainty.share(("station", 0)) > 1e-3  # where it stands is known as well as its points are
    assert memory.network.network.spare == 30 - 15 - 6
    assert np.allclose(memory.stations[2].world_from_station.translation, TRUE[2].translation, atol=1e-6)


@pytest.mark.parametrize(
    ("places", "why"), [(NESTS[:2], "three are needed"), (np.outer([0, 1, 2.0], [900, 300, 10]), "one line")]
)
def test_a_station_that_is_not_tied_keeps_its_hits_and_says_what_is_missing(places, why):
    shop = Shop()
    for place in places:
        shop.add({"kind": "point"}, place + [1000, 0, 0], (1, 2))
    far = shop.plane(400.0, (2,))
    results, memory = shop.worked_out()
    assert results[far].state == "waits"
    assert "Station 2 is not tied to Station 1" in results[far].message and why in results[far].message
    assert results[far].hits == 5
    assert isinstance(memory.stations[2], Untied)
    assert results[1].state == "done"  # of what the world sees of it
    assert any("not tied" in words for words in results[1].warnings)
    shop.add({"kind": "point"}, NESTS[4], (1, 2))
    assert shop.worked_out(memory)[0][far].state == "done"


def test_the_world_stays_where_it_is_whatever_is_set_aside():
    shop = Shop(np.random.default_rng(3))
    shop.nests()
    near = shop.plane(100.0, (1,))
    results, memory = shop.worked_out()
    before = results[near].feature.shape.point
    reading = shop.readings[2]
    shop.readings[2] = replace(reading, aside=reading.stations == 1)
    results, memory = shop.worked_out(memory)
    assert np.array_equal(results[near].feature.shape.point, before)
    assert memory.network.network.points == ("Row 1", "Row 3", "Row 4", "Row 5")


def test_what_changed_is_worked_out_as_if_all_were():
    shop = Shop(np.random.default_rng(4))
    shop.nests()
    planes = [shop.plane(100.0, (1,)), shop.plane(400.0, (2,))]
    _, memory = shop.worked_out()
    shop.readings[3] = replace(shop.readings[3], keys=("new", "newer"), poses=shop.readings[3].poses + [0.02, 0, 0, 0, 0, 0, 0])
    changed, fresh = shop.worked_out(memory)[0], shop.worked_out()[0]
    for row in (3, *planes):
        assert (
            changed[row].feature.feature.shape.same_as(fresh[row].feature.feature.shape)
            if hasattr(changed[row].feature.feature.shape, "same_as")
            else np.allclose(changed[row].feature.centers, fresh[row].feature.centers, atol=1e-12)
        )
    assert not np.allclose(changed[planes[1]].feature.centers, memory.results[planes[1]].feature.centers, atol=1e-6)


def test_a_nest_that_was_knocked_is_named_and_nothing_that_rests_on_it_is_proven():
    shop = Shop(np.random.default_rng(5), knocked=[((4, 2), np.array([0.0, 0.3, 0.0]))])
    shop.nests()
    far = shop.plane(400.0, (2,))
    results, memory = shop.worked_out()
    worst = memory.network.worst
    assert (worst.point, worst.station) in {("Row 4", "Station 2"), ("Row 4", "Station 1")}
    assert worst.sigmas > 6
    assert "Row 4" in memory.network.doubt
    assert any("contradict" in doubt for doubt in results[far].doubts)
    reading = shop.readings[4]
    shop.readings[4] = replace(reading, aside=reading.stations == 2)
    results, memory = shop.worked_out(memory)
    assert not memory.network.doubt and not results[far].doubts


def test_a_station_seen_only_through_another_is_tied_and_one_that_is_not_holds_nobody_up():
    shop = Shop(kit=stood_at(1, 2, 3))
    shop.nests(3, (1, 2))
    results, memory = shop.worked_out()
    assert [type(memory.stations[k]).__name__ for k in (1, 2, 3)] == ["StationPose", "StationPose", "Untied"]
    for place in NESTS[2:] + [0, 0, 40.0]:
        shop.add({"kind": "point"}, place, (2, 3))
    far = shop.plane(400.0, (3,))
    results, memory = shop.worked_out(memory)
    assert results[far].feature.shape.distance(np.array([[2500.0, 400, 400]])) == pytest.approx(0, abs=1e-6)


def test_a_tracker_is_as_sure_as_its_maker_states_at_the_range_of_each_hit():
    shop = Shop()
    near, far = shop.add({"kind": "point"}, [1000.0, 0, 0], (1,)), shop.add({"kind": "point"}, [20000.0, 0, 0], (1,))
    results, _ = shop.worked_out()
    assert [results[k].feature.u_hit_mm for k in (near, far)] == pytest.approx([0.006, 0.06])


def test_distances_across_stations_hold_the_truth_as_often_as_stated():
    """Both ends seen from their own station; the tie by five nests, its uncertainty shared with the points' own."""
    held, runs = 0, 600
    for seed in range(runs):
        shop = Shop(np.random.default_rng(seed))
        shop.nests()
        ends = [shop.add({"kind": "point"}, [2500.0, 0, 100], (1,)), shop.add({"kind": "point"}, [2500.0, 900, 300], (2,))]
        length = shop.add({"kind": "dimension", "of": ends, "measure": "distance_of_the_middles"})
        found = shop.worked_out()[0][length].first
        held += abs(found.actual - np.hypot(900, 200)) <= found.U
    assert 0.93 < held / runs < 0.985, held / runs


def test_a_scale_bar_bears_on_how_the_stations_stand_and_is_checked():
    """With what two stations saw, a bar between two nests that is certified 0.3 shorter than it is pulls these together, and
    its own row says that it is out; one that is right says in. A bar of which one end is seen once bears on nothing."""
    random = np.random.default_rng(5)
    shop = Shop(random)
    shop.nests()
    alone = shop.add({"kind": "point"}, [2000.0, 0, 300], (1,))
    true = float(np.linalg.norm(NESTS[0] - NESTS[1]))
    bars = [shop.add({"kind": "scale_bar", "of": [1, 2], "length_mm": true - off, "u_mm": 0.002, "within_mm": 0.05})
            for off in (0.0, 0.3)]  # fmt: skip
    single = shop.add({"kind": "scale_bar", "of": [1, alone], "length_mm": 1000.0, "within_mm": 0.05})
    results, memory = shop.worked_out()
    assert [results[row].verdict.word for row in bars] == ["in", "out"]
    assert results[bars[0]].first.uncertainty.share(("bar", bars[0])) == pytest.approx(0.002)
    assert set(memory.network.bars) == set(bars) and results[single].verdict.word == "out"
    assert memory.network.bars[bars[1]] == pytest.approx(memory.network.bars[bars[0]] - 0.3, abs=1e-9)
    assert memory.network.doubt  # two bars that contradict one another are not believed
    right = replace_rows(shop, without={bars[1], single})
    clean, tied = evaluate(right, shop.readings, shop.kit)
    assert not tied.network.doubt and abs(tied.network.bars[bars[0]]) < 0.01
    assert tied.network.network.spare == memory.network.network.spare - 1
    again, told = evaluate(right, shop.readings, shop.kit, memory)  # as if all were worked out anew
    assert told.network.bars == pytest.approx(tied.network.bars, abs=1e-12)
    assert again[bars[0]].first.actual == pytest.approx(clean[bars[0]].first.actual, abs=1e-12)


def replace_rows(shop, without):
    return Sheet(tuple(row for row in shop.rows if row.id not in without))


def test_finish_pressed_at_a_new_station_before_a_hit_there_spoils_nothing():
    """The row keeps what the world saw of it; only its pull-off, from where nobody knows yet, is not looked at."""
    shop = Shop()
    shop.nests(seen_from=(1,))
    face = shop.plane(400.0, (1,))
    before = shop.worked_out()[0]
    for row in (1, face):
        shop.readings[row] = replace(shop.readings[row], pull_off_station=2)
    results, _ = shop.worked_out()
    assert (results[1].state, results[face].state) == ("done", "done"), results[face].message
    assert np.allclose(results[1].feature.shape.position, before[1].feature.shape.position)


# ---- places that are known beforehand ---------------------------------------------------------

SHOP = Motion(Rotation.from_euler("xyz", [3, -2, 40], degrees=True).as_matrix(), np.array([900.0, -300, 50]))


def known(shop, places, seen_from, off=(0.0, 0.0, 0.0)):
    """Points whose places are told in the shop's own axes; ``off``: the first one's is told wrong by so much."""
    for k, place in enumerate(places):
        at = (SHOP.points(place) + (off if k == 0 else 0.0)).tolist()
        nominal = {"shape": "point", "position": at}
        shop.add({"kind": "point", "known_u_mm": 0.02, "nominal": nominal}, place, seen_from)


def test_known_places_tie_stations_that_see_no_point_together():
    shop = Shop()
    known(shop, NESTS[:4], (1,))
    known(shop, NESTS[1:] + [0.0, 0.0, 900.0], (2,))
    _, memory = shop.worked_out()
    assert not memory.network.untied
    stood = memory.stations[2]
    assert np.allclose(stood.world_from_station.rotation, TRUE[2].rotation, atol=1e-9)
    assert np.allclose(stood.world_from_station.translation, TRUE[2].translation, atol=1e-6)
    assert stood.pose_terms is not None
    u = np.sqrt(np.sum(stood.pose_terms[:3] ** 2, axis=1))
    assert np.all(u > 0.01)  # no better than the places are known


def test_a_known_place_that_is_told_wrong_is_named():
    shop = Shop(np.random.default_rng(3))
    known(shop, NESTS, (1, 2), (0.0, 0.6, 0.0))
    _, memory = shop.worked_out()
    assert "Row 1 seen from the known places" in memory.network.doubt


def test_fewer_than_three_known_places_tie_nothing_and_what_is_known_needs_a_nominal():
    shop = Shop()
    known(shop, NESTS[:2], (1,))
    known(shop, NESTS[:2] + [0.0, 0.0, 900.0], (2,))
    _, memory = shop.worked_out()
    assert isinstance(memory.stations[2], Untied)
    with pytest.raises(InputError, match="a known place has a nominal"):
        recipe_from_dict({"kind": "point", "name": "N", "known_u_mm": 0.02})


def test_two_points_taken_for_each_other_are_named():
    shop = Shop(np.random.default_rng(8))
    shop.nests()
    second, fourth = shop.readings[2], shop.readings[4]
    from_two = second.stations == 2
    poses = [np.where(from_two[:, None], b.poses, a.poses) for a, b in ((second, fourth), (fourth, second))]
    shop.readings[2], shop.readings[4] = (replace(r, poses=p) for r, p in zip((second, fourth), poses, strict=True))
    _, memory = shop.worked_out()
    assert "Row 2 and Row 4 seen from Station" in memory.network.doubt.replace("Row 4 and Row 2", "Row 2 and Row 4")
    assert "exchanged" in memory.network.doubt


def with_another_ball(shop, rows, station, diameter):
    """Those rows were read from a station with a ball of that size: in a cone of 90° its center rests elsewhere."""
    shop.kit = replace(shop.kit, calibrations={**REFLECTOR, 2: ProbeCalibration(2, np.zeros(3), diameter, 0.0)})
    lower = TRUE[station].inverse().vectors((2 * TIP - diameter) / 2 * np.sqrt(2) * UP)
    for row in rows:
        reading = shop.readings[row]
        mine = reading.stations == station
        poses = reading.poses - np.where(mine[:, None], [*lower, 0, 0, 0, 0], 0.0)
        shop.readings[row] = replace(reading, poses=poses, calibrations=np.where(mine, 2, reading.calibrations))


def test_nests_read_with_a_ball_of_another_size_tie_nothing_and_say_so():
    """All would stand lower alike, which no adjustment notices."""
    shop = Shop(np.random.default_rng(9))
    shop.nests()
    with_another_ball(shop, range(1, 6), 2, 25.0)
    results, memory = shop.worked_out()
    assert "5 points were read from it with a ball of another size" in memory.stations[2].message
    shop = Shop(np.random.default_rng(9))
    shop.nests()
    with_another_ball(shop, (2,), 2, 12.7)
    results, memory = shop.worked_out()
    assert memory.network.unlike == {2: (2,)} and not memory.network.doubt
    assert any("balls of 38.1\N{NO-BREAK SPACE}mm and of 12.7\N{NO-BREAK SPACE}mm" in doubt for doubt in results[2].doubts)
    assert not results[1].doubts
    assert np.allclose(memory.stations[2].world_from_station.translation, TRUE[2].translation, atol=0.05)
    shop = Shop(np.random.default_rng(9))
    shop.nests()
    with_another_ball(shop, range(1, 6), 2, 38.102)  # the same, made a little differently
    assert not shop.worked_out()[0][1].doubts


def test_the_usual_ball_is_that_of_most_centers_and_else_the_first():
    assert usual_ball(np.array([12.7, 38.1, 38.11])) == pytest.approx(38.1, abs=0.02)
    assert usual_ball(np.array([38.1, 12.7])) == 38.1
    assert usual_ball(np.array([12.7, 38.1])) == 12.7
    assert usual_ball(np.full(10_000, 38.1)) == 38.1
