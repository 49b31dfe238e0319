"""Hashes of values, used as keys of the graph."""

from __future__ import annotations

import hashlib


def fingerprint(*parts: object) -> str:
    """A short name for some values, the same for the same values."""
    found = hashlib.blake2b(digest_size=12)
    for part in parts:
        found.update(part if isinstance(part, bytes) else str(part).encode())
        found.update(b"\x1f")
    return found.hexdigest()
