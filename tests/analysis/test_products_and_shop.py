"""Falls of conversion count mature days alone; months of shop rates weigh by what the weeks themselves hold."""

from datetime import date, timedelta

import polars as pl
import pytest
from tests.jobs.test_labels import put

from nimbus_reef.analysis import products, standing
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.readings import reading
from nimbus_reef.core import peers
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import accounts
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
    look = Look(account, Window(date(2026, 9, 17), NEWEST), Aims(0.3))
    rows = reading(Facts(store), look, Reading.FALLS)
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
    on = standing.ground(facts, Look(account, window, Aims(0.3)))
    months = standing.shop_months(facts, account, window)
    sums = standing.shop_sums(facts, account, window)
    assert sum(months["clicks"].values()) == sums["own_clicks"]
    assert sum(months["cart_adds"].values()) == sums["own_cart_adds"]
    for metric, counted in (("cart_rate", "clicks"), ("purchase_rate", "cart_adds")):
        for category, found, _ in standing.shop_place(on, sums, metric, months).parts:
            cell = on.cells[(category, standing.ALL, metric)]
            assert found.typical == pytest.approx(peers.blended(cell, months[counted]).typical)
