"""The base of scans: lines of light, and what of them counts."""

from __future__ import annotations

from collections.abc import Mapping

from ...alignment import Alignment
from ...cloud.working import CloudWork
from ...frames import Motion
from ..base import RowRecipe


class ScanRecipe(RowRecipe):
    """A row that gives a cloud."""

    role = "cloud"
    takes_light = True

    def work(
        self, axes: Mapping[int, Motion], stations: Mapping[int, Motion], placed: Alignment | None, wanted: Mapping[int, int]
    ) -> CloudWork:
        """What is to be worked out of its lines. ``wanted``: faces, by the rows that take its points on them."""
        raise NotImplementedError
