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
BLOCKS = tuple(slice(first, first + 400) for first in range(0, DRAWS, 400))  # of draws, so that few are in memory at once
ONE_SIDE = float(special.ndtr(2.0))  # what k = 2 leaves below: the limit lies on one side
SURELY = float(
    special.chdtri(1, 0.01)
)  # squared, in standard deviations: beyond it a place is not where it should be by chance
GROWN = float(np.sqrt(3) - np.sqrt(2))  # by how much errors grow that are drawn twice more, beyond once more
FAR = 5.0  # standard deviations within which a place may be the extreme
LESS = 0.999  # of the length of what surely is something
FEW = 300  # places looked at one by one
REACH, FINE = 8.0, 50  # normal numbers to either side for which the largest of many is worked out, so many of each one
How = Literal["range", "farthest", "largest", "length"]

# of places (n, draws) at the highest and the lowest where each may be
_TAKEN: dict[How, Callable[[Array, Array], Array]] = {
    "range": lambda high, low: np.asarray(high.max(axis=0) - low.min(axis=0)),
    "farthest": lambda high, low: np.asarray(2 * np.maximum(high.max(axis=0), -low.min(axis=0))),
    "largest": lambda high, low: np.asarray(high.max(axis=0)),
    "length": lambda high, low: np.asarray(np.sqrt((high**2).sum(axis=0))),
}
Errors = Callable[[slice], tuple[Array, Array]]


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
    together, taken = _table()[: moves.shape[1]], _TAKEN[how]
    errors = _errors(
        how, each_mm, stands_for, moves.shape[1], None if pairs is None else pairs[kept],
        None if fitted is None else fitted[kept],
    )  # fmt: skip

    def drawn(at: Array, erring: tuple[Array, Array], size: float = 1.0) -> Array:
        high = at + size * erring[0]
        return taken(high, high if erring[0] is erring[1] else at + size * erring[1])

    found, by_itself, once, twice = (np.empty(DRAWS) for _ in range(4))
    still = places[:, None]
    read = still if seen is None else seen[kept][:, None]
    for block in BLOCKS:
        erring = errors(block)
        found[block] = drawn(still + moves @ together[:, block], erring)
        by_itself[block] = drawn(still, erring)
        if seen is not None:
            once[block], twice[block] = drawn(read, erring), drawn(read, erring, float(np.sqrt(2)))
    off = np.sort(found - float(taken(still, still)[0]))
    last = round(ONE_SIDE * (DRAWS - 1))
    U = max(float(off[last]), -float(off[DRAWS - 1 - last]))
    if seen is not None:
        first, slope = float(once.mean()), float(twice.mean() - once.mean()) / GROWN
        beyond = float(taken(read, read)[0]) - first + float(np.sqrt(2)) * slope
        U = max(U, max(beyond, 0.0) + 2 * float(found.std()))
    return Drawn(float(by_itself.std()), U)


def _errors(how: How, each_mm: float, stands_for: Array, skipped: int, pairs: Indices | None, fitted: Array | None) -> Errors:
    """Errors (n, draws) of places by themselves, for a block of the draws: the highest and the lowest of those for which each
    stands.

    ``skipped``: rows of the table that are taken already; ``pairs``, ``fitted``: as of ``drawn_extreme``.
    """
    alone, behind = _table()[skipped:], stands_for > 0
    if behind.any():
        largest = _largest_of(float(stands_for[behind][0]))
    numbers, which = (None, None) if pairs is None else np.unique(pairs, return_inverse=True)
    basis = None if fitted is None or behind.any() or pairs is not None else _spanned(fitted)

    def of(block: slice) -> tuple[Array, Array]:
        if numbers is not None and which is not None:
            normal = _rows(alone, len(numbers), block)[which.reshape(-1, 2)].sum(axis=1) / np.sqrt(2)
        else:
            normal = _rows(alone, len(stands_for), block)
        if basis is not None:
            normal = normal - basis @ (basis.T @ normal)
        if not behind.any():
            errors = each_mm * normal
            return errors, errors
        highest = each_mm * normal
        if how == "largest":
            highest[behind] = each_mm * largest(normal[behind])
            return highest, highest
        lowest = highest.copy()
        highest[behind], lowest[behind] = each_mm * largest(normal[behind]), -each_mm * largest(-normal[behind])
        return highest, lowest

    return of


def _largest_of(count: float) -> Callable[[Array], Array]:
    """The largest of so many normal numbers, drawn by one: its probability, to the power of one over the count. Between the
    numbers for which it is worked out it goes straight."""
    at = np.linspace(-REACH, REACH, round(2 * REACH * FINE) + 1)
    values = np.asarray(special.ndtri_exp(special.log_ndtr(at) / count))
    steps = np.append(np.diff(values), 0.0)

    def of(normal: Array) -> Array:
        place = FINE * (np.clip(normal, -REACH, REACH) + REACH)
        below = place.astype(np.int64)
        return np.asarray(values[below] + (place - below) * steps[below])

    return of


def _rows(table: Array, count: int, block: slice) -> Array:
    """(count, draws) of a block: beyond the table its rows come again, each turned on."""
    if count <= len(table):
        return table[:count, block]
    at = np.arange(block.start, block.stop)
    again = [table[: count - first, (at - 17 * k) % DRAWS] for k, first in enumerate(range(0, count, len(table)))]
    return np.vstack(again)


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
