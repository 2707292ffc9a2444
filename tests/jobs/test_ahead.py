"""What a worker judges ahead: the usual days of every account, once for what is loaded and set, and out of the way."""

import fcntl
import shutil
import threading
import time

import pytest

from nimbus_reef.analysis import ahead as judging
from nimbus_reef.analysis.findings import findings_known
from nimbus_reef.analysis.judged import Judged, is_judged
from nimbus_reef.errors import StoreAway
from nimbus_reef.jobs.ahead import Ahead
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import accounts, hidden_findings, target_acos
from nimbus_reef.store.people.target_acos import set_aim
from nimbus_reef.store.reading import disk_cache
from nimbus_reef.store.reading.disk_cache import DiskCache
from nimbus_reef.store.reading.facts import Facts


@pytest.fixture
def folder(tmp_path, monkeypatch):
    # The demo is small: what takes long at size does not here.
    monkeypatch.setattr(disk_cache, "DEAR", 0.0)
    return tmp_path / "judged"


@pytest.fixture(scope="module")
def usual_days(demo, tmp_path_factory):
    """Where one worker judged the usual days of both brands, and how many accounts it said that those were."""
    made = tmp_path_factory.mktemp("ahead") / "judged"
    with pytest.MonkeyPatch.context() as there:
        there.setattr(disk_cache, "DEAR", 0.0)
        ahead = Ahead(demo.store, made, 1 << 30, lambda: False)
        return made, (ahead.once(), ahead.once())


def selections(demo, folder, account):
    facts = Facts(demo.store, disk_cache=DiskCache(folder))
    return facts, list(judging.selections(facts, account, target_acos.aims(demo.store, account)))


def test_the_usual_days_are_judged_when_somebody_asks_for_them(demo, folder, usual_days):
    """By another process, which has nothing in its memory yet; the month of the newest day is among them."""
    made, counts = usual_days
    shutil.copytree(made, folder)
    every = accounts.all_accounts(demo.store)
    assert counts == (len(every), 0) == (2, 0)
    for account in every:
        facts, asked = selections(demo, folder, account)
        assert {selection.window.days for selection in asked} >= {7, 14, 30, 60, 90}
        assert any(selection.window.first.day == 1 for selection in asked)
        for selection in asked:
            assert is_judged(facts, selection, Judged.TARGETS)
            assert is_judged(facts, selection, Judged.TERMS)
            away = hidden_findings.away(demo.store, account.id)
            assert findings_known(facts, selection, away, today_of(account)) is not None
    assert Ahead(demo.store, folder, 1 << 30, lambda: False).once() == 0, (
        "what one worker did the next does not do again"
    )


def test_other_aims_are_judged_anew(demo, folder, usual_days):
    shutil.copytree(usual_days[0], folder)
    ahead = Ahead(demo.store, folder, 1 << 30, lambda: False)
    assert ahead.once() == 0
    account = accounts.by_key(demo.store, "pellwick-gb")
    set_aim(demo.store, account, 1, "account", "", account.target_acos + 0.05)
    try:
        assert ahead.once() == 1
        facts, asked = selections(demo, folder, accounts.by_key(demo.store, "pellwick-gb"))
        assert all(is_judged(facts, selection, Judged.TARGETS) for selection in asked)
    finally:
        set_aim(demo.store, account, 1, "account", "", account.target_acos)


def test_other_days_do_not_drive_out_those_looked_at_most(demo, folder):
    """As at ten times the size, where all usual days take more room than there is."""
    every = sorted(accounts.all_accounts(demo.store), key=lambda each: -each.id)
    Ahead(demo.store, folder, 1, lambda: False).once()
    for account in every:
        facts, asked = selections(demo, folder, account)
        assert not any(is_judged(facts, selection, Judged.TARGETS) for selection in asked), (
            "there is no room for anything"
        )
    facts, asked = selections(demo, folder, every[0])
    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(DiskCache, "is_full", lambda *_: is_judged(facts, asked[0], Judged.TERMS))
        shutil.rmtree(folder)
        roomy = Ahead(demo.store, folder, 1 << 30, lambda: False)
        assert roomy.once() == len(every)
    facts, asked = selections(demo, folder, every[0])
    assert [is_judged(facts, selection, Judged.TERMS) for selection in asked] == [True] + [False] * (len(asked) - 1)


def test_whoever_waits_comes_first(demo, folder):
    """It stops between two pieces as soon as something is to be loaded, and goes on where it stopped."""
    pieces = []

    def busy():
        pieces.append(1)
        return len(pieces) > 5

    ahead = Ahead(demo.store, folder, 1 << 30, busy)
    assert ahead.once() == 0
    assert len(pieces) == 6
    facts, asked = selections(demo, folder, max(accounts.all_accounts(demo.store), key=lambda each: each.id))
    facts.disk_cache.settle()
    assert not is_judged(facts, asked[-1], Judged.TARGETS)


def test_it_goes_on_until_it_is_told_to_stop_whatever_happens(demo, folder, monkeypatch):
    monkeypatch.setattr("nimbus_reef.jobs.ahead._LOOKS_EVERY", 0.01)
    monkeypatch.setattr("nimbus_reef.jobs.ahead._SWEEPS_EVERY", 0.01)
    done, rounds = threading.Event(), []

    def once(_):
        rounds.append(1)
        if len(rounds) == 1:
            raise StoreAway("The database does not answer.")
        if len(rounds) == 2:
            raise ZeroDivisionError
        done.set()

    monkeypatch.setattr(Ahead, "once", once)
    Ahead(demo.store, folder, 1 << 30, lambda: True).keep_on(done)
    assert len(rounds) == 3


def test_one_worker_of_a_machine_does_it(demo, folder, monkeypatch):
    """The others wait until its lock is free, as it is where it died."""
    monkeypatch.setattr("nimbus_reef.jobs.ahead._LOOKS_EVERY", 0.01)
    done, rounds = threading.Event(), []
    monkeypatch.setattr(Ahead, "once", lambda _: rounds.append(1) or done.set())
    folder.mkdir()
    with (folder / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        waiting = threading.Thread(target=Ahead(demo.store, folder, 1 << 30, lambda: True).keep_on, args=(done,))
        waiting.start()
        time.sleep(0.2)
        assert rounds == []
    waiting.join(10)
    assert rounds == [1]


def test_a_page_that_has_trouble_keeps_no_other_from_being_ready(demo, folder, monkeypatch):
    def trouble(*_):
        raise ZeroDivisionError

    monkeypatch.setattr(judging, "_ROWS", (((), trouble), *judging._ROWS))
    monkeypatch.setattr(judging, "lacking", lambda *_: None)
    monkeypatch.setattr(judging, "_PAGES", ())
    assert Ahead(demo.store, folder, 1 << 30, lambda: False).once() == 2
    account = accounts.by_key(demo.store, "fernhollow-de")
    facts, asked = selections(demo, folder, account)
    assert is_judged(facts, asked[0], Judged.TERMS)
