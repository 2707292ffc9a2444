"""Tokens that somebody holds: shown once, known afterwards by a digest alone."""

from __future__ import annotations

import hashlib
import secrets
from typing import Final

_BYTES: Final = 32


def new_token() -> str:
    """A token that nobody guesses."""
    return secrets.token_urlsafe(_BYTES)


def digest(token: str) -> str:
    """What is kept of it."""
    return hashlib.sha256(token.encode()).hexdigest()
