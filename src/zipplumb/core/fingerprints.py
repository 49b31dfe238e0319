"""Short names for values."""

from __future__ import annotations

import hashlib


def fingerprint(*parts: object) -> str:
    """A short name for some values, the same for the same values."""
    return hashlib.blake2b("\x1f".join(map(str, parts)).encode(), digest_size=12).hexdigest()
