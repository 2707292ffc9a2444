"""
Sums as managers download them: two months in one file, a brand's beside the products', settings and figures in one
sheet, ids alone.
"""

from datetime import date

import polars as pl
import pytest
import xlsxwriter
from sqlalchemy import text
from tests.jobs.test_labels import SETTINGS, put

from nimbus_reef.core.windows import Window

MEASURES = "impressions,clicks,spend,orders,sales"
FIGURES = "900,30,15.00,2,40.00"
TARGETS = f"campaign,ad_group,target,match_type,{MEASURES}"
JULY = Window(date(2026, 7, 1), date(2026, 7, 31))


@pytest.mark.parametrize(
    ("one", "other"),
    [
        ("2026-07", "2026-06"),
        ("July 2026", "June 2026"),
        ("07/2026", "06/2026"),
        ("Juli 2026", "Juni 2026"),
        ("1 Jul 2026 - 31 Jul 2026", "1 Jun 2026 - 30 Jun 2026"),
    ],
)
def test_a_file_of_two_months_is_two_sums(store, account, tmp_path, one, other):
    rows = [f"{when},C,G,t{number},exact,{FIGURES}\n" for when in (one, other) for number in range(3)]
    (done,) = put(store, account, tmp_path, "two.csv", f"Month,{TARGETS}\n" + "".join(rows))
    assert done.blocks == (Window(date(2026, 6, 1), date(2026, 6, 30)), JULY)
    assert done.rows == 6


@pytest.mark.parametrize("formats_first", [True, False])
@pytest.mark.parametrize("products", ["2026-07-01,2026-07-31", "2026-07-{day:02},2026-07-{day:02}"])
def test_a_brand_s_sum_beside_the_products_of_the_same_days_needs_no_yes(
    store, account, tmp_path, products, formats_first
):
    header = f"from,to,campaign,{MEASURES}\n"
    days = range(1, 32) if "day" in products else [1]
    rows = "".join(f"{products.format(day=day)},P,{FIGURES}\n" for day in days)
    formats = SETTINGS + "2026-07-31,P,product,manual,enabled,9\n2026-07-31,B,brand,manual,enabled,9\n"
    first, second = ("settings.csv", formats), ("products.csv", header + rows)
    for name, content in (first, second) if formats_first else (second, first):
        put(store, account, tmp_path, name, content)
    (done,) = put(store, account, tmp_path, "brand.csv", f"{header}2026-07-01,2026-07-31,B,{FIGURES}\n", scope="brand")
    assert (done.scope, done.removed, done.blocks) == ("brand", 0, (JULY,))
    with store.read() as connection:
        assert connection.execute(text("SELECT COUNT(*) FROM campaign_daily")).scalar() == len(days) + 1


def test_settings_in_a_sheet_of_sums_are_those_of_its_last_day(store, account, tmp_path):
    sheet = (
        f"what,period,campaign,ad group,keyword,match type,state,bid,daily budget,targeting,format,{MEASURES}\n"
        f"campaign,1 Jul 2026 - 31 Jul 2026,C,,,,enabled,,20.00,manual,product,{FIGURES}\n"
        f"campaign,1 Jul 2026 - 31 Jul 2026,D,,,,enabled,,20.00,manual,product,{FIGURES}\n"
        + "".join(f"keyword,1 Jul 2026 - 31 Jul 2026,C,G,t{n},exact,enabled,0.70,,,,{FIGURES}\n" for n in range(6))
    )
    done = {each.kind: each for each in put(store, account, tmp_path, "mixed.csv", sheet)}
    assert {kind: each.last_day for kind, each in done.items()} == dict.fromkeys(
        ("campaigns", "campaign_daily", "targets", "target_daily"), JULY.last
    )
    assert done["target_daily"].blocks == done["campaign_daily"].blocks == (JULY,)
    assert done["targets"].blocks == ()


def test_rows_that_have_an_id_and_no_name_are_read_with_the_name_of_another_sheet(store, account, tmp_path):
    settings = pl.DataFrame(
        {
            "campaign_id": ["c1", "c2"],
            "campaign": ["C", "D"],
            "date": "2026-07-31",
            "format": "product",
            "targeting": "manual",
            "state": "enabled",
            "daily_budget": [9.0, 8.0],
        }
    )
    figures = pl.DataFrame(
        {
            "campaign_id": ["c1", "c2"],
            "date": "2026-07-01",
            "impressions": [100, 200],
            "clicks": [10, 20],
            "spend": [5.0, 9.0],
            "orders": [1, 2],
            "sales": [30.0, 50.0],
        }
    )
    both = tmp_path / "both.xlsx"
    with xlsxwriter.Workbook(both) as book:
        settings.write_excel(book, "settings")
        figures.write_excel(book, "days")
    done = put(store, account, tmp_path, "both.xlsx", both.read_bytes())
    assert {each.kind for each in done} == {"campaigns", "campaign_daily"}
    later = tmp_path / "later.xlsx"
    unnamed = figures.with_columns(campaign=pl.lit(None, pl.String), date=pl.lit("2026-07-02"))
    unnamed.write_excel(later, "days")
    put(store, account, tmp_path, "later.xlsx", later.read_bytes())
    with store.read() as connection:
        named = (
            "SELECT DISTINCT c.name FROM campaign_daily f JOIN campaign c ON c.id = f.campaign_id WHERE f.day ="
            " '2026-07-02'"
        )
        assert set(connection.execute(text(named)).scalars()) == {"C", "D"}
