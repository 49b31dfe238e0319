"""What is worked out later: once, only when it is asked for, and a fault of it is said of the number alone."""

import numpy as np

from zipplumb.core.records import changed
from zipplumb.core.sheet.told import Sure, Told
from zipplumb.core.uncertainty import Later, Source, Uncertainty

ONE = Uncertainty(1, {Source("hits"): np.array([[0.01]])})


def counted(answer):
    asked = []

    def work():
        asked.append(1)
        return answer

    return asked, work


def test_an_uncertainty_is_worked_out_once_and_is_as_one_that_was_there():
    asked, work = counted(ONE)
    later = Later(1, work)
    assert later.size == 1 and not asked
    assert (later + ONE).u() == 0.02 and later.through(np.array([[2.0]])).u() == 0.02
    assert later.spare == {} and len(asked) == 1


def test_how_sure_a_number_is_is_asked_once():
    asked, work = counted(Sure(ONE, near=0.5))
    told = Told(3.0, work)
    more = told.but(lambda sure: {"uncertainty": sure.uncertainty + ONE}, 4.0)
    assert (told.value, more.value, asked) == (3.0, 4.0, [])
    assert more.uncertainty.u() == 0.02 and more.near == 0.5 and told.uncertainty is ONE and len(asked) == 1


def test_a_fault_makes_the_number_not_proven_and_keeps_its_value():
    told = Told(3.0, lambda: 1 / 0)
    assert told.value == 3.0 and "could not be worked out (ZeroDivisionError)" in told.unproven


def test_a_changed_record_forgets_what_was_worked_out_of_the_old_one():
    told = Told(3.0, lambda: Sure(ONE))
    assert told.sure.near is None
    again = changed(told, worked_out=lambda: Sure(ONE, near=1.0))
    assert again.value == 3.0 and again.near == 1.0 and told.near is None
