"""Maps and pins in a job: planned with limits, worked out by workers, drawn, asked at a place, pinned, and reported."""

import csv
import io
import itertools
from dataclasses import replace

import numpy as np
import pye57
import pytest
import trimesh
from job_bench import REVIEWER, TECHNICIAN, batch
from scan_bench import ScannedBench, lit, numbers

from zipplumb.core.errors import InputError, PlumbError
from zipplumb.core.sheet.maps.limits import PlaceLimits
from zipplumb.exchange.clouds import formats
from zipplumb.jobs.link import presses
from zipplumb.jobs.measure import map_limits, maps
from zipplumb.jobs.measure.maps import TypedLimits
from zipplumb.jobs.plan import on_model, standing
from zipplumb.jobs.plan.on_model import Wanted
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.scans import Cloud

HIGH_MM = 0.6  # a part of what was scanned lies so much over the top
AT_HIGH, AT_LEVEL = np.array([-220.0, -60, 60]), np.array([-220.0, -95, 60])


@pytest.fixture(scope="module")
def mapped(stack):
    """The top of the carrier, level and then too high, under a map with limits."""
    bench = ScannedBench.aligned(stack)
    for k in range(30):
        presses.keep(bench.arm, lit(-70.0 + 0.6 * k, z=60 + HIGH_MM), next(numbers))
    for k in range(30):
        presses.keep(bench.arm, lit(-100 + 0.6 * k), next(numbers))
    presses.finish(bench.arm, batch("pull_off"), next(numbers))
    bench.scan_row = next(row.id for row in bench.state().rows if row.recipe.kind == "scan")
    bench.work()
    bench.map_row = maps.plan(TECHNICIAN, bench.job, bench.scan_row, 1.0, TypedLimits(-0.3, 0.3))
    bench.work()
    return bench


@pytest.fixture
def state(mapped):
    with snapshot() as session:
        yield load(session, mapped.job)


def test_a_map_says_where_it_is_out_and_is_worked_out_once(mapped, state):
    found = state.results[mapped.map_row]
    assert found.state == "done", found.message
    assert found.characteristic("largest").actual == pytest.approx(HIGH_MM, abs=0.01)
    assert found.characteristic("largest").verdict.word == "out"
    assert found.characteristic("smallest").verdict.word == "in"
    judged = maps.map_of(state, mapped.map_row)
    assert judged.whole.shares[2] == pytest.approx(0.5, abs=0.1)
    assert judged.found.result.read == 60 * 400
    with transaction() as session:
        assert session.query(Cloud).filter(Cloud.job_id == mapped.job, Cloud.what == "map").count() == 1


def test_steps_bars_and_what_is_drawn_tell_the_same(mapped, state):
    judged = maps.map_of(state, mapped.map_row)
    steps = maps.steps_of(judged)
    assert (len(steps), steps[0], steps[-1]) == (8, -0.3, 0.3)
    bars = maps.bars_of(judged)
    assert sum(bar.count for bar in bars) == judged.whole.places
    assert {bar.step for bar in bars if bar.count > 20} == {4, 8}  # the middle, and beyond the upper limit
    assert all(a.high == b.low for a, b in itertools.pairwise(bars))
    drawn, size = maps.drawn_of(state, mapped.map_row)
    assert size == judged.found.result.step_mm
    assert drawn.shape == (judged.whole.places, 5)
    assert np.allclose(drawn[:, 2], 60, atol=1e-3)  # on the part's surface, not where it was seen
    assert set(drawn[:, 4].astype(int)) == {128 * 65536 + 128 * 256 + 255}  # it faces up
    nothing = PlaceLimits(np.full(judged.whole.places, -np.inf), np.full(judged.whole.places, np.inf))
    without = maps.steps_of(replace(judged, limits=nothing))
    assert without[0] == -without[-1]
    assert without[-1] == pytest.approx(1.2 * HIGH_MM, rel=0.05)


