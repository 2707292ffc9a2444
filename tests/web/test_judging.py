"""Days that nobody judged yet: what the rows come to at once, the verdicts as a second answer."""

import shutil
from datetime import timedelta

import pytest
from tests.pages import parsed, row_ids, texts, values, words

from nimbus_reef.analysis import pending_verdicts
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading import facts as reading
from nimbus_reef.store.reading.facts import Facts

LAZY = ("targeting/targets", "targeting/terms", "targeting/words", "catalog/ads", "findings/")

READ = (
    "delivery/hours",
    "delivery/budgets",
    "movement/drift",
    "movement/drift?by=keyword",
    "movement/ledger",
    "movement/why",
    "standing/tree",
    "standing/products",
    "standing/formats",
    "catalog/families",
    "catalog/catch-all",
)


@pytest.fixture
def many(monkeypatch, app, demo):
    """As if the demo held too many rows to judge or to read at once, and none were, here or by another process."""
    monkeypatch.setattr(pending_verdicts, "AT_ONCE", 1)
    monkeypatch.setattr(reading, "MANY", 1)
    facts = app.extensions["reef"].facts
    facts.disk_cache.settle()
    facts.cache.clear()
    shutil.rmtree(demo.config.judged, ignore_errors=True)


@pytest.mark.parametrize("page", LAZY)
def test_sums_come_first_and_the_page_after_them(owner, many, page):
    first = owner.get(f"/{page}?account=fernhollow-de")
    assert texts(first, "#judging b")[0].startswith("Judging ")
    assert len(texts(first, ".rows tbody tr")) == 20
    (address,) = values(first, "#judging", "hx-get")
    second = owner.get(address)
    assert second.status_code == 200
    assert not texts(second, "#judging")
    again = owner.get(f"/{page}?account=fernhollow-de")
    assert not texts(again, "#judging"), "what is judged is shown at once"
    assert words(parsed(again).select_one("#work")) == words(parsed(second).select_one("#work"))


def test_findings_are_more_than_judged_rows(owner, many):
    """Their page waits for the rest of them too, whose rows other pages have judged."""
    of = "account=fernhollow-de"
    for page in ("targets", "terms"):
        assert owner.get(f"/targeting/{page}?{of}&answer=second").status_code == 200
        assert not texts(owner.get(f"/targeting/{page}?{of}"), "#judging")
    first = owner.get(f"/findings/?{of}")
    assert texts(first, "#judging b")[0].startswith("Judging ")
    assert not texts(owner.get(values(first, "#judging", "hx-get")[0]), "#judging")


def test_the_sums_are_those_of_the_table(owner, many):
    address = "/targeting/targets?account=fernhollow-de"
    said = texts(owner.get(address), ".totals b")
    table = texts(owner.get(f"{address}&answer=second"), ".totals b")
    assert said[0] == table[1]
    assert said[1] == table[2]


def test_of_a_part_only_what_it_comes_to_is_told(owner, many):
    page = owner.get("/targeting/targets?account=fernhollow-de&format=product")
    assert texts(page, "#judging")
    assert not texts(page, ".rows")


def test_files_and_parts_of_a_page_are_not_put_off(owner, many):
    of = "account=fernhollow-de"
    assert owner.get(f"/targeting/targets/export.csv?{of}").mimetype == "text/csv"
    boosted = owner.get(f"/targeting/terms?{of}", headers={"HX-Request": "true"})
    assert not texts(boosted, "#judging")
    assert row_ids(boosted)


@pytest.mark.parametrize("page", READ)
def test_what_is_read_from_many_rows_says_so_and_shows_what_the_days_come_to(owner, demo, many, page):
    facts = Facts(demo.store)
    account = accounts.by_key(demo.store, "fernhollow-de")
    newest = facts.newest_day(account.id)
    window = Window(newest - timedelta(days=29), newest)
    days = facts.by_day(account.id, "campaign_daily", window, ("spend",))
    spend = Figures("en", "EUR").micro(int(days["spend"].sum())).replace("\xa0", " ")
    address = f"/{page}{'&' if '?' in page else '?'}account=fernhollow-de&window={window.first}..{window.last}"
    first = owner.get(address)
    assert texts(first, "#judging b")[0].startswith("Reading ")
    assert texts(first, ".totals b")[0] == spend
    (more,) = values(first, "#judging", "hx-get")
    second = owner.get(more)
    assert second.status_code == 200
    assert not texts(second, "#judging")
    again = owner.get(address)
    assert not texts(again, "#judging"), "what is made is shown at once"
    assert words(parsed(again).select_one("#work")) == words(parsed(second).select_one("#work"))


def test_what_is_read_from_few_rows_comes_at_once(owner, many, monkeypatch):
    monkeypatch.setattr(reading, "MANY", 1_000_000)
    for page in READ:
        assert not texts(owner.get(f"/{page}{'&' if '?' in page else '?'}account=fernhollow-de"), "#judging")
