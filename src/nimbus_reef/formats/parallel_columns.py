"""Columns of a long table side by side: what one needs no other is worked out for two of them at once."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from typing import Final, TypeVar

A = TypeVar("A")
B = TypeVar("B")
_AT_ONCE: Final = 2
"""Polars lets other threads work while it does; more than two hold more of the file's memory than they save time."""
_LONG: Final = 50_000
"""Rows from which on it is quicker than one after the other."""


def each(work: Callable[[A], B], columns: Iterable[A], rows: int) -> list[B]:
    """What `work` makes of each of the columns of so many rows, in their order; an error of one is raised."""
    if rows < _LONG:
        return [work(column) for column in columns]
    with ThreadPoolExecutor(_AT_ONCE) as pair:
        return list(pair.map(work, columns))
