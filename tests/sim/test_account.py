"""The simulated account goes on: what is changed has its effect, days pass, reports tell of both."""

from datetime import date, timedelta

import polars as pl
import pytest

from nimbus_reef.sim import account
from nimbus_reef.sim.vocabulary import FERNHOLLOW

LAST = date(2026, 11, 20)


@pytest.fixture
def own():
    return account.opened(FERNHOLLOW, 11, 45, LAST)


def row(entity, field, new, old="", action="update", **of):
    return {"entity": entity, "field": field, "new_value": new, "old_value": old, "action": action, **of}


def largest(own, count=8):
    """The targets with most clicks, as keys."""
    names = ["campaign", "ad_group", "target", "match_type"]
    rows = own.report("target_daily", LAST - timedelta(days=20), LAST)
    return [
        dict(zip(names, key, strict=True))
        for key in rows.group_by(names)
        .agg(pl.col("clicks").sum())
        .sort("clicks", descending=True)[names]
        .rows()[:count]
    ]


def said(own, *rows):
    return [(each.status, each.code) for each in own.take(list(rows), "2026-11-21T09:00:00Z", "test")]


def test_a_row_is_carried_out_or_refused_with_a_reason(own):
    first = largest(own)[0]
    held = own.settings.held(row("target", "bid", "", **first))
    assert said(
        own,
        row("target", "bid", "0.05", held, **first),
        row("target", "bid", "0.77", "9.99", **first),
        row("target", "bid", "0.77", held, **first),
        row("target", "bid", "much", **first),
        row("target", "state", "gone", **first),
        row("target", "colour", "red", **first),
        row("target", "bid", "0.50", **{**first, "target": "no such thing"}),
        row("campaign", "state", "paused", campaign="no such campaign"),
        row("campaign", "daily_budget", "0.20", campaign=first["campaign"]),
        row("placement", "adjustment", "1000", campaign=first["campaign"], placement="top_of_search"),
    ) == [
        ("refused", "below_minimum"),
        ("refused", "changed_meanwhile"),
        ("applied", ""),
        ("refused", "bad_value"),
        ("refused", "bad_value"),
        ("refused", "unknown_field"),
        ("refused", "not_found"),
        ("refused", "not_found"),
        ("refused", "below_minimum"),
        ("refused", "bad_value"),
    ]
    assert own.settings.held(row("target", "bid", "", **first)) == "0.77"
    assert own.changes[-1]["new"] == "0.77"


def test_a_campaign_is_made_with_all_in_it_and_nothing_below_one_that_was_refused(own):
    sku = own.made.world.products["sku"][0]
    group = {"campaign": "fresh", "ad_group": "group"}
    lost = next(sku for sku, why in own.settings.skus.items() if why)
    assert said(
        own,
        row("campaign", "daily_budget", "20.00", action="create", campaign="fresh"),
        row("campaign", "targeting", "manual", action="create", campaign="fresh"),
        row("ad_group", "default_bid", "0.60", action="create", **group),
        row("product_ad", "state", "enabled", action="create", sku=sku, **group),
        row("product_ad", "state", "enabled", action="create", sku=lost, **group),
        row("target", "bid", "0.60", action="create", target="grow light", match_type="broad", **group),
        row("target", "bid", "0.60", action="create", target="grow light", match_type="broad", **group),
        row("target", "bid", "0.60", action="create", campaign="other", ad_group="g", target="x", match_type="exact"),
    ) == [("applied", "")] * 4 + [
        ("refused", "not_eligible"),
        ("applied", ""),
        ("refused", "exists"),
        ("refused", "not_found"),
    ]
    own.pass_days(7)
    rows = own.report("target_daily", own.today - timedelta(days=7), own.today)
    assert rows.filter(pl.col("campaign") == "fresh")["impressions"].sum() > 0
    told = own.report("campaigns", own.today - timedelta(days=1), own.today).filter(pl.col("campaign") == "fresh")
    assert told["daily_budget"].to_list() == ["20.00"]


def test_what_is_stopped_has_no_clicks_and_a_lower_bid_has_fewer_and_cheaper_ones(own):
    targets = largest(own)
    stopped, lowered = targets[:2], targets[2:6]
    rows = [row("target", "state", "paused", **each) for each in stopped]
    rows += [
        row(
            "target", "bid", f"{max(0.1, 0.5 * float(own.settings.held(row('target', 'bid', '', **each)))):.2f}", **each
        )
        for each in lowered
    ]
    assert all(status == "applied" for status, _ in said(own, *rows))
    own.pass_days(21)
    after = own.report("target_daily", own.today - timedelta(days=21), own.today)
    before = own.report("target_daily", LAST - timedelta(days=20), LAST)

    def sums(frame, keys):
        own_rows = frame.join(pl.DataFrame(keys), on=list(keys[0]), how="semi")
        return own_rows["clicks"].sum(), own_rows["spend"].sum()

    assert sums(after, stopped) == (0, 0)
    (clicks, spend), (then, paid) = sums(after, lowered), sums(before, lowered)
    assert clicks < then
    assert spend / clicks < 0.7 * paid / then
    states = own.report("targets", own.today - timedelta(days=1), own.today)
    assert len(states.filter(pl.col("state") == "paused")) == 2


def test_a_negative_keeps_its_search_away_in_its_place_alone(own):
    terms = own.report("search_term_daily", LAST - timedelta(days=30), LAST)
    place = ["campaign", "ad_group", "search_term"]
    top = terms.group_by(place).agg(pl.col("clicks").sum()).sort("clicks", descending=True).row(0, named=True)
    home = {"campaign": top["campaign"], "ad_group": top["ad_group"]}
    negative = row(
        "negative", "state", "enabled", action="create", target=top["search_term"], match_type="negative_exact", **home
    )
    assert said(own, negative) == [("applied", "")]
    own.pass_days(14)
    after = own.report("search_term_daily", own.today - timedelta(days=14), own.today)
    same = after.filter(pl.col("search_term") == top["search_term"])
    there = (pl.col("campaign") == home["campaign"]) & (pl.col("ad_group") == home["ad_group"])
    assert same.filter(there)["clicks"].sum() == 0
    assert len(after) > 0


def test_orders_of_late_clicks_mature_in_the_reports_of_later_days(own):
    own.pass_days(2)
    day = own.today - timedelta(days=1)
    early = own.report("campaign_daily", day, day)["orders"].sum()
    own.pass_days(5)
    assert own.report("campaign_daily", day, day)["orders"].sum() >= early
    assert (
        own.report("campaign_daily", day, day)["clicks"].sum() == own.report("target_daily", day, day)["clicks"].sum()
    )


def test_the_same_tale_makes_the_same_account(own):
    twin = account.opened(FERNHOLLOW, 11, 45, LAST)
    for each in (own, twin):
        each.take([row("target", "state", "paused", **largest(each)[0])], "2026-11-21T09:00:00Z", "test")
        each.pass_days(3)
    for kind in account.KINDS:
        assert own.report(kind, LAST, own.today).equals(twin.report(kind, LAST, own.today)), kind
