"""Named sets of rivals, as an account keeps them: a line each, “name = item item”."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

MOST_SETS: Final = 20
MOST_ITEMS: Final = 60
_SIGN: Final = "="


def named(lines: Sequence[str]) -> dict[str, tuple[str, ...]]:
    """The items of each set by its name; lines without a name or items say nothing."""
    found = {}
    for line in lines:
        name, sign, items = line.partition(_SIGN)
        if sign and name.strip() and items.split():
            found[name.strip()] = tuple(items.split())
    return found


def with_set(lines: Sequence[str], name: str, items: Sequence[str]) -> tuple[str, ...]:
    """The lines with a set kept under a name, in place of the one of that name; without it where it has no items."""
    sets = {**named(lines), name: tuple(items)}
    return tuple(f"{each} {_SIGN} {' '.join(own)}" for each, own in sets.items() if own)
