"""
Falls of conversion count mature days alone; months of shop rates weigh by what the weeks themselves hold; what ads did
is one sum, however it is cut.
"""

from dataclasses import replace
from datetime import date, timedelta

import polars as pl
import pytest
from polars.testing import assert_frame_equal
from tests.jobs.test_labels import put

from nimbus_reef.analysis import movement, products, query_shares, standing
from nimbus_reef.analysis.readings import reading
from nimbus_reef.analysis.selection import EVERYTHING, Part, Selection
from nimbus_reef.analysis.totals import summed, totals
from nimbus_reef.core import peers
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

NEWEST = date(2026, 10, 14)


def days(orders_of):
    """28 days of 50 clicks."""
    lines = ["date,campaign,ad_group,sku,impressions,clicks,spend,orders,sales"]
    for n in range(28):
        day = NEWEST - timedelta(days=27 - n)
        orders = orders_of(day)
        lines.append(f"{day},P,A,SKU-1,900,50,25.00,{orders},{orders * 20}")
    return "\n".join(lines) + "\n"


def listings(changed):
    lines = ["date,sku,title,bullets,images,rich_content,brand_section,price,in_stock"]
    for n in range(28):
        day = NEWEST - timedelta(days=27 - n)
        lines.append(f"{day},SKU-1,Lamp,5,{7 if day < changed else 3},yes,yes,20,yes")
    return "\n".join(lines) + "\n"


@pytest.mark.parametrize(
    ("changed", "orders_since", "fell"), [(date(2026, 10, 12), 0, False), (date(2026, 10, 1), 2, True)]
)
def test_orders_still_to_come_are_no_fall(store, account, tmp_path, changed, orders_since, fell):
    """A page changed on the first of the newest days sells nothing yet; one of two weeks ago fell."""
    assert account.maturing_days == 3
    ads = days(lambda day: 5 if day < changed else orders_since)
    put(store, account, tmp_path, "ads.csv", ads, "product_ad_daily", scope="all")
    put(store, account, tmp_path, "pages.csv", listings(changed), "listings")
    selection = Selection(account, Window(date(2026, 9, 17), NEWEST), Aims(0.3))
    rows = reading(Facts(store), selection, Reading.FALLS)
    assert len(rows) == fell
    if fell:
        # 11 mature days of € 25 since, three fifths of them bought nothing more; said per 30 days.
        assert rows["stake"][0] == pytest.approx(25 * 30 * 0.6 * 1e6, rel=0.001)


def test_a_price_stands_beside_those_of_its_family_alone():
    catalog = pl.DataFrame(
        {
            "sku": ["A", "B", "C", "D", "LONE", "ALONE"],
            "parent": ["P", "P", "P", "P", None, None],
            "price": [20_000_000, 35_500_000, None, 15_000_000, 9_000_000, 8_000_000],
        }
    )
    assert products.prices(catalog, "A") == (20.0, (15.0, 35.5))
    assert products.prices(catalog, "C") == (None, (15.0, 20.0, 35.5))
    assert products.prices(catalog, "LONE") == (9.0, ())
    assert products.prices(catalog, "gone") == (None, ())


def test_months_of_shop_rates_weigh_by_the_weeks_own_clicks_and_cart_adds(demo):
    account = accounts.by_key(demo.store, "fernhollow-de")
    facts, window = Facts(demo.store), Window(date(2026, 10, 19), date(2026, 11, 17))
    on = standing.standing_data(facts, Selection(account, window, Aims(0.3)))
    months = query_shares.months(facts, Selection(account, window, Aims(0.28)))
    sums = query_shares.totals(facts, Selection(account, window, Aims(0.28)))
    assert sum(months["clicks"].values()) == sums["own_clicks"]
    assert sum(months["cart_adds"].values()) == sums["own_cart_adds"]
    for metric, counted in (("cart_rate", "clicks"), ("purchase_rate", "cart_adds")):
        for category, found, _ in standing.shop_place(on, sums, metric, months).parts:
            cell = on.cells[(category, standing.ALL, metric)]
            assert found.typical == pytest.approx(peers.blended(cell, months[counted]).typical)


