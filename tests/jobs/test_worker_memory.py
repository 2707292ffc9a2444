"""A worker's memory: kept while something is worked out, given back when nobody is at it any more."""

import subprocess
import sys

from nimbus_reef.jobs import worker_memory


class Library:
    """Notes what the C library is told."""

    def __init__(self):
        self.told, self.trimmed = [], 0

    def mallopt(self, what, value):
        self.told.append((what, value))

    def malloc_trim(self, _):
        self.trimmed += 1


def test_what_was_kept_goes_back_when_the_last_one_is_done(monkeypatch):
    library = Library()
    monkeypatch.setattr(worker_memory, "_C", library)
    worker_memory.keep()
    assert len(library.told) == 3
    with worker_memory.given_back():
        with worker_memory.given_back():
            pass
        assert library.trimmed == 0, "another one is still at it"
    assert library.trimmed == 1


def test_a_library_without_these_habits_is_let_be(monkeypatch):
    monkeypatch.setattr(worker_memory, "_C", object())
    worker_memory.keep()
    with worker_memory.given_back():
        pass


def test_large_arrays_are_not_asked_of_the_system_anew():
    """
    In a process of its own, as the habit stays: most memory of an array that was let go is taken again, no fault for
    each page of it. Of less than two megabytes, as the system may give larger ones in one huge page.
    """
    told = subprocess.run([sys.executable, "-c", FAULTS], capture_output=True, text=True, check=True).stdout
    before, after, pages = map(int, told.split())
    assert after < pages / 4 < before


FAULTS = """
import resource
import numpy as np
from nimbus_reef.jobs import worker_memory

def faults():
    begun = resource.getrusage(resource.RUSAGE_SELF).ru_minflt
    for _ in range(40):
        np.ones(3 << 16)
    return resource.getrusage(resource.RUSAGE_SELF).ru_minflt - begun

before = faults()
worker_memory.keep()
faults()
print(before, faults(), 40 * (3 << 19) // resource.getpagesize())
"""
