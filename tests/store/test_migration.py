"""A database made by the version before, with its demo and a measured job, is brought to this one: nothing is lost."""

import gzip
from pathlib import Path

import psycopg
import pytest
from alembic import command
from alembic.config import Config
from sqlalchemy import select

import zipplumb.store.database as database
from zipplumb.cad import CadModel
from zipplumb.core.sheet import recipe_from_dict
from zipplumb.jobs.kit import trials
from zipplumb.jobs.state import remembered
from zipplumb.jobs.state.results import load
from zipplumb.jobs.state.rows_text import row_texts
from zipplumb.store.models import Job, Part, Reading, Row, Trial
from zipplumb.store.schema import MIGRATIONS

OLD = Path(__file__).with_name("version_0002.sql.gz")
# as the version before showed them: name, nominal, actual, deviation, limits, word
TRIAL = """
INSERT INTO trials (kind, instrument_id, settings) VALUES ('pivot', 1, '{"seat": "cone", "limit_mm": 0.025}');
INSERT INTO trial_readings (trial_id, kind, session, first_n, sweep, times, poses, undone_at)
SELECT currval('trials_id_seq'), 'press', 'old', 10 * k, 10 * k, array_fill(1.0, ARRAY[4 - k]),
       array_fill(0.5, ARRAY[7 * (4 - k)]), CASE k WHEN 2 THEN now() END
FROM generate_series(1, 2) AS k;
"""
SCAN = """
INSERT INTO trials (kind, instrument_id) VALUES ('scanner', 1);
INSERT INTO readings (trial_id, instrument_id, kind, session, first_n, sweep, ns, times, poses, approach, lines, counts)
SELECT currval('trials_id_seq'), 1, 'stripes', 'scan', 1, 1, '{1,2}', '{1,2}', array_fill(0.5::float8, ARRAY[14]),
       array_fill('NaN'::float8, ARRAY[14]), '{1.25,90,2,91.5,3,92}', '{2,1}';
"""
SHOWN = [
    ("Top", "60.000", "60.000", "held", "", "done"),
    ("Side", "140.000", "140.000", "held", "", "done"),
    ("Left", "250.000", "250.000", "held", "", "done"),
    ("Right", "250.000", "250.080", "+0.080", "±0.200", "in"),
    ("Distance 1", "500.000", "500.080", "+0.080", "", "done"),
    ("Distance 2", "500.000", "500.080", "+0.080", "±0.050", "out"),
    ("Bore", "20.000", "", "", "+0.025 / 0", "to do"),
    ("Boss", "30.000", "", "", "", "to do"),
    ("Slot", "12.000", "", "", "±0.100", "to do"),
    ("Ball", "25.000", "", "", "", "to do"),
    ("Edge", "0.000", "", "", "±0.100", "to do"),
    ("Nest", "0.000", "", "", "±0.100", "to do"),
    ("Spot", "0.000", "", "", "", "to do"),
]


@pytest.fixture
def old_database(stack, monkeypatch):
    """A second database in the same cluster, at the schema of before, filled with its data; then brought up."""
    ours = database.database_url()
    with psycopg.connect(stack.cluster.keeper_url, autocommit=True) as connection:
        connection.execute("DROP DATABASE IF EXISTS before")
        connection.execute("CREATE DATABASE before OWNER zipplumb")
    url = ours.rsplit("/", 1)[0] + "/before"
    keeper = stack.cluster.keeper_url.rsplit("/", 1)[0] + "/before"
    for cached in (database.engine, database._sessions, database._snapshots):
        cached.cache_clear()
    monkeypatch.setenv("ZIPPLUMB_DATABASE", url)
    config = Config()
    config.set_main_option("script_location", str(MIGRATIONS))
    command.upgrade(config, "0002")
    with psycopg.connect(keeper) as connection:
        connection.execute("SET session_replication_role = replica")
        connection.execute(gzip.decompress(OLD.read_bytes()).decode())
        connection.execute(TRIAL)
    command.upgrade(config, "0025")
    with psycopg.connect(keeper) as connection:
        connection.execute(SCAN)
    command.upgrade(config, "head")
    yield url
    database.engine().dispose()
    for cached in (database.engine, database._sessions, database._snapshots):
        cached.cache_clear()
    monkeypatch.setenv("ZIPPLUMB_DATABASE", ours)
    with psycopg.connect(stack.cluster.keeper_url, autocommit=True) as connection:
        connection.execute("DROP DATABASE before WITH (FORCE)")


def test_the_rows_of_before_show_what_they_showed(old_database):
    with database.transaction() as session:
        job = session.scalar(select(Job.id).where(Job.name == "Test"))
        texts = {t.name: t for t in row_texts(load(session, job)).values()}
    assert texts["Alignment 1"].line == "6 held, 0 spare"
    assert texts["Fit"].line == "3 held, 0 spare"
    for name, nominal, actual, deviation, limits, word in SHOWN:
        first = texts[name].first
        assert (first.nominal, first.actual, first.deviation, first.tolerance, texts[name].word) == (
            nominal, actual, deviation, limits, word,
        ), name  # fmt: skip


def test_what_is_remembered_of_a_job_is_of_its_own_database(old_database, monkeypatch):
    """Another one's job of the same number is none of it, whatever this process had loaded before."""
    kept = remembered.memory_of(1)
    monkeypatch.setenv("ZIPPLUMB_DATABASE", old_database + "-of-another")
    assert remembered.memory_of(1) is not kept
    monkeypatch.setenv("ZIPPLUMB_DATABASE", old_database)
    assert remembered.memory_of(1) is kept


def test_every_recipe_part_and_model_of_before_reads(old_database):
    with database.transaction() as session:
        rows = session.scalars(select(Row)).all()
        recipes = [recipe_from_dict(r.recipe) for r in rows]
        part = session.scalar(select(Part))
        model, faces = CadModel.unpack(part.model), part.faces
    assert len(recipes) > 25
    by_name = {r.name: r for r in recipes}
    assert (by_name["Bore"].nominal.radius, by_name["Bore"].inside, by_name["Bore"].terms) == (20.0, True, "radius")
    assert (by_name["Boss"].nominal.radius, by_name["Boss"].inside) == (15.0, False)
    assert (by_name["Slot"].nominal.length, by_name["Slot"].nominal.width) == (40.0, 12.0)
    assert by_name["Distance 2"].measure == "perpendicular_distance"
    assert [f.nominal for f in model.faces] == [f["nominal"] for f in faces]
    bore = next(f for f in model.faces if f.nominal and f.nominal.get("radius") == pytest.approx(80))
    assert bore.inside


def test_the_readings_of_a_calibration_of_before_count_as_they_did(old_database):
    """Two presses of a pivot, one of them taken back: written as the version before wrote them, before the move."""
    with database.transaction() as session:
        trial = session.scalar(select(Trial.id).where(Trial.kind == "pivot"))
        read = trials.read_by(session, trial)
        stored = session.scalars(select(Reading).where(Reading.trial_id == trial)).all()
    assert len(stored) == 2
    assert len(read) == 3  # of five poses, two were taken back
    assert set(read.sweeps.tolist()) == {1}


def test_lines_of_light_of_before_are_packed_and_the_same(old_database):
    with database.transaction() as session:
        read = trials.read_by(session, session.scalar(select(Trial.id).where(Trial.kind == "scanner")))
    assert [line.tolist() for line in read.lines] == [[[1.25, 90.0], [2.0, 91.5]], [[3.0, 92.0]]]
