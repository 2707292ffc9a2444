"""Frames for the core: which report serves, what settings hold, who keeps a row cohort."""

import threading
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import date

import polars as pl
import pytest

from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.formats import files, mapping, reports
from nimbus_reef.store.loading import ingest
from nimbus_reef.store.loading.ingest import FilePart, Source
from nimbus_reef.store.reading import row_frames, target_frames
from nimbus_reef.store.reading.cache import Cache, Mapped
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads

WINDOW = Window(date(2026, 10, 1), date(2026, 10, 10))


@pytest.fixture
def load(store, account, tmp_path):
    def go(kind, rows):
        path = tmp_path / f"{kind}.csv"
        pl.DataFrame(rows).write_csv(path)
        table = files.read_table(path, path.name)
        suggestion = next(s for s in mapping.suggest_kind(table) if s.mapping.kind == kind)
        parsed = reports.parse(table, suggestion.mapping, path.name)
        part = FilePart(account.id, parsed, date(2026, 10, 20), suggestion.mapping, "sig", "product")
        return ingest.load(store, [part], Source(path.name, "00"), confirmed=True)

    return go


def day(number):
    return f"2026-10-{number:02}"


def measured(clicks=10, orders=1, **rest):
    return {
        **rest,
        "impressions": 500,
        "clicks": clicks,
        "spend": clicks * 0.5,
        "orders": orders,
        "sales": orders * 20.0,
    }


def target(number, name="lamp", **rest):
    return {"date": day(number), "campaign": "C", "ad_group": "G", "target": name, "match_type": "broad", **rest}


def test_a_search_term_report_alone_is_enough(load, store, account):
    """Targets are summed from their terms, and the page can say so."""
    load("search_term_daily", [measured(**target(1), search_term=term) for term in ("a", "b")])
    facts = Facts(store)
    assert facts.target_source(account.id, WINDOW).kind == "search_term_daily"
    rows = target_frames.target_rows(facts, account.id, WINDOW)
    assert (len(rows), rows["clicks"][0], rows["bid"][0]) == (1, 20, None)


def test_the_report_that_holds_more_days_serves_whole(load, store, account):
    load("search_term_daily", [measured(**target(n), search_term="a") for n in (1, 2)])
    load("target_daily", [measured(clicks=3, orders=0, **target(n)) for n in (1, 2, 3)])
    facts = Facts(store)
    held = facts.target_source(account.id, WINDOW)
    assert (held.kind, held.days, held.of) == ("target_daily", 3, 10)
    assert target_frames.target_rows(facts, account.id, WINDOW)["clicks"].to_list() == [9]


def test_settings_are_those_of_the_window_s_last_day_or_the_latest_before(load, store, account):
    load("target_daily", [measured(**target(n)) for n in (1, 9)])
    load(
        "targets",
        [target(1, state="enabled", bid=0.5), target(5, state="paused", bid=0.7), target(15, state="enabled", bid=0.9)],
    )
    facts = Facts(store)
    row = target_frames.target_rows(facts, account.id, WINDOW).to_dicts()[0]
    assert (row["state"], row["bid"]) == ("paused", 700_000)
    bids = row_frames.bids(facts, account.id, [row["target_id"]], WINDOW)
    assert bids["bid"].to_list() == [500_000, 700_000]
    daily = row_frames.daily(facts, account.id, "target_daily", WINDOW, [row["target_id"]])
    assert daily["clicks"].to_list() == [10, 10]


def test_the_main_product_spends_most_and_ties_go_to_the_smaller_sku(load, store, account):
    load("target_daily", [measured(**target(1))])
    ad = {"date": day(1), "campaign": "C", "ad_group": "G"}
    load("product_ad_daily", [measured(**ad, sku=sku) for sku in ("B-2", "A-1", "C-3")])
    load(
        "catalog",
        [
            {"sku": "A-1", "item_id": "I1", "parent_item_id": "F1", "title": "Lamp", "category": "Lights", "price": 9},
            {
                "sku": "B-2",
                "item_id": "I2",
                "parent_item_id": "F1",
                "title": "Lamp 2",
                "category": "Lights",
                "price": 9,
            },
        ],
    )
    row = target_frames.target_rows(Facts(store), account.id, WINDOW).to_dicts()[0]
    assert (row["main_product"], row["family"], row["category"]) == ("A-1", "F1", "Lights")


def test_a_load_makes_everything_new_at_once(load, store, account):
    """The same Facts, asked again after a load, tells the new figures."""
    facts = Facts(store)
    load("target_daily", [measured(**target(1))])
    assert target_frames.target_rows(facts, account.id, WINDOW)["clicks"].to_list() == [10]
    before = facts.generation(account.id)
    load("target_daily", [measured(clicks=4, orders=0, **target(1))])
    assert facts.generation(account.id) != before
    assert target_frames.target_rows(facts, account.id, WINDOW)["clicks"].to_list() == [4]
    assert facts.newest_day(account.id) == date(2026, 10, 1)