def test_what_ads_did_by_day_and_as_a_whole_is_the_same(demo):
    """
    Sums by ad, by category and day, and the report's own by day: three readings of the same rows, exact to the
    micro-unit.
    """
    account = accounts.by_key(demo.store, "fernhollow-de")
    facts, window = Facts(demo.store), Window(date(2026, 10, 19), date(2026, 11, 17))
    ads = product_frames.placed_ads(facts, account.id, window)
    own = facts.by_day(account.id, "product_ad_daily", window, MEASURES)
    by_category = product_frames.ad_days(facts, account.id, window, ads.select("product_ad_id", "category"))
    alone = product_frames.ad_days(facts, account.id, window, ads.select("product_ad_id"))
    assert_frame_equal(alone, own)
    assert_frame_equal(by_category.group_by("day", "first_day").agg(pl.col(MEASURES).sum()).sort("day"), own)
    assert ads.select(pl.col(MEASURES).sum()).row(0) == own.select(pl.col(MEASURES).sum()).row(0)
    some = ads.head(3)
    theirs = product_frames.ad_days(facts, account.id, window, some.select("product_ad_id", "sku"))
    assert set(theirs["sku"]) == set(some["sku"])
    assert theirs["spend"].sum() == some["spend"].sum()


def test_all_trade_is_of_the_days_asked_for(demo):
    """Kept by month, cut by day: nothing of the period before and after, nothing twice."""
    account, facts = accounts.by_key(demo.store, "fernhollow-de"), Facts(demo.store)
    for window in (
        Window(date(2026, 9, 28), date(2026, 11, 3)),
        Window(date(2026, 10, 5), date(2026, 10, 7)),
        Window(date(2025, 1, 1), date(2025, 1, 9)),
    ):
        trade = product_frames.trade_days(facts, account.id, window)
        own = facts.by_day(account.id, "product_sales_daily", window, product_frames.TRADE)
        by_day = trade.group_by("day", "first_day").agg(pl.col(product_frames.TRADE).sum()).sort("day")
        assert_frame_equal(by_day, own)
        assert not trade.select("first_day", "day", "product_id").is_duplicated().any()


def test_standing_is_the_same_to_the_last_digit_whenever_it_is_worked_out(demo):
    """Sums are of whole micro-units, whose order does not count, and rows that are alike stand in one order."""
    account = accounts.by_key(demo.store, "fernhollow-de")
    selection = Selection(
        account,
        Window(date(2026, 10, 19), date(2026, 11, 17)),
        Aims(0.3),
        Window(date(2026, 9, 19), date(2026, 10, 18)),
    )
    for part in (EVERYTHING, Part(formats=("product",))):
        own = replace(selection, part=part)
        first, again = (
            (
                standing.compared_products(facts, own),
                standing.groups(facts, own, "portfolio"),
                movement.sides(facts, own, "family"),
            )
            for facts in (Facts(demo.store), Facts(demo.store))
        )
        assert_frame_equal(first[0], again[0], check_exact=True)
        assert first[1] == again[1]
        assert_frame_equal(first[2], again[2], check_exact=True)


def test_a_month_s_sum_is_no_day_and_no_format(store, account, tmp_path):
    """
    One sum of 30 days: products, their page and all of it come to it, no day does, and of which format ads are is not
    told.
    """
    content = (
        "from,to,campaign,ad_group,sku,impressions,clicks,spend,orders,sales\n"
        "2026-09-01,2026-09-30,P,A,SKU-1,900,50,25.10,2,40\n2026-09-01,2026-09-30,Q,B,SKU-1,90,5,2.20,0,0\n"
        "2026-09-01,2026-09-30,Q,B,SKU-2,9,1,0.30,0,0\n"
    )
    put(store, account, tmp_path, "september.csv", content, "product_ad_daily", scope="all")
    facts, selection = Facts(store), Selection(account, Window(date(2026, 9, 1), date(2026, 9, 30)), Aims(0.3))
    listed = standing.compared_products(facts, selection)
    assert listed["sku"].to_list() == ["SKU-1", "SKU-2"]
    assert listed["spend"].to_list() == pytest.approx([27.3, 0.3])
    assert products.opened(facts, selection, "SKU-1").now["spend"] == 27.3
    assert products.spend_by_day(facts, selection, "SKU-1").is_empty()
    assert summed(totals(facts, selection).now)["spend"] == 27_600_000
    ((group, spend, _),) = standing.groups(facts, selection, "format")
    assert (group, spend) == (standing.NONE_GIVEN, pytest.approx(27.6))
    assert {each["spend_share"] for each in standing.mix(facts, selection)} == {None}
    settings = "date,campaign,format,targeting,state,daily_budget\n2026-09-30,P,brand,manual,enabled,9\n"
    put(store, account, tmp_path, "settings.csv", settings, scope="all")
    shares = {each["format"]: each["spend_share"] for each in standing.mix(Facts(store), selection)}
    assert shares == {"product": 0.0, "brand": 1.0, "display": 0.0}
