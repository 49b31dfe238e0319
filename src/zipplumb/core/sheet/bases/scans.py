"""The base of scans: lines of light, and what of them counts."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ...alignment import Alignment
from ...cloud.working import CloudWork, SortingWork
from ...frames import Motion
from ..base import RowRecipe


class ScanRecipe(RowRecipe):
    """A row that gives a cloud."""

    role = "cloud"
    takes_light = True

    @property
    def what_counts(self) -> Any:
        """All of the recipe that its points rest on."""
        raise NotImplementedError

    @property
    def whose(self) -> Any:
        """All of the recipe by which they are given to rows."""
        raise NotImplementedError

    def work(self, axes: Mapping[int, Motion], stations: Mapping[int, Motion]) -> CloudWork:
        """What is to be worked out of its lines."""
        raise NotImplementedError

    def sorting(self, placed: Alignment, wanted: Mapping[int, int]) -> SortingWork:
        """How its points are given to rows. ``wanted``: faces, by the rows that take the points on them."""
        raise NotImplementedError
