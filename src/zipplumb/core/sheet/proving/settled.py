"""Whether a row is settled while it is measured, before all planned hits are there."""

from __future__ import annotations

from typing import Literal

import numpy as np

from ...uncertainty import Source
from ..judging import verdict_of
from ..results import RowResult
from .chance import Outlook

Settled = Literal["", "in", "out", "no use"]
HARDLY = 0.05  # how likely the hits that are left settle it, under which they are of no use


def settled(found: RowResult, left: int) -> Settled:
    """What is known already of a row that is being measured, with ``left`` hits to come.

    "in" or "out" where that is proven as it stands; "no use" where more hits of its own would hardly change that it is not
    proven; else "".
    """
    judged = [c for c in found.characteristics if c.deviation is not None and (c.lower is not None or c.upper is not None)]
    if not judged or any(c.U is None or c.unproven for c in judged):
        return ""
    words = {verdict_of(c, c.U or 0.0).word for c in judged}
    if "out" in words:
        return "out"
    if "not proven" not in words:
        return "in"
    open_ = [c for c in judged if verdict_of(c, c.U or 0.0).word == "not proven"]
    share, own = left / max(found.hits + left, 1), Source("hits", found.row)
    for c in open_:
        outlook = Outlook(c)
        u_then = np.sqrt(max(outlook.u**2 - share * c.uncertainty.share(own) ** 2, 0.0))
        if outlook.joined(u_then, outlook.k * u_then) >= HARDLY:
            return ""
    return "no use"