def test_at_a_place_it_says_how_far_how_sure_and_on_what(mapped, state):
    told = maps.told_at(state, mapped.map_row, AT_HIGH)
    assert told.words.startswith("+0.600 mm (U 0.1")
    assert told.words.endswith(": out")
    assert maps.told_at(state, mapped.map_row, AT_LEVEL).words.endswith(": in")
    with pytest.raises(InputError, match="Nothing was seen there"):
        maps.told_at(state, mapped.map_row, np.array([200.0, 0, 60]))
    with pytest.raises(InputError, match="no map to be seen"):
        maps.told_at(state, mapped.scan_row, AT_HIGH)


def test_pins_are_rows_that_follow_their_map_and_keep_it_on_the_sheet(mapped):
    high = maps.pin(TECHNICIAN, mapped.job, mapped.map_row, AT_HIGH)
    worst = maps.pin_worst(TECHNICIAN, mapped.job, mapped.map_row)
    state = mapped.state()
    assert [state.row(i).recipe.name for i in (high, *worst)] == ["Pin 1", "Pin 2"]
    assert state.results[high].first.actual == pytest.approx(HIGH_MM, abs=0.01)
    assert state.results[high].verdict.word == "out"
    assert state.results[worst[0]].first.actual >= state.results[high].first.actual
    with pytest.raises(InputError, match="Pin 1"):
        standing.remove(TECHNICIAN, mapped.job, [mapped.map_row])
    with pytest.raises(InputError, match="Nothing was seen there"):
        maps.pin(TECHNICIAN, mapped.job, mapped.map_row, np.array([0.0, 0, 0]))
    with pytest.raises(PlumbError):
        maps.pin(REVIEWER, mapped.job, mapped.map_row, AT_HIGH)


def test_what_is_written_as_ply_is_read_again_by_another_library(mapped, state):
    """Outside: trimesh."""
    judged = maps.map_of(state, mapped.map_row)
    read = trimesh.load(io.BytesIO(maps.file_of(state, mapped.map_row, "ply")), file_type="ply")
    vertices = read.metadata["_ply_raw"]["vertex"]["data"]
    places = judged.found.places
    assert np.array_equal(vertices["deviation"], places.means)
    assert np.array_equal(vertices["points"], places.counts)
    assert np.allclose(read.vertices, places.points + places.means[:, None] * places.normals)


def test_what_is_written_as_e57_is_read_again_equal_and_csv_tells_the_faces(mapped, state, tmp_path):
    """Outside: pye57."""
    judged = maps.map_of(state, mapped.map_row)
    (tmp_path / "a.e57").write_bytes(maps.file_of(state, mapped.map_row, "e57"))
    (block,) = formats.opened(tmp_path / "a.e57", 0.0).blocks
    assert np.allclose(block.points, judged.found.seen, atol=1e-9)
    assert "zipplumb:deviation" in pye57.E57(str(tmp_path / "a.e57")).get_header(0).point_fields
    lines = list(csv.DictReader(io.StringIO(maps.file_of(state, mapped.map_row, "csv").decode("utf-8-sig"))))
    assert [int(line["Places"]) for line in lines] == [
        len(judged.found.places),
        *(f.places for _, f in maps.farthest_off(judged)),
    ]
    assert float(lines[0]["Farthest out, mm"]) == pytest.approx(HIGH_MM, abs=0.01)
    with pytest.raises(InputError, match="PLY, E57 or CSV"):
        maps.file_of(state, mapped.map_row, "exe")


def test_reports_tell_it_face_by_face(mapped, state):
    (table,) = maps.map_tables(state)
    assert table.name == "Surface map 1"
    assert "% out" in table.told
    assert table.whole.places == sum(line.places for line in table.faces)
    assert table.whole.numbers[5] == pytest.approx(HIGH_MM, abs=0.01)
    assert len(table.cells()) == 1 + len(table.faces)
    assert maps.map_tables(state, [mapped.scan_row]) == []


def test_two_maps_are_compared_and_drawn(mapped):
    wider = maps.plan(TECHNICIAN, mapped.job, mapped.scan_row, 2.0, TypedLimits(-0.3, 0.3))
    mapped.work()
    both = maps.compare(TECHNICIAN, mapped.job, wider, mapped.map_row, TypedLimits(-0.2, 0.2))
    state = mapped.state()
    found = state.results[both]
    assert found.state == "done", found.message
    assert found.characteristic("largest").actual == pytest.approx(0, abs=1e-6)
    assert len(maps.drawn_of(state, both)[0]) == len(found.map.found.places)
    with pytest.raises(InputError, match="Two maps of this job"):
        maps.compare(TECHNICIAN, mapped.job, wider, mapped.scan_row, TypedLimits())
    with pytest.raises(InputError, match="Two maps of this job"):
        maps.compare(TECHNICIAN, mapped.job, wider, wider, TypedLimits())
    standing.remove(TECHNICIAN, mapped.job, [both])
    standing.remove(TECHNICIAN, mapped.job, [wider])


