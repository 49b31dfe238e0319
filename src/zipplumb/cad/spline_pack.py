"""Exact surfaces of free faces as bytes: they are kept beside the model, and are not sent to the stage."""

from __future__ import annotations

import io
from collections.abc import Mapping

import numpy as np

from ..core.spline_surface import SplineSurface

PARTS = ("degrees", "u", "v", "poles", "outward")


def pack_splines(splines: Mapping[int, SplineSurface]) -> bytes:
    """The splines, by face."""
    arrays: dict[str, np.ndarray] = {}
    for face, s in splines.items():
        values = (np.array(s.degrees), *s.knots, s.poles, np.array(s.outward))
        arrays |= {f"{face}.{part}": value for part, value in zip(PARTS, values, strict=True)}
    held = io.BytesIO()
    np.savez_compressed(held, **arrays)  # type: ignore[arg-type]
    return held.getvalue()


def unpack_splines(data: bytes | None) -> dict[int, SplineSurface]:
    """Read packed surfaces back, by face; empty if there are none."""
    if not data:
        return {}
    with np.load(io.BytesIO(data), allow_pickle=False) as held:
        faces = sorted({int(name.split(".")[0]) for name in held.files})
        found = {}
        for face in faces:
            degrees, u, v, poles, outward = (held[f"{face}.{part}"] for part in PARTS)
            found[face] = SplineSurface((int(degrees[0]), int(degrees[1])), (u, v), poles, float(outward))
        return found