def test_an_audit_of_judged_rows_is_kept_until_a_load(load, store, account):
    load("target_daily", [measured(**target(n, name=f"t{n}")) for n in range(1, 10)])
    facts = Facts(store)
    first = judged_targets(facts, Selection(account, WINDOW, Aims(0.28)))
    assert judged_targets(facts, Selection(account, WINDOW, Aims(0.28))) is first
    assert judged_targets(facts, Selection(account, WINDOW, Aims(0.10))) is not first
    load("target_daily", [measured(**target(10, name="new"))])
    assert len(judged_targets(facts, Selection(account, WINDOW, Aims(0.28)))) == 10


def test_what_is_held_is_told_by_kind(load, store, account):
    load("target_daily", [measured(**target(n)) for n in (1, 4)])
    held = loads.held_reports(store, account.id)
    assert [(h.kind, str(h.first_day), str(h.last_day), h.days, h.rows) for h in held] == [
        ("target_daily", day(1), day(4), 2, 2)
    ]


def test_the_cache_forgets_the_oldest():
    cache = Cache(kept=2)
    calls = []

    def make(name):
        return cache.get(name, lambda: calls.append(name) or name)

    for name in ("a", "b", "a", "c", "a", "b"):
        assert make(name) == name
    assert calls == ["a", "b", "c", "b"]


def test_the_cache_holds_no_more_bytes_than_it_may():
    frame = pl.DataFrame({"n": range(1000)})
    cache = Cache(most_bytes=20_000)
    for name in "abc":
        cache.get(name, lambda: frame.clone())
    assert cache.peek("a") is None
    assert cache.peek("c") is not None
    cache.put("large", pl.DataFrame({"n": range(100_000)}))
    assert cache.peek("large") is not None, "one that is too large for all is kept alone"
    assert cache.peek("c") is None


def test_a_result_is_made_once_though_several_ask_at_the_same_time_on_an_empty_cache():
    cache, calls = Cache(), []
    together = threading.Barrier(4)

    def make():
        calls.append(threading.get_ident())
        time.sleep(0.05)
        return object()

    def ask(_):
        together.wait()
        return cache.get("one", make)

    with ThreadPoolExecutor(4) as pool:
        made = set(pool.map(ask, range(4)))
    assert (len(made), len(calls)) == (1, 1)


def test_where_making_fails_whoever_waited_tries_for_themselves():
    cache, failures = Cache(), []

    def fail():
        failures.append(1)
        raise ValueError("not now")

    for _ in range(2):
        with pytest.raises(ValueError, match="not now"):
            cache.get("one", fail)
    assert len(failures) == 2
    assert cache.get("one", lambda: "made") == "made"


def test_a_result_may_be_made_of_others():
    cache = Cache()
    assert cache.get("outer", lambda: cache.get("inner", lambda: 1) + 1) == 2
    assert cache.peek("inner") == 1


def test_frames_count_wherever_a_result_keeps_them():
    frame = pl.DataFrame({"n": range(1000)})
    cache = Cache(most_bytes=20_000)
    for name, made in (("list", [frame, frame]), ("mapping", {"of": (frame,)}), ("frame", frame)):
        cache.put(name, made)
    assert [cache.peek(name) is None for name in ("list", "mapping", "frame")] == [True, False, False]


def test_what_takes_long_to_make_outlives_what_is_quickly_made_again_but_not_for_ever():
    frame = pl.DataFrame({"n": range(1000)})
    now = [0.0]

    def make(name, seconds):
        def work():
            now[0] += seconds
            return frame.clone()

        return cache.get(name, work)

    cache = Cache(most_bytes=20_000, clock=lambda: now[0])
    make("names", 0.5)
    for name in "abc":
        make(name, 0.1)
    assert cache.peek("names") is not None
    assert cache.peek("b") is None
    for n in range(12):
        make(n, 0.1)
    assert cache.peek("names") is None, "what nobody asks for any more gives way in the end"


def test_what_lies_on_disk_weighs_little_and_is_handed_out_plain():
    """
    Its frames are mapped: they cost no memory of this process. What is swapped for the same from
    disk weighs anew.
    """
    cache, frame = Cache(most_bytes=200_000), pl.DataFrame({"n": range(20_000)})
    for key in range(8):
        assert cache.get(key, lambda: Mapped([frame])) == [frame]
    assert cache.bytes_held == 8 * (frame.estimated_size() // 8)
    assert all(cache.peek(key) is not None for key in range(8))
    cache.get("own", lambda: frame)
    assert cache.bytes_held > frame.estimated_size()
    cache.swap("own", Mapped(frame))
    assert cache.bytes_held < 200_000
    assert cache.peek("own") is frame
    cache.swap("never kept", Mapped(frame))
    assert cache.peek("never kept") is None
