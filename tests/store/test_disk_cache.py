"""The disk_cache: results that processes share, none of them stale, all of them to be deleted at will."""

import os
import pickle
import subprocess
import threading
from datetime import date
from enum import StrEnum
from pathlib import Path

import numpy as np
import polars as pl
import pytest
import scipy.io

from nimbus_reef.core.windows import Window
from nimbus_reef.formats import sandbox
from nimbus_reef.store.reading import disk_cache
from nimbus_reef.store.reading.disk_cache import DiskCache, generation_name
from nimbus_reef.store.record.server import write_whole

GENERATION = (("search_term_daily", 4), ("settings", 1))
KEY = ("judged", 7, GENERATION, Window(date(2026, 1, 1), date(2026, 1, 30)), 0.28)


class Colour(StrEnum):
    RED = "red"


@pytest.fixture(autouse=True)
def everything_is_dear(monkeypatch):
    monkeypatch.setattr(disk_cache, "DEAR", 0.0)


def rows(size=3):
    frame = pl.DataFrame({"n": range(size), "name": [f"name {n}" for n in range(size)]})
    return frame.with_columns(
        kind=pl.col("name").cast(pl.Categorical), part=pl.concat_list("n", "n"), none=pl.lit(None)
    )


def kept(place, made, key=KEY):
    """What the next process takes from there, after this one put it there."""
    first = DiskCache(place)
    assert first.get(7, key, lambda: made, lambda _: None) is made
    first.settle()
    return DiskCache(place).get(7, key, lambda: pytest.fail("it was to be there"), lambda _: None).result


def test_frames_come_back_as_they_were_whatever_they_lie_in(tmp_path):
    made = {"rows": rows(), "all": [(rows(5), Window(date(2026, 1, 1), date(2026, 1, 2)))], "none": None}
    found = kept(tmp_path, made)
    assert found["rows"].equals(made["rows"])
    assert found["rows"].schema == made["rows"].schema
    assert found["all"][0][0].equals(rows(5))
    assert (found["all"][0][1], found["none"]) == (made["all"][0][1], None)


def test_a_result_that_is_nothing_is_a_result(tmp_path):
    assert kept(tmp_path, None) is None


def test_large_results_are_held_from_disk_from_then_on(tmp_path):
    """Whoever made one is told of the same on disk, whose memory all share."""
    made, held, told_of = rows(200_000), [], threading.Event()
    first = DiskCache(tmp_path)
    first.get(7, KEY, lambda: made, lambda same: (held.append(same), told_of.set()))
    assert told_of.wait(20)
    assert held[0].result.equals(made)
    first.get(7, (*KEY, 1), lambda: rows(), held.append)
    first.settle()
    assert len(held) == 1


def test_what_is_quickly_made_is_not_put_there(tmp_path, monkeypatch):
    monkeypatch.setattr(disk_cache, "DEAR", 5.0)
    first = DiskCache(tmp_path)
    first.get(7, KEY, lambda: 1, lambda _: None)
    first.settle()
    assert first.peek(7, KEY) is None
    assert list(tmp_path.iterdir()) == []


def test_another_load_another_key_another_code_are_other_results(tmp_path, monkeypatch):
    kept(tmp_path, "found")
    here = DiskCache(tmp_path)
    assert here.peek(7, KEY).result == "found"
    later = (*KEY[:2], (("search_term_daily", 5), ("settings", 1)), *KEY[3:])
    others = [later, (*KEY[:-1], 0.29), ("judged", 7, GENERATION, Window(date(2026, 1, 1), date(2026, 1, 29)), 0.28)]
    assert [here.peek(7, each) for each in others] == [None] * 3
    assert here.peek(8, KEY) is None
    monkeypatch.setattr(disk_cache, "_code", lambda: "another")
    assert here.peek(7, KEY) is None


def test_a_key_is_spelt_alike_in_every_process():
    """Sets have no order of their own, and mappings one that nobody meant."""
    spelt = [
        disk_cache._plain((frozenset("abc"), {"b": 1, "a": {Colour.RED}}, date(2026, 1, 1))),
        disk_cache._plain((frozenset("cab"), {"a": {Colour.RED}, "b": 1}, date(2026, 1, 1))),
    ]
    assert spelt[0] == spelt[1]


def test_a_key_that_cannot_be_spelt_leaves_its_result_in_memory(tmp_path):
    here = DiskCache(tmp_path)
    assert here.get(7, ("x", 7, GENERATION, object()), lambda: "made", lambda _: None) == "made"
    here.settle()
    assert list(tmp_path.iterdir()) == []


