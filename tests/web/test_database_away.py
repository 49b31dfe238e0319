"""The database is away, or refuses what two do at once: a sentence, whoever is signed in, and in the log a line, no stack."""

import logging
import threading

import psycopg
import pytest
import sqlalchemy as sa
from sqlalchemy import func, select
from sqlalchemy.orm import sessionmaker

from zipplumb.store import database
from zipplumb.store.database import transaction
from zipplumb.store.models import Row

NOWHERE = "postgresql+psycopg://nobody@127.0.0.1:9/nothing"


@pytest.fixture
def away(monkeypatch):
    """Nothing listens where the database should be."""
    dead = sessionmaker(sa.create_engine(NOWHERE, connect_args={"connect_timeout": 1}))
    monkeypatch.setattr(database, "_sessions", lambda: dead)
    monkeypatch.setattr(database, "_snapshots", lambda: dead)


def test_every_page_says_so_by_itself(technician, visitor, place, away, caplog):
    job = place["job_id"]
    with caplog.at_level(logging.WARNING):
        for who in (technician, visitor):
            for path in ("/", f"/jobs/{job}/measure", f"/jobs/{job}/report", "/instruments", "/people", "/health"):
                found = who.get(path)
                if who is visitor and found.status_code == 302:
                    continue  # nobody is signed in: that is known without the database
                assert found.status_code == 503, path
                assert b"The database is away for a moment" in found.data, path
        notice = technician.get(f"/jobs/{job}/measure", headers={"HX-Request": "true"})
        assert notice.status_code == 503 and b"<html" not in notice.data
    assert not [record for record in caplog.records if record.exc_info]


def test_who_signs_in_is_told(visitor, monkeypatch):
    visitor.get("/sign-in")
    dead = sessionmaker(sa.create_engine(NOWHERE, connect_args={"connect_timeout": 1}))
    monkeypatch.setattr(database, "_sessions", lambda: dead)
    found = visitor.post("/sign-in", data={"login": "tamsin", "password": "x" * 12})
    assert found.status_code == 503 and b"The database is away" in found.data


def test_what_two_do_at_once_is_refused_as_such(technician, monkeypatch):
    """A name that somebody else has just taken, and two who wait for each other."""
    from zipplumb.web.home import pages

    for kind in (psycopg.errors.UniqueViolation, psycopg.errors.DeadlockDetected):
        of = sa.exc.IntegrityError if kind is psycopg.errors.UniqueViolation else sa.exc.OperationalError

        def refuse(*_, of=of, kind=kind, **__):
            raise of("INSERT", {}, kind("no"))

        monkeypatch.setattr(pages, "snapshot", refuse)
        found = technician.get("/")
        assert found.status_code == 409 and b"Somebody changed the same at this moment" in found.data


def test_one_name_added_four_times_at_once_is_there_once(app, administrator):
    """The others are told, and nothing of theirs is kept."""
    from visitor import Visitor

    told, ready = [], threading.Barrier(4)

    def add(k):
        mine = Visitor(app)
        mine.sign_in("ines")
        ready.wait()
        form = {"login": "four-at-once", "name": f"Four {k}", "role": "technician", "password": "long enough for this"}
        told.append(mine.post("/people", data=form).status_code)

    threads = [threading.Thread(target=add, args=(k,)) for k in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(code // 100 for code in told)[:1] in ([2], [3]) and max(told) < 500, told


FULL = """
CREATE FUNCTION full_disk() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
RAISE EXCEPTION 'could not extend file: No space left on device' USING ERRCODE = '53100'; END $$;
CREATE TRIGGER full_disk BEFORE INSERT ON changes FOR EACH ROW EXECUTE FUNCTION full_disk();
"""


def test_a_full_disk_under_the_database_is_said_and_it_goes_on_when_there_is_room(technician, stack):
    """As the server tells it (SQLSTATE 53100); what was begun is not kept by half."""
    path = f"/jobs/{stack.job}/plan"
    form = {
        "kind": "plane", "name": "When full", "nominal.shape": "plane", "nominal.point.0": "0", "nominal.point.1": "0",
        "nominal.point.2": "60", "nominal.normal.0": "0", "nominal.normal.1": "0", "nominal.normal.2": "1", "hits": "6",
    }  # fmt: skip

    def rows():
        with transaction() as session:
            return session.scalar(select(func.count()).select_from(Row))

    before = rows()
    with psycopg.connect(stack.cluster.url, autocommit=True) as connection:
        connection.execute(FULL)
        try:
            answer = technician.post(path, form)
            assert answer.status_code == 507
            assert b"disk is full" in answer.data and b"Nothing of this was kept" in answer.data
            assert rows() == before
            assert technician.get(f"/jobs/{stack.job}/measure").status_code == 200  # which only reads
        finally:
            connection.execute("DROP TRIGGER full_disk ON changes; DROP FUNCTION full_disk")
    assert technician.post(path, form).status_code < 400
    assert rows() == before + 1
