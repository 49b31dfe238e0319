"""Scans that come as files: a row like any other, in coordinates of its own or of a station, and what cannot be read."""

import io

import numpy as np
import pytest
from job_bench import REVIEWER, TECHNICIAN, Bench
from scan_bench import ScannedBench

from zipplumb.core.errors import InputError, PlumbError
from zipplumb.exchange.clouds.e57 import write_e57
from zipplumb.jobs.measure import cloud_work, clouds, maps, point_files
from zipplumb.jobs.measure.maps import TypedLimits
from zipplumb.jobs.measure.point_files import TypedFile
from zipplumb.jobs.state.results import load
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.models import Reading, Row
from zipplumb.store.scans import Cloud, PointFile, PointFilePiece

UP, OFF_MM = np.array([0.0, 0, 1]), 0.07


def top(count=20_000, off=OFF_MM):
    """Points of the carrier's top, too high, with the way it faces."""
    random = np.random.default_rng(4)
    return np.column_stack([random.uniform(-240, -200, count), random.uniform(-130, -60, count), np.full(count, 60 + off)])


def as_text(points, normals=None):
    file = io.BytesIO()
    np.savetxt(file, points if normals is None else np.hstack([points, np.tile(normals, (len(points), 1))]), "%.4f")
    file.seek(0)
    return file


def brought(bench, file, typed, name="top.txt"):
    kept = point_files.bring(TECHNICIAN, bench.job, name, file, typed)
    point_files.read(kept)
    with transaction() as session:
        return session.get(PointFile, kept)


@pytest.fixture(scope="module")
def bench(stack):
    return ScannedBench.aligned(stack)


def station(bench):
    return next(iter(bench.state().kit.stations))


def test_a_file_is_a_scan_in_the_coordinates_of_a_station_and_is_mapped(bench):
    before = bench.state().job.current_row_id
    kept = brought(bench, as_text(top(), UP), TypedFile("mm", 0.04, station=station(bench)))
    assert (kept.state, kept.words) == ("read", kept.words)
    state = bench.work()
    row, found = state.row(kept.row_id), state.results[kept.row_id]
    assert (row.recipe.kind, row.recipe.note, row.finished) == ("scan", "From top.txt", True)
    assert (found.state, found.cloud.read) == ("done", 20_000)
    assert state.job.current_row_id == before  # nobody is asked to scan what is there
    limits = TypedLimits(-0.05, 0.05)
    mapped = maps.plan(TECHNICIAN, bench.job, kept.row_id, 1.0, limits)
    judged = maps.map_of(bench.work(), mapped)
    assert judged.whole.mean == pytest.approx(OFF_MM, abs=1e-3)
    assert judged.found.result.off < 3000  # over bores, and at edges
    assert np.median(judged.U) > 0.04  # what was typed, and the alignment
    with transaction() as session:
        assert session.query(PointFilePiece).count() == 0
        light = session.query(Reading).filter(Reading.row_id == kept.row_id).all()
        assert max(len(reading.points) for reading in light) <= 1024 * 1024


def test_rows_take_their_points_from_it(bench):
    kept = brought(bench, as_text(top(), UP), TypedFile("mm", 0.04, station=station(bench)))
    row = bench.top()
    bench.work()
    clouds.give(TECHNICIAN, bench.job, kept.row_id, [row])
    found = bench.work().results[row]
    assert found.state == "done", found.message
    assert found.characteristic("height").actual == pytest.approx(60 + OFF_MM, abs=2e-3)


