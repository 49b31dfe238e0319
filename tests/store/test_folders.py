"""A database of another version, or one that cannot be started, is left as it is, and that is said."""

import pytest
from sqlalchemy import text

from zipplumb.core.errors import InputError
from zipplumb.store import cluster, schema
from zipplumb.store.cluster import Cluster
from zipplumb.store.database import transaction
from zipplumb.store.revisions import newest_revision


def test_a_database_of_another_server_is_left_as_it_is(tmp_path):
    (tmp_path / "data").mkdir()
    (tmp_path / "keeper").write_text("")
    (tmp_path / "data" / "PG_VERSION").write_text("9\n")
    there = Cluster(tmp_path)
    there.home, there.data = tmp_path, tmp_path / "data"
    with pytest.raises(InputError, match=r"was made by PostgreSQL 9; here is [0-9 and]+\. It was left as it is"):
        there.start()


def test_of_several_servers_the_one_is_taken_that_made_the_data(tmp_path, monkeypatch):
    for version in ("15", "17"):
        (tmp_path / version / "bin").mkdir(parents=True)
        (tmp_path / version / "bin" / "initdb").touch()
    monkeypatch.setattr(cluster, "INSTALLED", tmp_path)
    assert cluster._binary("initdb", "15") == tmp_path / "15" / "bin" / "initdb"
    assert cluster._binary("initdb", "*") == tmp_path / "17" / "bin" / "initdb"


def test_what_the_server_died_of_is_said(tmp_path):
    there = Cluster(tmp_path)
    there.home = tmp_path
    (tmp_path / "log").write_text("2026 LOG:  starting\n2026 FATAL:  could not write lock file: No space left on device\n")
    with pytest.raises(InputError, match=r"No space left on device\. What was there is kept\. Make room"):
        there._do("pg_ctl", "-D", tmp_path / "nowhere", "status")


def test_a_database_of_a_newer_version_is_left_as_it_is(stack):
    def set_revision(to):
        with transaction() as session:
            session.execute(text("UPDATE alembic_version SET version_num = :to"), {"to": to})

    set_revision("9999")
    try:
        with pytest.raises(InputError, match=rf"newer version \(9999\) than this program \({newest_revision()}\)"):
            schema.upgrade()
    finally:
        set_revision(newest_revision())
    schema.upgrade()
