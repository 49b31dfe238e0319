"""How far a number that is an extreme of many, or a length, may be from the truth: by draws from what is uncertain (JCGM 101).

The largest of many places that err is drawn outward, and so is the length of what may as well be nothing: such errors are not
about zero, and linear propagation says too little. Here the places are set where they likely are without their errors, and
all that moves them is drawn: the error of each by itself, and what moves them together. The draws are always the same, so the
same hits give the same number.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import cache
from typing import Literal, NamedTuple

import numpy as np
from scipy import special

from ..frames import Array, Indices
from ..uncertainty import TWO_SIGMA, coverage_factor

DRAWS, TABLE = 2000, 400
ONE_SIDE = float(special.ndtr(2.0))  # what k = 2 leaves below: the limit lies on one side
SURELY = float(
    special.chdtri(1, 0.01)
)  # squared, in standard deviations: beyond it a place is not where it should be by chance
GROWN = float(np.sqrt(3) - np.sqrt(2))  # by how much errors grow that are drawn twice more, beyond once more
FAR = 5.0  # standard deviations within which a place may be the extreme
LESS = 0.999  # of the length of what surely is something
FEW = 300  # places looked at one by one
How = Literal["range", "farthest", "largest", "length"]

_TAKEN: dict[How, Callable[[Array], Array]] = {
    "range": lambda places: np.asarray(places.max(axis=0) - places.min(axis=0)),
    "farthest": lambda places: np.asarray(2 * np.abs(places).max(axis=0)),
    "largest": lambda places: np.asarray(places.max(axis=0)),
    "length": lambda places: np.asarray(np.sqrt((places**2).sum(axis=0))),
}


class Drawn(NamedTuple):
    """``own_mm``: standard deviation by the places' own errors; ``U_mm``: how far it may be off to either side, k = 2."""

    own_mm: float
    U_mm: float


@cache
def _table() -> Array:
    """(TABLE, DRAWS) normal numbers of mean zero and deviation one in every row."""
    drawn = np.random.default_rng(2011).normal(size=(TABLE, DRAWS))
    drawn -= drawn.mean(axis=1, keepdims=True)
    return drawn / drawn.std(axis=1, keepdims=True)


def drawn_extreme(
    places: Array,
    own_mm: float,
    moves: Array,
    how: How,
    seen: Array | None = None,
    fitted: Array | None = None,
    pairs: Indices | None = None,
) -> Drawn:
    """Of an extreme of places (n,) where these likely are without their errors.

    Parameters
    ----------
    own_mm : standard uncertainty of each by itself
    moves : (n, q) how each goes with one standard deviation of what moves them together
    how : their range, twice the farthest from zero, the largest, or the length of the vector that they are
    seen : (n,) the places as they were read, their errors in them; by which errors of many are bounded, see Notes
    fitted : (n, k) how a fit to the places takes their own errors up: what it takes is not seen in them
    pairs : (n, 2) each place is the sum of two of others, which err by themselves

    Notes
    -----
    Where the extreme of many truly is, is known from what errs: among what was read the largest is so in part by its error, and
    seems more alone than it is. The mean of such an extreme is a convex function of the size of the errors (it is of a convex
    function of them). Where the same errors are drawn once more upon what was read they are √2 of their size, twice more √3: no
    line through both lies above where the extreme is without errors, so what was read is no farther from the truth than from
    that line, but for what one drawing scatters.
    """
    each_mm = own_mm if pairs is None else float(np.sqrt(2)) * own_mm
    kept, stands_for = _that_count(places, each_mm, moves, how)
    places, moves = places[kept], moves[kept]
    seen = None if seen is None else seen[kept]
    table = _table()
    together, alone = table[: moves.shape[1]], table[moves.shape[1] :]
    if pairs is not None:
        numbers, which = np.unique(pairs[kept], return_inverse=True)
        errors = own_mm * _rows(alone, len(numbers))[which.reshape(-1, 2)].sum(axis=1)
    else:
        errors = own_mm * _rows(alone, len(places))
        if fitted is not None and not stands_for.any():
            basis = _spanned(fitted[kept])
            errors = errors - basis @ (basis.T @ errors)
    highest, lowest = errors, errors
    if stands_for.any():
        behind = stands_for > 0
        highest, lowest = errors.copy(), errors.copy()
        highest[behind] = each_mm * _largest_of(errors[behind] / each_mm, stands_for[behind])
        lowest[behind] = -each_mm * _largest_of(-errors[behind] / each_mm, stands_for[behind])
    moved = places[:, None] + moves @ together
    taken, still = _TAKEN[how], float(_TAKEN[how](places[:, None])[0])
    if highest is lowest:
        found, by_itself = taken(moved + errors), taken(places[:, None] + errors)
    else:
        found = taken(np.vstack([moved + highest, moved + lowest]))
        by_itself = taken(np.vstack([places[:, None] + highest, places[:, None] + lowest]))
    off = np.sort(found - still)
    last = round(ONE_SIDE * (DRAWS - 1))
    U = max(float(off[last]), -float(off[DRAWS - 1 - last]))
    if seen is not None:
        spread = float(found.std())
        once, twice = (
            float(taken(seen[:, None] + size * errors if highest is lowest else
                        np.vstack([seen[:, None] + size * highest, seen[:, None] + size * lowest])).mean())
            for size in (1.0, np.sqrt(2))
        )  # fmt: skip
        read, slope = float(taken(seen[:, None])[0]), (twice - once) / GROWN
        U = max(U, max(read - once + float(np.sqrt(2)) * slope, 0.0) + 2 * spread)
    return Drawn(float(by_itself.std()), U)


