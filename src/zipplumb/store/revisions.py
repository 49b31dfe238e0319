"""Which schemas of the database this version knows."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

MIGRATIONS = Path(__file__).parent / "migrations"


@lru_cache(maxsize=1)
def newest_revision() -> str:
    return max(path.name[:4] for path in (MIGRATIONS / "versions").glob("[0-9]*.py"))
