"""What the stand-in's hand measures while nobody looks: where a test only needs that it was measured."""

import time

from zipplumb.jobs.actor import Actor
from zipplumb.jobs.hand import move_hand, tell_hand
from zipplumb.jobs.measure import measuring
from zipplumb.store.database import stored, transaction
from zipplumb.store.models import Job, Row

TECHNICIAN = Actor(1, "Tamsin", "technician")
LONGEST_S = 60.0


def touch(job, what):
    """So many hits on each of some faces, as the hand chooses them."""
    for face, hits in what:
        move_hand(TECHNICIAN, job, "touch", face=face, hits=hits)


def finish(job):
    """The row that is current is finished, once all that the hand was told is done."""
    row = current(job)
    tell_hand({"do": "click", "button": "finish"})
    end = time.monotonic() + LONGEST_S
    while not is_finished(row):
        assert time.monotonic() < end, f"row {row} is not finished"
        time.sleep(0.03)


def measured(job, row, what=None):
    """A row from its first hit to its end; by default where it asks."""
    measuring.make_current(TECHNICIAN, job, row)
    if what is None:
        with transaction() as session:
            hits = stored(session, Row, row).recipe["hits"]
        move_hand(TECHNICIAN, job, "touch", hits=hits)
    else:
        touch(job, what)
    finish(job)


def current(job) -> int:
    with transaction() as session:
        return stored(session, Job, job).current_row_id


def is_finished(row) -> bool:
    with transaction() as session:
        return stored(session, Row, row).finished_at is not None