def test_in_a_job_of_its_own_its_coordinates_are_the_world(stack, tmp_path):
    bench = Bench(stack)
    write_e57(tmp_path / "a", top(), {}, np.tile(UP, (20_000, 1)), "x")
    kept = brought(bench, (tmp_path / "a").open("rb"), TypedFile("", 0.04), r"C:\scans\left side.e57")
    with snapshot() as session:
        load(session, bench.job)
    with transaction() as session:
        made = session.query(Cloud.id).filter(Cloud.job_id == bench.job).all()
    for (cloud_id,) in made:
        cloud_work.work_out(cloud_id)
    state = bench.state()
    found = state.results[kept.row_id]
    assert (kept.name, found.state, found.cloud.read) == ("left side.e57", "done", 20_000)
    assert np.allclose(found.cloud.points.normals[::50] @ UP, 1, atol=1e-3)
    assert next(iter(state.kit.stations.values())).name == "left side.e57"  # it was read from first: it is the world


def test_beside_another_station_its_own_coordinates_are_not_tied_and_that_is_said(bench):
    kept = brought(bench, as_text(top(300), UP), TypedFile("mm", 0.04))
    found = bench.state().results[kept.row_id]
    assert found.state == "waits"
    assert "not tied" in found.message


def test_what_cannot_be_read_is_said_and_leaves_nothing(bench):
    with transaction() as session:
        rows, readings = session.query(Row).count(), session.query(Reading).count()
    kept = brought(bench, io.BytesIO(b"no points at all\n"), TypedFile("mm", 0.04))
    assert kept.state == "failed"
    assert "no point in its first lines" in kept.words
    with transaction() as session:
        assert (session.query(Row).count(), session.query(Reading).count()) == (rows, readings)
        assert session.query(PointFilePiece).count() == 0
        assert [each.id for each in point_files.of_job(session, bench.job)] == [kept.id]
    point_files.forget(TECHNICIAN, bench.job, kept.id)
    with transaction() as session:
        assert point_files.of_job(session, bench.job) == []


def test_a_file_that_is_stopped_while_it_is_read_leaves_nothing(bench, monkeypatch):
    kept = point_files.bring(TECHNICIAN, bench.job, "a.txt", as_text(top(50), UP), TypedFile("mm", 0.04))
    told = point_files._told

    def stopped(file_id, share, points):
        point_files.forget(TECHNICIAN, bench.job, kept)
        told(file_id, share, points)

    monkeypatch.setattr(point_files, "_told", stopped)
    rows = len(bench.state().rows)
    point_files.read(kept)
    assert len(bench.state().rows) == rows
    point_files.read(kept)  # once more, as after a lost worker: nobody waits for it


def test_a_worker_that_was_lost_begins_anew(bench, monkeypatch):
    kept = point_files.bring(TECHNICIAN, bench.job, "a.txt", as_text(top(50), UP), TypedFile("mm", 0.04))
    rows = len(bench.state().rows)
    with monkeypatch.context() as patched:
        patched.setattr(point_files, "add_rows", lambda *a, **k: (_ for _ in ()).throw(KeyboardInterrupt))
        with pytest.raises(KeyboardInterrupt):
            point_files.read(kept)
    assert len(bench.state().rows) == rows
    point_files.read(kept)
    assert len(bench.state().rows) == rows + 1


@pytest.mark.parametrize(
    ("typed", "words"),
    [
        (TypedFile("ell", 0.04), "are mm, in or m"),
        (TypedFile("mm", 0.0), "How sure one point is"),
        (TypedFile("mm", float("nan")), "How sure one point is"),
        (TypedFile("mm", 0.04, "place"), "From where it was seen"),
        (TypedFile("mm", 0.04, station=999_999), "no station of this job"),
    ],
)
def test_what_makes_no_sense_is_refused_before_anything_is_kept(bench, typed, words):
    with pytest.raises(InputError, match=words):
        point_files.bring(TECHNICIAN, bench.job, "a.txt", as_text(top(5)), typed)
    with pytest.raises(PlumbError):
        point_files.bring(REVIEWER, bench.job, "a.txt", as_text(top(5)), TypedFile("mm", 0.04))
    with pytest.raises(InputError, match="No file came"):
        point_files.bring(TECHNICIAN, bench.job, "", io.BytesIO(), TypedFile("mm", 0.04))
