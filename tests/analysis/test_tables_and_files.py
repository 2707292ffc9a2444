"""What every table comes to is what its report's own file says, whoever sums it; and every table can be taken out."""

from __future__ import annotations

import polars as pl
import pytest

from nimbus_reef.analysis import movement, standing, totals
from nimbus_reef.analysis.catalog import files as catalog_files
from nimbus_reef.analysis.delivery import files as delivery_files
from nimbus_reef.analysis.delivery import hours, placements
from nimbus_reef.analysis.judged import judged_ads, judged_targets, judged_terms
from nimbus_reef.core.model import MICRO

MEASURES = ("impressions", "clicks", "orders")
MONEY = ("spend", "sales")
TABLES = {
    "target_daily": judged_targets,
    "search_term_daily": judged_terms,
    "product_ad_daily": judged_ads,
    "placement_daily": lambda facts, selection: placements.judged(facts, selection),
    "hourly": hours.sums,
}


def in_file(both_brands, selection, kind):
    """The sums of the file that was loaded, over the days looked at."""
    rows = pl.read_csv(both_brands / selection.account.key / f"{kind}.csv", try_parse_dates=True)
    day = "date" if "date" in rows.columns else "hour"
    rows = rows.filter(pl.col(day).cast(pl.Date).is_between(selection.window.first, selection.window.last))
    sums = {name: int(rows[name].sum()) for name in MEASURES if name in rows.columns}
    return sums | {name: round(rows[name].sum() * MICRO) for name in MONEY}


@pytest.mark.parametrize("kind", TABLES)
def test_rows_come_to_what_the_file_says(facts, selection, both_brands, kind):
    rows = TABLES[kind](facts, selection)
    told = in_file(both_brands, selection, kind)
    assert {name: int(rows[name].sum()) for name in told if name in rows.columns} == {
        name: value for name, value in told.items() if name in rows.columns
    }
    assert "spend" in rows.columns


@pytest.mark.parametrize("by", movement.GROUPINGS)
def test_groupings_of_movement_come_to_the_same_sums(facts, selection, both_brands, by):
    sides = movement.sides(facts, selection, by)
    kind = movement.source_of(facts, selection.account, movement.both(selection), by)
    told = in_file(both_brands, selection, kind)
    assert round(sides["spend1"].sum() * MICRO) == pytest.approx(told["spend"], abs=MICRO)
    assert round(sides["sales1"].sum() * MICRO) == pytest.approx(told["sales"], abs=MICRO)
    assert sides["key"].n_unique() == len(sides)


def test_the_account_s_totals_are_its_first_report_s(facts, selection, both_brands):
    found = totals.totals(facts, selection)
    told = in_file(both_brands, selection, found.source)
    sums = totals.summed(found.now)
    assert {name: sums[name] for name in told} == told


def test_groups_of_standing_share_all_that_was_spent(facts, selection):
    """Each category, format and portfolio once, and every figure among its peers between 0 and 100."""
    whole = standing.standing_data(facts, selection).ads["spend"].sum() / MICRO
    for by in ("category", "format", "portfolio"):
        groups = standing.groups(facts, selection, by)
        assert sum(spend for _, spend, _ in groups) == pytest.approx(whole)
        percentiles = [each.standing.percentile for _, _, placed in groups for each in placed]
        assert all(0 <= each <= 100 for each in percentiles if each is not None)
        assert any(each is not None for each in percentiles)


@pytest.mark.parametrize("name", [*catalog_files.FILES, *delivery_files.FILES])
def test_every_table_can_be_taken_out_whole(facts, selection, name):
    table = (catalog_files.FILES | delivery_files.FILES)[name](facts, selection)
    assert len(table.rows)
    assert set(table.formats) <= set(table.rows.columns)
    assert len(table.rows.write_csv().splitlines()) > len(table.rows)
