"""Pulse: every account in one table, currencies apart, the next step in each."""

import re
from datetime import date, timedelta

import polars as pl
import pytest
from tests.pages import text_of, values

from nimbus_reef.analysis.pulse import Beat, Sums, beat, idle
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit.beats import next_step
from nimbus_reef.web.pulse import pages

TODAY = date(2026, 11, 21)
WINDOW = Window(date(2026, 10, 19), date(2026, 11, 17))
MICRO = 1_000_000
AIMS = Aims(0.28)


@pytest.fixture
def account(demo):
    return accounts.by_key(demo.store, "fernhollow-de")


def test_a_beat_sums_one_report_and_holds_it_against_all_trade(demo, account):
    """The totals are those of the rows; the period before lie outside the 45 days held."""
    facts = Facts(demo.store)
    before = Window(WINDOW.first - timedelta(days=10), WINDOW.first - timedelta(days=1))
    made = beat(facts, Selection(account, WINDOW, AIMS, before), WINDOW.last)
    assert made.source == "campaign_daily"
    assert made.now.spend == int(target_frames.target_rows(facts, account.id, WINDOW)["spend"].sum())
    assert made.now.spend < made.now.sales < made.now.total_sales
    assert made.now.tacos < made.now.acos
    assert made.days["spend"].sum() == made.now.spend
    per_day = made.then.spend / 10
    assert made.moved("spend") == pytest.approx(made.now.spend / 30 / per_day - 1)


def test_all_trade_that_is_not_held_whole_gives_no_tacos(demo, account):
    early = Window(WINDOW.first - timedelta(days=60), WINDOW.last)
    assert beat(Facts(demo.store), Selection(account, early, AIMS), early.last).now.tacos is None


def test_an_account_without_days_says_where_to_begin(demo, account):
    empty = idle(Facts(demo.store), account)
    (purse,) = pages.purses([empty], TODAY)
    (line,) = purse.lines
    assert (line.spend, line.acos, line.sales_path, line.step.area) == ("–", "–", "", "intake")


def made_beat(account, **changes):
    base = {
        "newest": TODAY - timedelta(days=1),
        "window": WINDOW,
        "source": "target_daily",
        "days": pl.DataFrame({"first_day": [1, 2], "day": [1, 2], "spend": [10, 20], "sales": [50, 40]}),
        "now": Sums(30, 30 * MICRO, 100 * MICRO, 200 * MICRO),
        "then": Sums(30, 20 * MICRO, 100 * MICRO, None),
    }
    return Beat(account, **(base | changes))


@pytest.mark.parametrize(
    ("changes", "words", "area"),
    [
        ({"trouble": "away", "planned": 2}, "see why reports do not come", "intake"),
        ({"newest": TODAY - timedelta(days=9)}, "the newest is 9 days old", "intake"),
        ({"planned": 2}, "send the 2 planned changes", "plan"),
        ({"overspend": None}, "review its findings", "findings"),
        ({"overspend": 5 * MICRO}, "review its findings", "findings"),
        ({"overspend": 0}, "nothing to do", "findings"),
    ],
)
def test_the_next_step_is_the_first_that_waits(account, changes, words, area):
    step = next_step(made_beat(account, **changes), TODAY)
    assert words in step.words
    assert step.area == area


def test_changes_are_per_day_and_good_or_bad_by_what_they_are(account):
    (purse,) = pages.purses([made_beat(account), made_beat(account, now=Sums(15, 5 * MICRO, 90 * MICRO, None))], TODAY)
    first, second = purse.lines
    assert (first.spend_moved.text, first.spend_moved.good) == ("+50\xa0%", None)
    assert (first.acos, first.acos_over, first.acos_moved.good) == ("30.0\xa0%", True, False)
    assert (second.sales_moved.text, second.sales_moved.good) == ("+80\xa0%", True)
    assert (second.spend_moved.text, second.tacos) == ("−50\xa0%", "–")
    assert (purse.spend.replace("\xa0", " "), purse.acos) == ("€ 35", "18.4\xa0%")


def test_the_page_has_a_line_per_account_one_sees_and_never_adds_currencies(owner, viewer):
    text = text_of(owner.get("/pulse/"))
    assert "Fernhollow, DE" in text
    assert "Pellwick, GB" in text
    assert "accounts in" not in text
    assert "Pellwick" not in text_of(viewer.get("/pulse/"))


def test_what_is_at_stake_is_worked_out_for_one_account_after_the_page(owner, viewer):
    for address in values(owner.get("/pulse/?window=last-20"), "[hx-get^='/pulse/at-stake']", "hx-get"):
        assert re.match(r"[€£]\s[\d,]+$", owner.get(address).get_data(as_text=True))
    assert viewer.get("/pulse/at-stake?account=pellwick-gb").status_code == 404
    again = owner.get("/pulse/?window=last-20").get_data(as_text=True)
    assert "/pulse/at-stake" not in again, "it is known now"
