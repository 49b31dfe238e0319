"""The jobs there are: searched, sorted, put away, removed for a while, and brought back."""

import pytest
from job_bench import REVIEWER, TECHNICIAN, Bench

from zipplumb.core.errors import InputError, NotAllowed
from zipplumb.jobs.actor import Actor
from zipplumb.jobs.kit import stations
from zipplumb.jobs.plan import catalogue, sheet
from zipplumb.store.database import snapshot, transaction
from zipplumb.store.models import Job

ADMINISTRATOR = Actor(3, "Ines", "administrator")


@pytest.fixture(scope="module")
def jobs(stack):
    with transaction() as session:
        part = session.get(Job, stack.job).part_id
    return {name: sheet.create_job(TECHNICIAN, name, part) for name in ("Alder 50 %", "Birch_1", "cedar")}


def names(actor=TECHNICIAN, **asked):
    with snapshot() as session:
        return [line.name for line in catalogue.jobs_there(session, actor, **asked).lines]


def test_they_are_searched_by_any_part_of_a_name_and_sorted(jobs):
    assert names(search="ALDER") == ["Alder 50 %"]
    assert names(search="50 %") == ["Alder 50 %"]
    assert names(search="h_1") == ["Birch_1"]
    assert names(search="Birch%") == []
    mine = [name for name in names(order="name") if name in jobs]
    assert mine == ["Alder 50 %", "Birch_1", "cedar"]
    assert [name for name in names(order="begun") if name in jobs] == ["cedar", "Birch_1", "Alder 50 %"]
    sheet.set_rule(TECHNICIAN, jobs["Birch_1"], "simple")
    assert names()[0] == "Birch_1"
    with snapshot() as session:
        line = catalogue.jobs_there(session, TECHNICIAN, "birch").lines[0]
    assert (line.by, line.state) == ("Tamsin Orrell", "nothing planned")
    assert set(jobs) <= set(names(shown="mine"))
    assert not set(jobs) & set(names(ADMINISTRATOR, shown="mine"))


def test_how_far_a_job_is_and_those_not_finished(stack):
    bench = Bench(stack)
    row = bench.plan_plane("Top", [0, 0, 60], [0, 0, 1], hits=4)

    def state():
        with snapshot() as session:
            (line,) = [each for each in catalogue.jobs_there(session, TECHNICIAN).lines if each.id == bench.job]
            open_jobs = [each.id for each in catalogue.jobs_there(session, TECHNICIAN, shown="unfinished").lines]
        return line.state, bench.job in open_jobs

    assert state() == ("not begun", True)
    bench.touch_plane(row)
    assert state() == ("measured", False)


def test_one_is_put_away_and_taken_out_again(jobs):
    catalogue.put_away(TECHNICIAN, jobs["cedar"], True)
    assert "cedar" not in names()
    assert "cedar" in names(shown="archived")
    catalogue.put_away(TECHNICIAN, jobs["cedar"], False)
    assert "cedar" in names()
    with pytest.raises(NotAllowed):
        catalogue.put_away(REVIEWER, jobs["cedar"], True)


def test_one_is_removed_and_an_administrator_brings_it_back(jobs, stack):
    job = jobs["Alder 50 %"]
    bench = Bench(stack)
    stations.bring(TECHNICIAN, job, bench.arm)
    with pytest.raises(InputError, match="stands at this job"):
        catalogue.remove(TECHNICIAN, job)
    stations.bring(TECHNICIAN, bench.job, bench.arm, unmoved=True)
    catalogue.remove(TECHNICIAN, job)
    assert catalogue.is_removed(job)
    assert "Alder 50 %" not in names() + names(shown="archived") + names(shown="removed")
    assert "Alder 50 %" in names(ADMINISTRATOR, shown="removed")
    for act in (lambda: catalogue.remove(TECHNICIAN, job), lambda: catalogue.put_away(TECHNICIAN, job, True)):
        with pytest.raises(InputError, match="was removed"):
            act()
    with pytest.raises(NotAllowed):
        catalogue.bring_back(TECHNICIAN, job)
    catalogue.bring_back(ADMINISTRATOR, job)
    assert "Alder 50 %" in names()
    with pytest.raises(InputError, match="not among the removed"):
        catalogue.bring_back(ADMINISTRATOR, job)
