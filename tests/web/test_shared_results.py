"""What one process has worked out the others take from the disk_cache: the same page, the same file, byte for byte."""

import re
import shutil
import sys
import threading
from dataclasses import replace

import pytest
from tests.web.conftest import signed_in

from nimbus_reef.analysis import ahead, judged
from nimbus_reef.cli import demo as demo_data
from nimbus_reef.jobs.helper_process import HelperProcess
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.reading import disk_cache
from nimbus_reef.store.reading.cache import Cache
from nimbus_reef.store.reading.disk_cache import DiskCache
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.factory import make_app

ACCOUNT = "account=fernhollow-de"
PAGES = (
    "/pulse/",
    "/standing/tree",
    "/standing/products",
    "/standing/formats",
    "/standing/path",
    "/standing/queries",
    "/standing/shape",
    "/movement/drift",
    "/movement/ledger",
    "/movement/why",
    "/movement/trends",
    "/catalog/families",
    "/catalog/ads",
    "/catalog/eligibility",
    "/catalog/gaps",
    "/catalog/listings",
    "/catalog/structure",
    "/catalog/duplicates",
    "/catalog/names",
    "/catalog/catch-all",
    "/delivery/placements",
    "/delivery/placements?by=campaign",
    "/delivery/hours",
    "/delivery/budgets",
    "/delivery/boosts",
    "/targeting/targets",
    "/targeting/terms",
    "/targeting/words",
    "/findings/",
)
FILES = (
    "/targeting/targets/export.csv",
    "/targeting/terms/export.csv",
    "/targeting/words/export.csv",
    "/catalog/ads/export.csv",
    "/catalog/families/export.csv",
    "/catalog/gaps/export.csv",
    "/catalog/listings/export.csv",
    "/catalog/duplicates/export.csv",
    "/delivery/placements/export.csv",
    "/delivery/hours/export.csv",
    "/delivery/budgets/export.csv",
    "/movement/drift/export.csv",
)


@pytest.fixture(scope="module")
def processes(demo):
    """Makes web processes that share a disk cache of their own, on which everything is put."""
    conf = replace(demo.config, local=demo.config.var / "machine")
    shutil.rmtree(conf.judged, ignore_errors=True)

    def make():
        app = make_app(conf, demo.store, make_queue(conf, demo.store), secret_key="x", testing=True)
        app.config["WTF_CSRF_ENABLED"] = False
        return app

    return make


_TOKEN = re.compile(rb"(?<=X-CSRFToken\": \")[^\"]+|(?<=name=\"csrf_token\" value=\")[^\"]+")

_FINE = re.compile(rb"(?<=\.\d{9})\d+")
"""Sums of fractions in another order differ there."""


def told(app, password, pages):
    client = signed_in(app, demo_data.DEMO_EMAIL, password)
    answers = [client.get(f"{page}{'&' if '?' in page else '?'}{ACCOUNT}&answer=second") for page in pages]
    assert [each.status_code for each in answers] == [200] * len(pages)
    return [_FINE.sub(b"", _TOKEN.sub(b"", each.data)) for each in answers]


def test_what_is_taken_from_the_shelf_is_what_was_worked_out(processes, demo, monkeypatch):
    """Every result can be put there; the second process works out hardly any, and shows the same."""
    monkeypatch.setattr(disk_cache, "DEAR", 0.0)
    refused, worked_out = [], []
    for told_of in ("warning", "exception"):
        monkeypatch.setattr(
            disk_cache.log, told_of, lambda *said, **more: refused.append((said, more, sys.exc_info()[1]))
        )
    # The first one asks twice: what a page shows as soon as it is known is known then.
    first = processes()
    told(first, demo.password, PAGES)
    before = told(first, demo.password, (*PAGES, *FILES))
    first.extensions["reef"].facts.disk_cache.settle()
    monkeypatch.setattr(disk_cache.DiskCache, "_put", lambda _, place, made, kept: worked_out.append(type(made)))
    after = told(processes(), demo.password, (*PAGES, *FILES))
    unlike = [page for page, one, other in zip((*PAGES, *FILES), before, after, strict=True) if one != other]
    assert unlike == []
    assert (worked_out, refused) == ([], [])


def test_what_a_helper_works_out_is_shown_like_ones_own(processes, demo, monkeypatch):
    """
    Days that nobody asked for: the pages and files that judge by themselves, and those that ask for
    what is large.
    """
    monkeypatch.setattr(disk_cache, "DEAR", 0.0)
    addresses = [f"{each}?window=2026-09-20..2026-10-09" for each in (*PAGES[-4:], *FILES[:4])]
    alone = told(processes(), demo.password, addresses)
    conf = processes().extensions["reef"].config
    shutil.rmtree(conf.judged)
    monkeypatch.setattr(judged, "AT_ONCE", 1)
    asked_for, done = [], threading.Event()
    monkeypatch.setattr(
        ahead,
        "ASKED",
        {
            what: lambda *of, w=what, make=make: (asked_for.append(w), make(*of))[1]
            for what, make in ahead.ASKED.items()
        },
    )
    worker = HelperProcess(Facts(demo.store, Cache(), DiskCache(conf.judged)), conf.judged)
    thread = threading.Thread(target=worker.keep_on, args=(done,))
    thread.start()
    try:
        while not (conf.judged / "on-call").exists():
            thread.join(0.01)
        helped = told(processes(), demo.password, addresses)
    finally:
        done.set()
        thread.join(10)
    assert set(asked_for) == {"targets", "terms", "words", "findings"}, (
        "product ads and advice on bids come with the findings"
    )
    for address, one, other in zip(addresses, alone, helped, strict=True):
        assert one == other, address


@pytest.mark.parametrize(
    "asked", ["format=brand&target_acos=15", "product=GL-STRIP-90CM&against=2026-09-25..2026-10-09"]
)
def test_what_was_asked_before_changes_nothing(processes, demo, asked):
    """
    A part, another target or other days to compare with: a process that has shown all of it says the same as one that
    has not.
    """
    every = (*PAGES, "/pulse/mover", "/pulse/at-stake", "/findings/report", *FILES)
    pages = [f"{each}{'&' if '?' in each else '?'}{asked}" for each in every]
    experienced, fresh = processes(), processes()
    for app in (experienced, fresh):
        object.__setattr__(app.extensions["reef"].facts, "disk_cache", None)
    # Twice: what a page shows as soon as it is known is known then.
    for app, asked_for in ((experienced, every), (experienced, pages), (fresh, pages[::-1])):
        told(app, demo.password, asked_for)
    before, after = told(experienced, demo.password, pages), told(fresh, demo.password, pages)
    assert [page for page, one, other in zip(pages, before, after, strict=True) if one != other] == []
