"""The time as the record has it."""

from __future__ import annotations

from datetime import UTC, datetime


def utc_now() -> datetime:
    """Now in UTC, without saying so: MariaDB's columns know no zones."""
    return datetime.now(UTC).replace(tzinfo=None)
