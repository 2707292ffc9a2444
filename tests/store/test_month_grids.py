"""Days of keys side by side: what grouping their rows would say."""

from datetime import date, timedelta

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import month_grids, product_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots

KIND, KEY = "product_ad_daily", "product_ad_id"
BEGIN = date(2026, 1, 20)
SCHEMA = {"first_day": pl.Date, "day": pl.Date, KEY: pl.UInt32, **dict.fromkeys(MEASURES, pl.Int64)}


class Held:
    """Facts of some rows, that keep nothing; what is read of the record is noted."""

    months, versions_of, month_grid, grids, sums = (
        Facts.months,
        Facts.versions_of,
        Facts.month_grid,
        Facts.grids,
        Facts.sums,
    )

    def __init__(self, rows):
        self.store, self.rows, self.read = self, rows, []

    def versions(self, _, __, window):
        spans = [Window(*each) for each in self.rows.select("first_day", "day").unique().rows()]
        inside = [each for each in spans if window.first <= each.first and each.last <= window.last]
        return dict.fromkeys(sorted(inside, key=lambda each: (each.last, each.first)), 1)

    def kept(self, _, __, make, *of, asked=None, dear=None):
        return make()

    def if_many(self, *_):
        return None


@pytest.fixture(autouse=True)
def day_files(monkeypatch):
    """The day files of the facts at hand."""

    def read(held, _, __, wanted, only):
        held.read.append(list(wanted))
        spans = pl.DataFrame(
            [(each.first, each.last) for each in wanted],
            schema=dict.fromkeys(("first_day", "day"), pl.Date),
            orient="row",
        )
        found = held.rows.join(spans, on=["first_day", "day"], how="semi")
        return found.select(*only, "first_day", "day").lazy()

    monkeypatch.setattr(snapshots, "read", read)


def facts(rows):
    """Of (first day's number, days, key, figure)."""
    return Held(
        pl.DataFrame(
            [
                (
                    BEGIN + timedelta(days=at),
                    BEGIN + timedelta(days=at + days - 1),
                    key,
                    *(figure * n for n in range(6)),
                )
                for at, days, key, figure in rows
            ],
            schema=SCHEMA,
            orient="row",
        )
    )


ROWS = st.lists(
    st.tuples(st.integers(0, 60), st.sampled_from([1, 1, 1, 7, 31]), st.integers(1, 9), st.integers(0, 10**12)),
    max_size=40,
    unique_by=lambda row: row[:3],
)
WINDOW = st.tuples(st.integers(0, 60), st.integers(0, 60)).map(sorted)


@given(ROWS, WINDOW, st.dictionaries(st.integers(1, 12), st.integers(0, 3)))
def test_positions_say_what_grouping_says(rows, window, groups):
    """Over months, with blocks among the days, with keys that no group has and groups without a row."""
    held, asked = facts(rows), Window(*(BEGIN + timedelta(days=each) for each in window))
    inside = held.rows.filter(pl.col("first_day") >= asked.first, pl.col("day") <= asked.last)
    expected = inside.group_by(KEY).agg(pl.col(MEASURES).sum()).sort(KEY)
    assert_frame_equal(held.sums(1, KIND, asked), expected)
    of = pl.DataFrame({KEY: list(groups), "group": list(groups.values())}, schema={KEY: pl.UInt32, "group": pl.UInt32})
    by = ["first_day", "day", "group"]
    told = month_grids.by_span(held.grids(1, KIND, asked), KIND, of, ("clicks", "sales"))
    joined = inside.join(of, on=KEY).group_by(by).agg(pl.col("clicks", "sales").sum())
    assert_frame_equal(told, joined.sort("day", "first_day", "group"))


@given(ROWS, WINDOW)
def test_a_report_of_two_keys_is_summed_alike(rows, window):
    """Placements: of a campaign, and of a place by its name."""
    keys, asked = ["campaign_id", "placement"], Window(*(BEGIN + timedelta(days=each) for each in window))
    place = (pl.col(KEY) % 2 == 0).replace_strict({True: "off_site", False: "product_page"}, return_dtype=pl.String)
    told = facts(rows).rows.with_columns(campaign_id=pl.col(KEY) // 3, placement=place)
    spans = [Window(*each) for each in told.select("first_day", "day").unique().sort("day", "first_day").rows()]
    grid = month_grids.grid(told, spans, keys)
    inside = told.filter(pl.col("first_day") >= asked.first, pl.col("day") <= asked.last)
    expected = inside.group_by(keys).agg(pl.col(MEASURES).sum()).sort(keys)
    at = grid.within(asked)
    assert_frame_equal(month_grids.sums([(grid, at)] if at else [], "placement_daily"), expected)


@given(ROWS, WINDOW, st.dictionaries(st.integers(1, 12), st.sampled_from(["a", "b", None])))
def test_what_is_kept_by_month_says_what_the_days_say(rows, window, categories):
    """Of whatever days and blocks: a month's part is what lies in the days asked for, in the same order."""
    held, asked = facts(rows), Window(*(BEGIN + timedelta(days=each) for each in window))
    ads = pl.DataFrame(
        {KEY: list(categories), "category": list(categories.values())}, schema={KEY: pl.UInt32, "category": pl.String}
    )
    for named in (ads, ads.select(KEY)):
        by_month = product_frames.ad_days(held, 1, asked, named, by_month=True)
        assert_frame_equal(by_month, product_frames.ad_days(held, 1, asked, named))


def test_only_the_months_asked_for_are_read():
    """A long history costs what is asked of it; a block belongs to the month in which it ends."""
    held = facts([(0, 1, 1, 5), (15, 1, 1, 5), (45, 1, 1, 5), (11, 31, 1, 5)])
    held.sums(1, KIND, Window(date(2026, 2, 1), date(2026, 2, 28)))
    assert held.read == [[Window(date(2026, 2, 4), date(2026, 2, 4))]]
    held.read.clear()
    held.sums(1, KIND, Window(BEGIN, date(2026, 3, 31)))
    assert [len(each) for each in held.read] == [1, 1, 2]