def test_what_cannot_be_written_costs_nothing_but_speed(tmp_path):
    here = DiskCache(tmp_path)
    assert callable(here.get(7, KEY, lambda: lambda: 1, lambda _: None))
    here.settle()
    assert here.peek(7, KEY) is None
    assert [each for each in tmp_path.rglob("*") if each.is_file()] == []


def test_a_result_that_is_broken_is_worked_out_anew(tmp_path):
    kept(tmp_path, rows())
    (file,) = tmp_path.rglob("result")
    file.write_bytes(file.read_bytes()[:20])
    assert kept(tmp_path, "anew") == "anew"


@pytest.mark.parametrize(
    "call",
    [
        (os.system, ("false",)),
        (write_whole, (Path("/nowhere"), "")),
        (eval, ("1",)),
        (np.load, ("/nowhere",)),
        (np.fromfile, ("/nowhere",)),
        (pl.read_csv, ("/nowhere",)),
        (scipy.io.loadmat, ("/nowhere",)),
        (subprocess.Popen, ("false",)),
        (sandbox._Reader, ()),
        (Path, ("/nowhere",)),
    ],
)
def test_only_values_are_read(tmp_path, call):
    """Whoever could write there must not be able to run anything here, nor any function of the application."""

    class Bad:
        def __reduce__(self):
            return call

    kept(tmp_path, "good")
    (file,) = tmp_path.rglob("result")
    file.write_bytes(pickle.dumps(Bad()))
    assert DiskCache(tmp_path).peek(7, KEY) is None


def test_no_way_leads_round_through_a_module_that_another_one_imports(tmp_path):
    """`nimbus_reef.formats.sandbox` imports subprocess: a dotted name must not reach it."""
    kept(tmp_path, "good")
    (file,) = tmp_path.rglob("result")
    file.write_bytes(b"\x80\x04\x8c\x18nimbus_reef.formats.sandbox\x8c\x10subprocess.Popen\x93\x8c\x05false\x85R.")
    assert DiskCache(tmp_path).peek(7, KEY) is None


def test_what_others_remove_or_finish_meanwhile_is_passed_over(tmp_path, monkeypatch):
    kept(tmp_path, rows(1000), KEY)
    here = DiskCache(tmp_path)
    (place,) = [each for each in tmp_path.glob("*/*/*") if not each.name.startswith(".")]
    gone = [place.with_name(".written just now"), place.with_name("removed just now")]
    monkeypatch.setattr(Path, "iterdir", lambda home, inside=Path.iterdir: iter([*gone, *inside(home)]))
    assert here.sweep({7: generation_name(GENERATION)}) == 0
    assert not here.is_full({7: generation_name(GENERATION)}, 7)
    assert here.peek(7, KEY) is not None


def test_what_is_over_goes_and_the_rest_has_a_bound(tmp_path, monkeypatch):
    """An account's results for what was loaded before, those of other code, then those longest not asked for."""
    old = ("judged", 7, (("search_term_daily", 3),), 1)
    kept(tmp_path, rows(1000), old)
    for number in range(4):
        kept(tmp_path, rows(1000), (*KEY, number))
    here = DiskCache(tmp_path, most_bytes=1 << 30)
    assert here.sweep({7: generation_name(GENERATION)}) == 0, "a page may still be reading it"
    monkeypatch.setattr(disk_cache, "_STILL_READ", -1.0)
    assert here.sweep({7: generation_name(GENERATION)}) == 1
    assert here.peek(7, old) is None
    places = [here._place(7, (*KEY, number)) for number in range(4)]
    for age, place in enumerate(places):
        os.utime(place, (1_000_000 - age, 1_000_000 - age))
    here.peek(7, (*KEY, 3))
    size = sum(file.stat().st_size for file in places[0].iterdir())
    small = DiskCache(tmp_path, most_bytes=2 * size)
    assert small.is_full({7: generation_name(GENERATION)}, 7)
    assert not small.is_full({7: generation_name(GENERATION)}, 8), "an account of which nothing is there yet"
    assert not small.is_full({7: "what was loaded before"}, 7), "what is over has no room of its own"
    assert not DiskCache(tmp_path, most_bytes=9 * size).is_full({7: generation_name(GENERATION)}, 7)
    assert small.sweep({7: generation_name(GENERATION)}) == 2
    assert [place.exists() for place in places] == [True, False, False, True]
