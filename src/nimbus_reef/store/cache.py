"""What was asked for last and may be asked for again: bounded by number and by bytes."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from dataclasses import fields, is_dataclass
from typing import Any, Final, TypeVar

import polars as pl

T = TypeVar("T")

_KEPT: Final = 256
_MOST_BYTES: Final = 160 * 2**20


def _bytes_of(made: Any) -> int:
    """What the frames of a result hold, its own or those of its fields."""
    if isinstance(made, pl.DataFrame):
        return int(made.estimated_size())
    if is_dataclass(made) and not isinstance(made, type):
        return sum(_bytes_of(getattr(made, each.name)) for each in fields(made))
    return 0


class Cache:
    """
    The results asked for last, shared by the threads of one process.

    most_bytes: what the frames among them may hold together; a result larger than that is
    kept alone. Counting them is what keeps a worker small whatever the account's size.
    """

    def __init__(self, kept: int = _KEPT, most_bytes: int = _MOST_BYTES) -> None:
        self._kept, self._most_bytes = kept, most_bytes
        self._lock = threading.Lock()
        self._items: OrderedDict[Hashable, Any] = OrderedDict()
        self._sizes: dict[Hashable, int] = {}

    def peek(self, key: Hashable) -> Any:
        """The result kept under the key, or null; nothing is made."""
        with self._lock:
            return self._items.get(key)

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """The result kept under the key, made when it is not there."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                found: T = self._items[key]
                return found
        made = make()
        self.put(key, made)
        return made

    def put(self, key: Hashable, made: Any) -> None:
        """Keeps a result; the one not asked for longest gives way."""
        with self._lock:
            self._items[key] = made
            self._items.move_to_end(key)
            self._sizes[key] = _bytes_of(made)
            while len(self._items) > self._kept or (
                len(self._items) > 1 and sum(self._sizes.values()) > self._most_bytes
            ):
                gone, _ = self._items.popitem(last=False)
                del self._sizes[gone]
