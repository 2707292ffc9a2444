"""A cache of results, bounded by count and by bytes, that makes each result once."""

from __future__ import annotations

import threading
import time
from collections import OrderedDict
from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, fields, is_dataclass
from datetime import date
from functools import cache
from typing import Any, Final, TypeVar, cast

import numpy as np
import polars as pl
from scipy.sparse import csr_array

T = TypeVar("T")

_KEPT: Final = 256
_MOST_BYTES: Final = 192 * 2**20
_WEIGHED: Final = 32


@dataclass(frozen=True, slots=True)
class Mapped:
    """
    A result whose frames lie on disk: what it weighs is what they hold besides, and a share of what they keep others
    from keeping.
    """

    result: Any


_MAPPED_SHARE: Final = 8


def _bare(result: Any) -> Any:
    return result.result if isinstance(result, Mapped) else result


def _bytes_of(result: Any, share: int = 1) -> int:
    """
    What the frames of a result hold: its own, or those of its fields and items; of many alike, as some of them tell.

    share: by which frames count.
    """
    if type(result) in _WEIGHTLESS:
        return 0
    if isinstance(result, Mapped):
        return _bytes_of(result.result, _MAPPED_SHARE)
    if isinstance(result, pl.DataFrame):
        return int(result.estimated_size()) // share
    if isinstance(result, pl.Series):
        return int(result.estimated_size())
    if isinstance(result, csr_array):
        return sum(_bytes_of(each) for each in (result.data, result.indices, result.indptr))
    if isinstance(result, np.ndarray):
        return int(result.nbytes)
    if is_dataclass(result) and not isinstance(result, type):
        return sum(_bytes_of(getattr(result, name), share) for name in _field_names(type(result)))
    if isinstance(result, Mapping):
        return _bytes_of_all(list(result.values()), share)
    if isinstance(result, list | tuple):
        return _bytes_of_all(result, share)
    return 0


_WEIGHTLESS: Final = frozenset({type(None), bool, int, float, str, date})


@cache
def _field_names(kind: type) -> tuple[str, ...]:
    return tuple(each.name for each in fields(kind))


def _bytes_of_all(entries: Sequence[Any], share: int) -> int:
    some = entries[:: max(1, len(entries) // _WEIGHED)]
    return sum(_bytes_of(each, share) for each in some) * len(entries) // max(1, len(some))


@dataclass(slots=True)
class _Kept:
    """A result. rate: seconds it took to make per byte; worth: see `Cache`."""

    result: Any
    size: int
    rate: float
    worth: float


class Cache:
    """
    Results shared by the threads of one process. Threads that ask for one that is not there wait for the first of
    them to make it.

    kept: how many; the one not asked for longest gives way. most_bytes: what the frames among
    them may hold together, which is what keeps a worker small whatever the account's size; here
    the one gives way that is least worth its room, as GreedyDual-Size has it (Cao and Irani,
    1997): worth = seconds per byte + the worth of what gave way last, set anew at each use. So
    names that take half a second to ask for outlive sums that are made in a tenth of it. A
    result larger than all may be is kept alone.
    """

    def __init__(
        self, kept: int = _KEPT, most_bytes: int = _MOST_BYTES, clock: Callable[[], float] = time.perf_counter
    ) -> None:
        self._kept, self._most_bytes, self._clock = kept, most_bytes, clock
        self._lock = threading.Lock()
        self._making: dict[Hashable, threading.Lock] = {}
        self._items: OrderedDict[Hashable, _Kept] = OrderedDict()
        self._floor = 0.0

    def clear(self) -> None:
        """Lets go of all results."""
        with self._lock:
            self._items.clear()

    @property
    def bytes_held(self) -> int:
        """What the results hold together, as they were weighed."""
        with self._lock:
            return sum(each.size for each in self._items.values())

    def peek(self, key: Hashable) -> Any:
        """The result kept under the key, or None; nothing is made."""
        with self._lock:
            found = self._items.get(key)
            return None if found is None else found.result

    def get(self, key: Hashable, make: Callable[[], T | Mapped]) -> T:
        """
        The result kept under the key, made when it is not there.

        `make` may ask for other keys, never for its own, and may answer with a `Mapped` one. Where it fails, whoever
        waited for it tries for themselves.
        """
        found = self._found(key)
        if found is not None:
            return cast(T, found.result)
        with self._lock:
            turn = self._making.setdefault(key, threading.Lock())
        with turn:
            found = self._found(key)
            if found is not None:
                return cast(T, found.result)
            begun = self._clock()
            try:
                mapped = make()
                self._keep(key, mapped, self._clock() - begun)
            finally:
                with self._lock:
                    self._making.pop(key, None)
            return cast(T, _bare(mapped))

    def _found(self, key: Hashable) -> _Kept | None:
        with self._lock:
            found = self._items.get(key)
            if found is not None:
                self._items.move_to_end(key)
                found.worth = self._floor + found.rate
            return found

    def swap(self, key: Hashable, same: Mapped) -> None:
        """Holds an equal result from disk in place of the one under the key, if that is still kept."""
        size = _bytes_of(same)
        with self._lock:
            if (found := self._items.get(key)) is not None:
                found.result, found.size = same.result, size

    def put(self, key: Hashable, result: Any) -> None:
        """Keeps a result that cost nothing to make."""
        self._keep(key, result, 0.0)

    def _keep(self, key: Hashable, result: Any, seconds: float) -> None:
        size = _bytes_of(result)
        result = _bare(result)
        # Hundredths of a second: less is chance, and then age decides.
        rate = round(seconds, 2) / size if size else 0.0
        with self._lock:
            self._items[key] = _Kept(result, size, rate, self._floor + rate)
            self._items.move_to_end(key)
            while len(self._items) > self._kept:
                self._items.popitem(last=False)
            value = sum(each.size for each in self._items.values())
            while value > self._most_bytes:
                others = [(each.worth, name) for name, each in self._items.items() if each.size and name != key]
                if not others:
                    break
                self._floor, least = min(others, key=lambda each: each[0])
                value -= self._items.pop(least).size
