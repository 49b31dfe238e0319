"""A value whose uncertainty is computed when it is first read.

Most numbers of a sheet have no limits, and are looked at by nobody while others change: what they rest on, and how they answer
to it, is kept with them, and worked out where it is needed.
"""

from __future__ import annotations

import logging
from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from ..records import changed
from ..uncertainty import Uncertainty, exact

log = logging.getLogger(__name__)


@dataclass(frozen=True, eq=False)
class Sure:
    """How sure a number is: its uncertainty by source, why it is not proven whatever U is, or "".

    ``near``: U where the number is the length of something that may as well be nothing; else None.
    """

    uncertainty: Uncertainty
    unproven: str = ""
    near: float | None = None


@dataclass(frozen=True, eq=False)
class Told:
    """A number in a system. ``worked_out``: how sure it is; asked once, a fault of it makes the number not proven."""

    value: float
    worked_out: Callable[[], Sure]

    @classmethod
    def known(cls, value: float, uncertainty: Uncertainty, near: float | None = None) -> Told:
        return cls(value, lambda: Sure(uncertainty, near=near))

    @cached_property
    def sure(self) -> Sure:
        try:
            return self.worked_out()
        except Exception as error:  # whatever a formula does a little beside where the number itself was worked out
            log.error("a fault in how sure a number is", exc_info=error)
            return Sure(exact(1), f"How sure it is could not be worked out ({type(error).__name__}).")

    @property
    def uncertainty(self) -> Uncertainty:
        return self.sure.uncertainty

    @property
    def unproven(self) -> str:
        return self.sure.unproven

    @property
    def near(self) -> float | None:
        return self.sure.near

    def but(self, change: Callable[[Sure], dict[str, Any]], value: float | None = None) -> Told:
        """A copy with another value, or with parts of its uncertainty changed; these are computed when first read."""
        return Told(self.value if value is None else value, lambda: changed(self.sure, **change(self.sure)))


NOTHING_TOLD = Told.known(0.0, exact(0))
