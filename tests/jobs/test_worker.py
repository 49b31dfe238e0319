"""Long work in the queue, carried out by a worker as it runs."""

import asyncio
import threading

import pytest

from zipplumb.cad import Limits
from zipplumb.jobs import worker
from zipplumb.jobs.queue import defer
from zipplumb.store.database import transaction


@pytest.mark.usefixtures("stack")
def test_a_file_that_runs_on_holds_up_no_other(monkeypatch):
    second, both = threading.Event(), threading.Event()

    def import_part(part_id):
        if part_id == -1:
            assert second.wait(60)
            both.set()
        elif part_id == -2:
            second.set()

    monkeypatch.setitem(worker.TASKS, "import_part", import_part)
    with transaction() as session:
        for part_id in (-1, -2):
            defer(session, "import_part", part_id=part_id)

    async def run():
        work = asyncio.create_task(worker._work())
        try:
            assert await asyncio.to_thread(both.wait, 60)
        finally:
            work.cancel()
            await asyncio.gather(work, return_exceptions=True)

    asyncio.run(run())


def test_time_is_by_the_size_of_a_file_and_never_short(tmp_path):
    path = tmp_path / "part.step"
    given = []
    for megabytes in (0, 1, 10, 200):
        with path.open("wb") as file:
            file.truncate(megabytes * 2**20)
        given.append(Limits.of_file(path).seconds)
    assert given == [60.0, 70.0, 160.0, 300.0]
