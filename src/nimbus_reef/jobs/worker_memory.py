"""
The C library's memory in a worker: kept while something is worked out, and given back afterwards.

Everywhere else large arrays go back to the system as soon as they are let go (see `nimbus_reef`). One fit of an account
at size makes and lets go of thousands of some megabytes each; asking the system anew for every one of them was a
quarter of its time.
"""

from __future__ import annotations

import ctypes
from collections.abc import Iterator
from contextlib import contextmanager
from threading import Lock
from typing import Final

_C: Final = ctypes.CDLL(None)
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
_LARGEST: Final = 32 << 20
"""Bytes above which an array still is the system's at once; more the C library does not allow."""
_KEPT: Final = 1 << 30


def keep() -> None:
    """
    From now on this process keeps what it lets go. All threads share one heap: the others' may not
    grow beyond 64 MB.
    """
    if hasattr(_C, "mallopt"):
        _C.mallopt(_ARENA_MAX, 1)
        _C.mallopt(_MMAP_THRESHOLD, _LARGEST)
        _C.mallopt(_TRIM_THRESHOLD, _KEPT)


_lock, _at_work = Lock(), 0


@contextmanager
def given_back() -> Iterator[None]:
    """What is kept meanwhile goes back to the system, once nobody is at work any more."""
    global _at_work
    with _lock:
        _at_work += 1
    try:
        yield
    finally:
        with _lock:
            _at_work -= 1
            idle = not _at_work
        if idle and hasattr(_C, "malloc_trim"):
            _C.malloc_trim(0)
