"""Secrets in addresses: made once, shown once, and kept as a hash."""

from __future__ import annotations

import hashlib
import secrets

TOKEN_BYTES, LONGEST_TOKEN = 24, 64


def new_token() -> tuple[str, str]:
    """A secret, and its hash, which alone is kept."""
    token = secrets.token_urlsafe(TOKEN_BYTES)
    return token, _hash(token)


def hash_of(token: str) -> str | None:
    """None of what is longer than any secret."""
    return None if len(token) > LONGEST_TOKEN else _hash(token)


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()
