"""
A worker on call: what is large is worked out by it and taken from the disk cache; where none answers,
whoever asked does it.
"""

import fcntl
import shutil
import socket
import threading
import time

import pytest
from polars.testing import assert_frame_equal

from nimbus_reef.analysis import ahead, judged, out_of_budget
from nimbus_reef.analysis.catalog import catch_all
from nimbus_reef.analysis.delivery import hours
from nimbus_reef.analysis.findings import findings
from nimbus_reef.analysis.judged import Judged, judged_targets, judged_terms, judged_words
from nimbus_reef.analysis.selection import asked
from nimbus_reef.jobs import helper_process
from nimbus_reef.jobs.helper_process import HelperProcess, ask
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import accounts, hidden_findings, target_acos
from nimbus_reef.store.reading import delivery_frames, disk_cache
from nimbus_reef.store.reading.cache import Cache
from nimbus_reef.store.reading.disk_cache import DiskCache
from nimbus_reef.store.reading.facts import Facts

DAYS = "2026-09-20..2026-10-09"


@pytest.fixture
def folder(tmp_path, monkeypatch):
    """Of a long name, as a checkout may have. The demo is small: what takes long at size does not here."""
    monkeypatch.setattr(disk_cache, "DEAR", 0.0)
    monkeypatch.setattr(judged, "AT_ONCE", 1)
    monkeypatch.setattr(helper_process, "_LOOKS_EVERY", 0.05)
    place = tmp_path / ("deep" * 30) / "judged"
    place.mkdir(parents=True)
    return place


@pytest.fixture
def asked_for(monkeypatch):
    """What the worker was asked for, in order."""
    found = []

    def noting(what):
        make = ahead.ASKED[what]
        return lambda *of: (found.append(what), make(*of))[1]

    monkeypatch.setattr(ahead, "ASKED", {what: noting(what) for what in ahead.ASKED})
    return found


@pytest.fixture
def worker(demo, folder):
    """Starts one on call, in a thread; returns how to end."""
    done, threads = threading.Event(), []

    def start(ending=None):
        ends = ending or done
        facts = Facts(demo.store, Cache(), DiskCache(folder))
        thread = threading.Thread(target=HelperProcess(facts, folder).keep_on, args=(ends,))
        thread.start()
        threads.append((thread, ends))
        return thread

    yield start
    done.set()
    for thread, ends in threads:
        ends.set()
        thread.join(10)
        assert not thread.is_alive()


def until(said, what):
    end = time.monotonic() + 10
    while not said():
        assert time.monotonic() < end, what
        time.sleep(0.01)


def web(demo, folder):
    return Facts(demo.store, Cache(), DiskCache(folder), lambda what: ask(folder, what))


def the_look(demo, facts):
    account = accounts.by_key(demo.store, "fernhollow-de")
    return asked(facts, account, target_acos.aims(demo.store, account), DAYS)


def listening(folder):
    """Whether somebody takes questions."""

    def tried():
        try:
            with helper_process._address(folder) as address, socket.socket(socket.AF_UNIX) as line:
                line.connect(address)
            return True
        except OSError:
            return False

    return tried


def test_what_is_large_is_worked_out_by_the_worker(demo, folder, worker, asked_for):
    """Figures are those that a process of its own has; what lies on the disk cache is not asked for again."""
    worker()
    until(listening(folder), "nobody is on call")
    here, alone = web(demo, folder), Facts(demo.store)
    selection = the_look(demo, here)
    away, today = hidden_findings.away(demo.store, selection.account.id), today_of(selection.account)
    for work in (judged_targets, judged_terms, judged_words):
        one, other = (work(each, selection).sort("row_id") for each in (here, alone))
        assert_frame_equal(one, other, rel_tol=1e-9)
    one, other = (findings(each, selection, away, today) for each in (here, alone))
    assert [(each.check.key, each.rows["row_id"].to_list()) for each in one.groups] == [
        (each.check.key, each.rows["row_id"].to_list()) for each in other.groups
    ]
    assert asked_for == ["targets", "terms", "words", "findings"]
    again = web(demo, folder)
    assert judged_targets(again, selection).equals(judged_targets(alone, selection))
    assert len(asked_for) == 4


def test_what_is_little_is_not_asked_for(demo, folder, worker, asked_for, monkeypatch):
    worker()
    until(listening(folder), "nobody is on call")
    monkeypatch.setattr(judged, "AT_ONCE", 1_000_000)
    here = web(demo, folder)
    assert len(judged_targets(here, the_look(demo, here)))
    assert asked_for == []


