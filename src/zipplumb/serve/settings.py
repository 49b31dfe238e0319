"""The settings that processes take from the environment."""

from __future__ import annotations

import os

from ..core.errors import InputError


def must_be_set(*names: str) -> None:
    """Raises InputError naming what is missing."""
    missing = [name for name in names if not os.environ.get(name)]
    if missing:
        raise InputError(
            f"{' and '.join(missing)} {'is' if len(missing) == 1 else 'are'} not set.", "Nothing was started.",
            "docs/running.md says what they hold.",
        )  # fmt: skip
