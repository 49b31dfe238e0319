"""Small linear programmes, solved again and again: HiGHS (Huangfu and Hall, Math. Prog. Comp. 10 (2018)) by its own interface.

The interface of SciPy to the same solver takes ten times as long for a few dozen rows.
"""

from __future__ import annotations

import threading
from typing import NamedTuple

import highspy
import numpy as np

from ..frames import Array, Indices

_of_thread = threading.local()


def _solver() -> highspy.Highs:
    if not hasattr(_of_thread, "solver"):
        solver = highspy.Highs()
        solver.silent()
        for option, value in (("presolve", "off"), ("solver", "simplex"), ("threads", 1)):
            solver.setOptionValue(option, value)
        _of_thread.solver = solver
    return _of_thread.solver


class Solution(NamedTuple):
    """``x`` (k,) and the rows that hold it there, of which each takes part in its price."""

    x: Array
    binding: Indices


def least(cost: Array, rows: Array, most: Array, low: Array, high: Array) -> Solution | None:
    """The x (k,) of least ``cost`` @ x with ``rows`` (n, k) @ x <= ``most`` (n,), low <= x <= high; None if there is none."""
    n, k = rows.shape
    problem = highspy.HighsLp()
    problem.num_col_, problem.num_row_ = k, n
    problem.col_cost_, problem.col_lower_, problem.col_upper_ = cost, low, high
    problem.row_lower_, problem.row_upper_ = np.full(n, -highspy.kHighsInf), most
    matrix = problem.a_matrix_
    matrix.format_ = highspy.MatrixFormat.kColwise
    matrix.start_, matrix.index_, matrix.value_ = np.arange(0, n * k + 1, n), np.tile(np.arange(n), k), rows.T.ravel()
    solver = _solver()
    solver.passModel(problem)
    solver.run()
    if solver.getModelStatus() != highspy.HighsModelStatus.kOptimal:
        return None
    found = solver.getSolution()
    return Solution(np.array(found.col_value), np.flatnonzero(np.array(found.row_dual)).astype(np.int64))
