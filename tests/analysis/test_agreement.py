"""Reports that tell the same total are held against each other."""

from datetime import date

from tests.store.test_kinds import load, row

from nimbus_reef.analysis.agreement import differences
from nimbus_reef.store.reading.facts import Facts


def day_row(kind, spend, **other):
    return row(kind, date="2026-10-13", clicks="3", spend=spend, sales="100.00", **other)


def test_a_total_that_differs_by_more_than_one_percent_is_told(store, account, tmp_path):
    load(store, account, tmp_path, "campaign_daily", [day_row("campaign_daily", "100.00")])
    load(store, account, tmp_path, "placement_daily", [day_row("placement_daily", "98.50")])
    load(store, account, tmp_path, "target_daily", [day_row("target_daily", "99.50")])
    (found,) = differences(Facts(store), account, date(2026, 10, 17))
    assert (found.better, found.other, found.measure) == ("campaign_daily", "placement_daily", "spend")
    assert (found.first, found.second, found.shared_days) == (100_000_000, 98_500_000, 1)


def test_days_that_only_one_report_holds_are_not_compared(store, account, tmp_path):
    load(store, account, tmp_path, "campaign_daily", [day_row("campaign_daily", "100.00")])
    other = row("target_daily", date="2026-10-12", spend="1.00")
    load(store, account, tmp_path, "target_daily", [other])
    assert differences(Facts(store), account, date(2026, 10, 17)) == []