def test_what_makes_no_sense_is_refused_and_a_map_without_a_part_says_so(mapped):
    with pytest.raises(InputError, match="upper limit lies under"):
        maps.plan(TECHNICIAN, mapped.job, mapped.scan_row, 1.0, TypedLimits(0.2, 0.1))
    with pytest.raises(InputError):
        maps.plan(TECHNICIAN, mapped.job, mapped.map_row, 1.0, TypedLimits())  # that is no scan
    with pytest.raises(PlumbError):
        maps.plan(REVIEWER, mapped.job, mapped.scan_row, 1.0, TypedLimits())
    far = maps.plan(TECHNICIAN, mapped.job, mapped.scan_row, 0.001, TypedLimits(-0.3))
    state = mapped.work()
    assert maps.map_of(state, far).whole.largest < 0.001  # what lies farther off is not of the part
    standing.remove(TECHNICIAN, mapped.job, [far])


def test_a_face_may_have_limits_of_its_own_and_the_map_is_judged_by_them(mapped):
    """Half of the top lies 0.6 mm too high; of it alone 1 mm is asked, then what its profile says."""
    own = maps.plan(TECHNICIAN, mapped.job, mapped.scan_row, 1.0, TypedLimits(-0.3, 0.3))
    mapped.work()
    face = int(maps.map_of(mapped.state(), own).found.places.faces[0])
    map_limits.of_face(TECHNICIAN, mapped.job, own, face, TypedLimits(-1.0, 1.0))
    with snapshot() as session:
        state = load(session, mapped.job)
        found = state.results[own]
        assert (found.first.key, found.first.verdict.word) == ("worst", "in")
        assert found.characteristic("largest").verdict is None
        judged = maps.map_of(state, own)
        assert (judged.words == 0).all()
        assert maps.scale_of(judged, "mm")[0] == "-100 %"
        drawn, _ = maps.drawn_of(state, own)
        assert drawn[:, 3].max() == pytest.approx(100 * HIGH_MM, abs=3)
        assert maps.told_at(state, own, AT_HIGH).words.endswith(": in, limits −1.000 to +1.000")
        (table,) = maps.map_tables(state, [own])
        assert table.cells()[1][-2:] == [-1.0, 1.0]
        assert table.cells()[0][-2:] == [None, None]

    on_model.put(TECHNICIAN, mapped.job, [face], Wanted("surface_profile", 0.8))
    assert map_limits.by_profiles(TECHNICIAN, mapped.job, own) == 1
    found = mapped.state().results[own]
    assert (found.first.lower, found.first.upper) == (-0.4, 0.4)
    assert found.first.verdict.word == "out"
    map_limits.of_face(TECHNICIAN, mapped.job, own, face, TypedLimits())
    found = mapped.state().results[own]
    assert found.first.key == "largest"
    assert found.verdict.word == "out"


def test_limits_that_judge_nothing_are_refused_and_nothing_is_changed(mapped):
    before = mapped.state().row(mapped.map_row).recipe
    with pytest.raises(InputError, match="Nothing of this map lies on that face"):
        map_limits.of_face(TECHNICIAN, mapped.job, mapped.map_row, 4_000, TypedLimits(-1, 1))
    with pytest.raises(InputError, match="upper limit lies under"):
        map_limits.of_face(TECHNICIAN, mapped.job, mapped.map_row, 0, TypedLimits(1, -1))
    with pytest.raises(InputError, match="no map to be seen"):
        map_limits.by_profiles(TECHNICIAN, mapped.job, mapped.scan_row)
    with pytest.raises(PlumbError):
        map_limits.by_profiles(REVIEWER, mapped.job, mapped.map_row)
    assert mapped.state().row(mapped.map_row).recipe == before
