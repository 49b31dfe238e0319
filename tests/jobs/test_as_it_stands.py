"""What only looks at a job is given what was worked out last, for as long as nobody has written anything."""

from datetime import UTC, datetime, timedelta

import pytest
from job_bench import TECHNICIAN
from sqlalchemy import update

from zipplumb.core.errors import InputError
from zipplumb.jobs.kit import instruments
from zipplumb.jobs.kit.network_text import network_text
from zipplumb.jobs.plan import sheet
from zipplumb.jobs.state import results
from zipplumb.jobs.state.results import as_it_stands, load
from zipplumb.store.database import stored, transaction
from zipplumb.store.models import Instrument, Job


def look(bench):
    with transaction() as session:
        return as_it_stands(session, bench.job)


def test_while_nothing_is_written_it_is_the_very_same(aligned):
    assert look(aligned).results is look(aligned).results


def test_a_hit_and_another_persons_change_are_seen_at_once(aligned):
    before = look(aligned)
    aligned.touch_plane(aligned.rows["end"], 0.15)
    after = look(aligned)
    assert len(after.readings[aligned.rows["end"]]) > len(before.readings[aligned.rows["end"]])
    sheet.set_units(TECHNICIAN, aligned.job, "in")
    assert look(aligned).job.units == "in"


def test_what_hits_alone_brought_is_not_taken_for_all_there_is(aligned):
    """A page that was told of hits of one row has not asked for what else was written meanwhile."""
    look(aligned)
    sheet.set_units(TECHNICIAN, aligned.job, "in")
    with transaction() as session:
        assert load(session, aligned.job, {aligned.rows["end"]}).job.units == "mm"
    assert look(aligned).job.units == "in"


def test_of_hits_alone_it_is_known_too_that_the_instrument_is_still_there(aligned):
    """Its link says so again and again, and no page is told of that."""
    instruments.seen(aligned.arm, connected=True)
    look(aligned)
    with transaction() as session:
        session.execute(update(Instrument).values(seen_at=datetime.now(UTC) + timedelta(seconds=60)))
    with transaction() as session:
        here = load(session, aligned.job, {aligned.rows["end"]}).instrument
        assert here.seen_at > datetime.now(UTC) + timedelta(seconds=50)


def test_within_what_is_not_committed_yet_it_is_worked_out_anew(aligned):
    look(aligned)
    with transaction() as session:
        stored(session, Job, aligned.job, lock=True).units = "in"
        session.flush()
        assert as_it_stands(session, aligned.job).job.units == "in"
        session.rollback()
    assert look(aligned).job.units == "mm"


def test_what_was_not_fetched_yet_of_the_part_can_be_asked_of_it(aligned):
    look(aligned)
    with transaction() as session:
        job = as_it_stands(session, aligned.job).job
        assert job in session and len(job.part.faces) == 20 and job.part.model is not None


def test_an_act_that_was_refused_leaves_what_is_kept_whole(aligned):
    """A rollback expires what its session had read."""
    with pytest.raises(InputError), transaction() as session:
        load(session, aligned.job)
        raise InputError("It was refused.", "Nothing was changed.", "Go on.")
    assert [s.instrument for s in network_text(look(aligned)).stations] == [f"Arm of job {aligned.job}"]
    with transaction() as session:
        assert load(session, aligned.job, {aligned.rows["end"]}).job.units == "mm"


def test_what_somebody_is_changing_does_not_reach_those_who_only_look(aligned):
    with transaction() as session:
        load(session, aligned.job).job.units = "in"
        assert look(aligned).job.units == "mm"
        session.rollback()


def test_a_glance_may_be_a_moment_old_but_knows_the_row_that_it_is_at(aligned, monkeypatch):
    def glance(row):
        with transaction() as session:
            return results.as_it_was(session, aligned.job, row)

    before = look(aligned)
    sheet.set_units(TECHNICIAN, aligned.job, "in")
    assert glance(aligned.rows["end"]).results is before.results
    new = aligned.plan_plane("New", [0, 0, 60], [0, 0, 1])
    assert new in glance(new).results
    monkeypatch.setattr(results, "GLANCED_AT_S", 0.0)
    sheet.set_units(TECHNICIAN, aligned.job, "mm")
    assert glance(new).job.units == "mm"
