"""Work on many bodies shared out to as many processes as there are processors: the library holds the interpreter's lock."""

from __future__ import annotations

import ctypes
import multiprocessing
import os
import signal
from collections.abc import Callable, Sequence
from multiprocessing.connection import Connection
from typing import TypeVar

DIES_WITH_PARENT = 1  # PR_SET_PDEATHSIG, prctl(2)
FORK = multiprocessing.get_context("fork")  # what the library has built cannot be sent, and is there in a fork
Made = TypeVar("Made")


def shared_out(work: Callable[[range], Made], sizes: Sequence[int], least: int) -> list[Made]:
    """``work`` on the items 0, 1, … of such sizes, in runs of about the same size; what it made of each run, in order.

    Only before the library has begun threads of its own: a fork does not have them. ``least``: the size of a run for which
    a process is worth it. The first run is worked on here.

    Raises
    ------
    MemoryError
        A process ran out of memory.
    RuntimeError
        A process ended otherwise.
    """
    runs = _runs(sizes, min(len(os.sched_getaffinity(0)), sum(sizes) // least))
    ends = [_begun(work, run) for run in runs[1:]]
    made = [work(runs[0])]
    for end in ends:
        try:
            found = end.recv()
        except EOFError as error:
            raise RuntimeError("a process that worked on some of the bodies has ended") from error
        if isinstance(found, BaseException):
            raise found
        made.append(found)
    return made


def _runs(sizes: Sequence[int], wanted: int) -> list[range]:
    """So many runs at most, each of whole items."""
    runs: list[range] = []
    begin, done, whole = 0, 0, sum(sizes)
    for k, size in enumerate(sizes, start=1):
        done += size
        if done * wanted >= whole * (len(runs) + 1) and len(runs) + 1 < wanted:
            runs.append(range(begin, k))
            begin = k
    return [*runs, range(begin, len(sizes))]


def _begun(work: Callable[[range], Made], run: range) -> Connection:
    here, there = FORK.Pipe(duplex=False)
    parent = os.getpid()
    FORK.Process(target=_do, args=(work, run, there, parent), daemon=True).start()
    there.close()
    return here


def _do(work: Callable[[range], Made], run: range, there: Connection, parent: int) -> None:
    ctypes.CDLL(None).prctl(DIES_WITH_PARENT, signal.SIGKILL)
    if os.getppid() != parent:  # it ended meanwhile
        return
    try:
        there.send(work(run))
    except MemoryError as error:
        there.send(error)
    finally:
        there.close()
        os._exit(0)  # the library's own threads and finalisers are no way out
