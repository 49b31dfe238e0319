"""PLY (the polygon file format of Stanford University, 1.0), binary, little-endian: points with numbers beside them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

KINDS = {"f8": "double", "f4": "float", "i4": "int"}


def write_ply(columns: Mapping[str, NDArray], comments: Sequence[str] = ()) -> bytes:
    """One vertex a row; ``columns`` by the name of the property, (n,) each: whole numbers, or float64 or float32 as it is."""
    kinds = {
        name: "i4" if values.dtype.kind in "iu" else f"f{min(values.dtype.itemsize, 8)}" for name, values in columns.items()
    }
    rows = np.empty(len(next(iter(columns.values()))), [(name, f"<{kind}") for name, kind in kinds.items()])
    for name, values in columns.items():
        rows[name] = values
    said = [" ".join(comment.split()).encode("ascii", "replace").decode() for comment in comments]
    head = [
        "ply", "format binary_little_endian 1.0", *(f"comment {words}" for words in said), f"element vertex {len(rows)}",
        *(f"property {KINDS[kind]} {name}" for name, kind in kinds.items()), "end_header",
    ]  # fmt: skip
    return ("\n".join(head) + "\n").encode() + rows.tobytes()
