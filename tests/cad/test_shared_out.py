"""Work shared out to processes: the same as one alone would make, and a fault in one of them is told."""

import os

import pytest

from zipplumb.cad.library.shared_out import shared_out


def itself(run):
    return [(k, os.getpid()) for k in run]


@pytest.fixture
def three(monkeypatch):
    monkeypatch.setattr(os, "sched_getaffinity", lambda pid: {0, 1, 2})


@pytest.mark.parametrize("sizes", [[1] * 9, [5, 1, 1, 1, 1], [1, 1, 9], [4], [0, 0, 6, 0]])
def test_each_item_once_and_in_order(three, sizes):
    made = shared_out(itself, sizes, 1)
    assert [k for run in made for k, _ in run] == list(range(len(sizes)))
    assert len({pid for run in made for _, pid in run}) == sum(bool(run) for run in made)  # each run in its own process


def test_what_is_small_is_done_here(three):
    assert shared_out(itself, [10, 10], 21) == [[(0, os.getpid()), (1, os.getpid())]]


@pytest.mark.parametrize("ends, told", [(lambda: os._exit(3), RuntimeError), (lambda: bytearray(2**62), MemoryError)])
def test_a_process_that_fails_is_told(three, ends, told):
    here = os.getpid()
    with pytest.raises(told):
        shared_out(lambda run: ends() if os.getpid() != here else None, [1, 1, 1], 1)