def test_of_many_rows_even_the_sums_are_asked_for(demo, folder, worker, asked_for, monkeypatch):
    worker()
    until(listening(folder), "nobody is on call")
    here, alone = web(demo, folder), Facts(demo.store)
    selection = the_look(demo, here)
    works = (
        lambda facts: facts.sums(selection.account.id, "target_daily", selection.window).sort("target_id"),
        lambda facts: delivery_frames.hour_sums(facts, selection.account.id, selection.window).sort(
            "campaign_id", "hour"
        ),
        lambda facts: delivery_frames.placement_sums(facts, selection.account.id, selection.window),
        lambda facts: hours.sums(facts, selection),
        lambda facts: out_of_budget.hours(facts, selection),
        lambda facts: facts.sums(selection.account.id, "product_ad_daily", selection.window),
        lambda facts: catch_all.target_days(facts, selection),
    )
    for work in works[:1]:
        work(here)
    assert asked_for == []
    monkeypatch.setattr("nimbus_reef.store.reading.facts.MANY", 1)
    here.disk_cache.settle()
    shutil.rmtree(folder / str(selection.account.id))
    here = web(demo, folder)
    for work in works:
        assert_frame_equal(work(here), work(alone))
    assert asked_for == [
        "sums",
        "hour sums",
        "month grid",
        "hours of part",
        "hours out of budget",
        "month grid",
        "cheap clicks",
    ]
    assert catch_all.usual_clicks(here, selection) == catch_all.usual_clicks(alone, selection)
    assert asked_for[-1] == "usual clicks"


def test_sums_do_not_wait_for_verdicts(demo, folder, worker, monkeypatch):
    """Verdicts that take long, and a page of other days that shows its sums meanwhile."""
    goes_on, begun = threading.Event(), threading.Event()
    slow = {**ahead.ASKED, Judged.TARGETS: lambda *_: (begun.set(), goes_on.wait(10))}
    monkeypatch.setattr(ahead, "ASKED", slow)
    worker()
    until(listening(folder), "nobody is on call")
    here = web(demo, folder)
    selection = the_look(demo, here)
    waiting = threading.Thread(target=ask, args=(folder, ("targets", (selection,))))
    waiting.start()
    try:
        assert begun.wait(10)
        assert ask(folder, ("sums", (selection.account.id, "target_daily", selection.window)))
    finally:
        goes_on.set()
        waiting.join(10)


def test_nobody_helps(demo, folder, asked_for):
    """No worker at all, or one that was killed and left its socket."""
    here, alone = web(demo, folder), Facts(demo.store)
    selection = the_look(demo, here)
    assert judged_targets(here, selection).equals(judged_targets(alone, selection))
    with helper_process._address(folder) as address, socket.socket(socket.AF_UNIX) as left:
        left.bind(address)
    assert judged_terms(here, selection).equals(judged_terms(alone, selection))
    assert asked_for == []


def test_a_worker_that_goes_in_the_middle_of_it(demo, folder):
    here = web(demo, folder)
    with helper_process._address(folder) as address, socket.socket(socket.AF_UNIX) as dying:
        dying.bind(address)
        dying.listen()
        threading.Thread(target=lambda: dying.accept()[0].close()).start()
        assert len(judged_targets(here, the_look(demo, here)))


def test_what_goes_wrong_at_the_worker_is_told_where_somebody_reads_it(demo, folder, worker, monkeypatch):
    """It answers the next one all the same."""
    worker()
    until(listening(folder), "nobody is on call")
    here = web(demo, folder)
    selection = the_look(demo, here)
    broken = {**ahead.ASKED, Judged.TARGETS: lambda *_: 1 / 0}
    with monkeypatch.context() as patched:
        patched.setattr(ahead, "ASKED", broken)
        assert not ask(folder, ("targets", (selection,)))
        assert not ask(folder, ("no such thing", ()))
        with helper_process._address(folder) as address, socket.socket(socket.AF_UNIX) as line:
            line.connect(address)
            line.sendall(b"cos\nsystem\n(S'true'\ntR.")
            line.shutdown(socket.SHUT_WR)
            assert line.recv(10) == b""
    assert ask(folder, ("targets", (selection,)))


def test_its_folder_may_be_deleted_at_any_time(demo, folder, worker):
    worker()
    until(listening(folder), "nobody is on call")
    shutil.rmtree(folder)
    until(listening(folder), "it is not on call any more")
    here = web(demo, folder)
    assert ask(folder, ("targets", (the_look(demo, here),)))


def test_what_cannot_be_asked_for_is_worked_out_here(folder, worker):
    worker()
    until(listening(folder), "nobody is on call")
    assert not ask(folder, ("targets", (lambda: None,)))


def test_the_next_worker_takes_over(demo, folder, worker, asked_for):
    first = threading.Event()
    thread = worker(first)
    until(listening(folder), "nobody is on call")
    worker()
    first.set()
    thread.join(10)
    until(listening(folder), "the second did not take over")
    here = web(demo, folder)
    assert ask(folder, ("targets", (the_look(demo, here),)))
    assert asked_for == ["targets"]
    with (folder / "on-call.lock").open("w") as lock, pytest.raises(BlockingIOError):
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
