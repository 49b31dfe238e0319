"""Lines of light of a scanner, as they are sent and kept: packed float32, never lists of numbers.

A point is three numbers: across and away, mm, in the scanner's plane of light (its x and z), and brightness from 0 to 1, NaN
where the scanner tells none. Points stand in the order of their line. A point of NaN alone is a gap: between its neighbours
no light came back.

Points that came from a file lie in no plane: of such a line each is four numbers, x, y, z from the pose of the line, mm, and
brightness.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

Packed = NDArray[np.float32]
FIELDS = 3
IN_SPACE = 4
NUMBERS = {"stripes": FIELDS, "spots": IN_SPACE}  # of a point, by the kind of reading
KIND = np.dtype("<f4")
POINT_BYTES = FIELDS * KIND.itemsize
FAR_MM = 1e6  # a kilometre


def stripe_of_pairs(pairs: Sequence[Sequence[float]]) -> Packed:
    """(n, 3) of pairs across and away, whose brightness is not known."""
    found = np.full((len(pairs), FIELDS), np.nan, KIND)
    found[:, :2] = np.asarray(pairs, float).reshape(-1, 2)
    return found


def stripe_of_bytes(data: bytes) -> Packed:
    """(n, 3) from its packed form.

    Raises
    ------
    ValueError
        Not whole points; a place or a brightness that is none.
    """
    if len(data) % POINT_BYTES:
        raise ValueError(f"it is not whole points of {POINT_BYTES} bytes")
    found = np.frombuffer(data, KIND).reshape(-1, FIELDS)
    gap = np.isnan(found).all(axis=1)
    places, brightness = found[~gap, :2], found[~gap, 2]
    if not (np.abs(places) <= FAR_MM).all():  # neither is NaN
        raise ValueError("a place is not a number within a kilometre")
    if not (np.isnan(brightness) | ((brightness >= 0) & (brightness <= 1))).all():
        raise ValueError("a brightness is not from 0 to 1")
    return found


def is_light(stripe: Packed) -> NDArray[np.bool_]:
    """(n,) which are points, and no gaps."""
    return ~np.isnan(stripe[:, 0])


def packed(stripes: Iterable[Packed]) -> tuple[bytes, tuple[int, ...]]:
    """Stripes one after another, and how many points each has, its gaps counted."""
    each = list(stripes)
    return b"".join(np.ascontiguousarray(stripe, KIND).tobytes() for stripe in each), tuple(map(len, each))


def unpacked(data: bytes, counts: Sequence[int]) -> list[Packed]:
    """The stripes again, without copying."""
    points = np.frombuffer(data, KIND).reshape(-1, FIELDS)
    return np.split(points, np.cumsum(counts)[:-1]) if len(counts) else []