def _rows(table: Array, count: int) -> Array:
    """(count, DRAWS): beyond the table its rows come again, each turned on."""
    if count <= len(table):
        return table[:count]
    again = [np.roll(table, 17 * k, axis=1) for k in range(-(-count // len(table)))]
    return np.vstack(again)[:count]


def _that_count(places: Array, own_mm: float, moves: Array, how: How) -> tuple[Indices, Array]:
    """Indices of the places that may be the extreme, and for how many more each stands: where many may be, some for all."""
    count = len(places)
    if how == "length" or count <= FEW // 2:
        return np.arange(count, dtype=np.int64), np.zeros(count)
    spread = FAR * np.hypot(own_mm, np.sqrt((moves**2).sum(axis=1)))
    out = np.abs(places) if how == "farthest" else places
    may = out + spread >= (out - spread).max()
    if how == "range":
        may |= places - spread <= (places + spread).min()
    kept = np.flatnonzero(may).astype(np.int64)
    if len(kept) <= FEW:
        return kept, np.zeros(len(kept))
    order = kept[np.argsort(-out[kept], kind="stable")]
    first, rest, last = order[: FEW // 3], order[FEW // 3 : -(FEW // 3)], order[-(FEW // 3) :]
    some = rest[np.linspace(0, len(rest) - 1, FEW // 3).astype(int)]
    stands_for = np.concatenate([np.zeros(len(first)), np.full(len(some), len(rest) / len(some)), np.zeros(len(last))])
    return np.concatenate([first, some, last]), stands_for


def _largest_of(normal: Array, counts: Array) -> Array:
    """The largest of so many normal numbers, drawn by one: its probability, to the power of one over the count."""
    share = special.log_ndtr(normal) / counts[:, None]
    return np.asarray(special.ndtri_exp(share))


def quieted(places: Array, own_mm: float, moves: Array, ways: Array) -> Array:
    """Places (n,) where they likely are: what they are off as a whole is lessened by what chance alone would make of it.

    Parameters
    ----------
    own_mm, moves : as of ``drawn_extreme``
    ways : (n, k) how the places go where their feature moves as a whole
    """
    basis = _spanned(ways)
    if not basis.shape[1]:
        return places
    amounts = basis.T @ places
    spread = own_mm**2 + ((basis.T @ moves) ** 2).sum(axis=1)
    share = 1 - np.minimum(SURELY * spread / np.maximum(amounts**2, 1e-30), 1.0)
    return np.asarray(places - basis @ ((1 - share) * amounts))


def _spanned(columns: Array) -> Array:
    """(n, r) an orthonormal basis of what columns (n, k) span."""
    basis, sizes, _ = np.linalg.svd(columns, full_matrices=False)
    return np.asarray(basis[:, sizes > 1e-9 * max(float(sizes.max(initial=0.0)), 1e-12)])


def drawn_length(offset: Array, moves: Array, freedom: float = np.inf) -> float:
    """U of the length of an offset (m,) that goes by ``moves`` (m, q) with what is uncertain of it.

    What may be nothing is off by less than its own 95.45 % quantile, which holds as often where it truly is nothing. What is
    longer is surely something: it is looked at where it likely is, and is off by less than its length. ``freedom``: degrees of
    freedom from which the moves are known.
    """
    if not float((moves**2).sum()) > 0:
        return 0.0
    ways, sizes, _ = np.linalg.svd(moves, full_matrices=False)
    seen = sizes > 1e-9 * sizes[0]
    ways, sizes = ways[:, seen], sizes[seen]
    long, nothing = float(np.sqrt(offset @ offset)), _quantile(sizes, freedom)
    if long <= nothing:
        return nothing
    amounts = ways.T @ offset
    square = float(np.sum((amounts / sizes) ** 2))
    calm = (1 - min(float(special.chdtri(len(sizes), 0.01)) / max(square, 1e-30), 1.0)) * amounts
    U = drawn_extreme(calm, 0.0, np.diag(sizes), "length").U_mm * coverage_factor(max(freedom, 1.0), TWO_SIGMA) / 2
    return min(U, LESS * long)


def _quantile(sizes: Array, freedom: float) -> float:
    """The 95.45 % quantile of the length of a vector of independent normal numbers of such deviations about zero.

    A Rayleigh distribution where two are alike; in general the gamma distribution with the same mean and variance (Welch and
    Satterthwaite), which is exact in one direction and in all alike.
    """
    mean, squares = float(np.sum(sizes**2)), float(np.sum(sizes**4))
    directions = mean**2 / squares
    if np.isinf(freedom):
        return float(np.sqrt(squares / mean * special.chdtri(directions, 1 - TWO_SIGMA)))
    return float(np.sqrt(mean * special.fdtri(directions, max(freedom, 1.0), TWO_SIGMA)))
