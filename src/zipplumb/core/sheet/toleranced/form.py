"""The base of the form tolerances: the least zone that holds what was touched, wherever it lies (ISO 1101, minimum zone)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import ClassVar

import numpy as np

from ...alignment import Alignment
from ...errors import DeriveError
from ...fitting import fit
from ...frames import Array
from ..judging import in_system
from ..results import FoundFeature
from .base import KEPT, Member, ToleranceRecipe, Zone, surface_of


class FormRecipe(ToleranceRecipe):
    """``fits``: the kind of fit whose minimum zone it is; ``for_types``: the shapes that may have such a form."""

    fits: ClassVar[str]
    for_types: ClassVar[tuple[type, ...]]
    for_words: ClassVar[str]

    def member(self, row: int, found: FoundFeature) -> Member:
        if not isinstance(found.shape, self.for_types):
            raise DeriveError(f"{found.name} has no {self.key()}.", KEPT, f"Choose {self.for_words}.")
        if found.fit is None or found.contacts is None:
            raise DeriveError(f"{found.name} is not touched itself.", KEPT, "Choose a feature that is measured.")
        if found.fit.spare < 1:
            raise DeriveError(f"{found.name} has no hit to spare, so its form is not seen.", KEPT, "Take more hits on it.")
        return self.touched(row, found)

    def touched(self, row: int, found: FoundFeature) -> Member:
        """The places on it."""
        return surface_of(row, found)

    def zone_for(self, member: Member, found: Mapping[int, FoundFeature], system: Alignment | None) -> Zone:
        return Zone(self.least, system=system, still=True, signed=self.signed(member, system))

    def signed(self, member: Member, system: Alignment | None) -> Callable[[Array], Array]:
        """How far places lie off the fitted shape: about what the least zone has to hold."""
        assert member.found.feature is not None
        shape = in_system(member.found.feature, system).shape
        return lambda points: np.asarray(shape.distance(points))

    def least(self, points: Array) -> float:
        """The least zone that holds them."""
        return float(fit(self.fits, points, criterion="chebyshev").form)
