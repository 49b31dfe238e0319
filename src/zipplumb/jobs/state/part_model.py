"""The stored model of a part, with the exact surfaces of its free faces."""

from __future__ import annotations

from dataclasses import replace

from ...cad import CadModel
from ...cad.spline_pack import unpack_splines
from ...store.models import Part


def model_of(part: Part) -> CadModel | None:
    """None where the part has none yet."""
    return None if part.model is None else replace(CadModel.unpack(part.model), splines=unpack_splines(part.splines))
