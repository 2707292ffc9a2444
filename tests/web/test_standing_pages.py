"""Standing by Flask's client: the tree, groups, products, the path, queries, peers typed in."""

import re
from datetime import date

import polars as pl
import pytest
from tests.pages import row_ids, text_of

from nimbus_reef.analysis.totals import Totals
from nimbus_reef.core import peers
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.loading import undo
from nimbus_reef.store.record import loads
from nimbus_reef.web.kit import strips, tree

VIEWS = ("tree", "products", "formats", "path", "queries", "shape", "peers")


def plain(response):
    return text_of(response).replace("\xa0", " ")


@pytest.mark.parametrize("view", VIEWS)
def test_every_view_answers_for_a_brand_and_for_a_viewer(owner, viewer, view):
    """Each with its own answer, in figures where it has some; a viewer reads the same."""
    answers = {
        "tree": r"(is the weakest metric|is the lowest)\. .+ ahead of \d+ % of peers",
        "products": r"is weak on \d+ % of spend|No product is in the bottom quarter",
        "formats": r"Product ads take \d+ % of spend",
        "path": r"You have [\d.]+ % of the market’s impressions and [\d.]+ % of its clicks",
        "queries": r"in \d+ of \d+ queries with enough data",
        "shape": r"Campaigns by state\s+\d+\s+\d+ enabled",
        "peers": r"the values below which 20, 50 and 80 % of peers lie",
    }
    told = [plain(who.get(f"/standing/{view}?account=fernhollow-de")) for who in (owner, viewer)]
    for text in told:
        assert re.search(answers[view], text), text[:600]


def test_the_tree_names_the_weakest_link_and_what_closing_the_gap_would_bring(owner):
    page = plain(owner.get("/standing/tree?account=fernhollow-de"))
    assert re.search(r"(CTR|CVR|CPC|AOV|ACOS) is the (weakest metric|lowest)", page)
    assert re.search(r"ahead of \d+ % of peers", page)
    assert "peers:" in page
    for label in ("Impressions", "Clicks", "Orders", "Sales", "Spend", "CTR", "CVR", "AOV", "CPC", "ACOS"):
        assert label in page


@pytest.mark.parametrize("by", ["category", "format", "portfolio", "country"])
def test_groups_by_everything(owner, by):
    page = plain(owner.get(f"/standing/tree?account=fernhollow-de&by={by}"))
    assert {"category": "Grow lights", "format": "brand", "portfolio": "Grow lights", "country": "DE, EUR"}[by] in page
    assert owner.get("/standing/tree?by=mood").status_code == 400


def test_products_sort_by_standing_and_say_median_and_change(owner):
    worst = row_ids(owner.get("/standing/products?account=fernhollow-de&sort=cvr"))
    assert len(worst) > 20
    shown = owner.get("/standing/products?account=fernhollow-de&sort=cvr").get_data(as_text=True)
    without = shown.count("no peer figures") + shown.count('title="no data"')
    assert shown.count("median €") + shown.count("median ") - without > 50, (
        "every figure stands beside its peers' median"
    )
    assert re.search(r"median [^<]+· [+−]\S* %", plain(owner.get("/standing/products?account=fernhollow-de")))
    opened = plain(owner.get(f"/standing/products?account=fernhollow-de&open={worst[0]}&metric=cvr"))
    assert "CVR: Check the page" in opened
    assert "Why its ACOS moved" in opened
    assert owner.get("/standing/products?open=NONE").status_code == 404


def test_a_product_s_rows_behind_sum_to_its_figures(owner):
    sku = row_ids(owner.get("/standing/products?account=fernhollow-de"))[0]
    page = plain(owner.get(f"/standing/products/rows?account=fernhollow-de&open={sku}"))
    assert "rows of “Product ads by day”" in page
    assert "product_ad_daily.csv" in page


def test_tables_of_the_area_leave_as_files(owner):
    for view in ("products", "queries"):
        lines = owner.get(f"/standing/{view}/export.csv?account=fernhollow-de").get_data(as_text=True).splitlines()
        assert len(lines) > 20
        assert owner.get(f"/standing/{view}/export.parquet?account=fernhollow-de").status_code == 200
    assert owner.get("/standing/tree/export.csv").status_code == 404


def test_the_path_names_the_stage_where_shoppers_are_lost(owner):
    page = plain(owner.get("/standing/path?account=fernhollow-de"))
    assert re.search(r"Shoppers drop off (between|no more)", page)
    assert "cart abandonment" in page


def test_queries_filter_by_the_stage_at_which_their_share_falls(owner):
    page = owner.get("/standing/queries?account=fernhollow-de&where=lost:is:clicks")
    assert page.status_code == 200
    assert row_ids(page)
    shown, all_of_them = re.search(r"<b>([\d,]+)</b> of ([\d,]+) queries", page.get_data(as_text=True)).groups()
    assert int(shown.replace(",", "")) < int(all_of_them.replace(",", ""))


def test_a_window_without_a_whole_week_says_what_is_missing(owner):
    page = plain(owner.get("/standing/path?account=fernhollow-de&window=2026-10-13..2026-10-15"))
    assert "No query funnel covers this period" in page


def test_peer_figures_are_typed_in_beside_the_feed_s_and_can_be_undone(owner, demo):
    form = {
        "account": "fernhollow-de",
        "peers_of": "2026-11",
        "peer_category": "Grow lights",
        "metric": "cvr",
        "p20": "1",
        "p50": "2",
        "p80": "4",
        "brands": "44",
    }
    before = plain(owner.get("/standing/peers?account=fernhollow-de"))
    done = owner.post("/standing/peers", data=form, follow_redirects=True)
    page = plain(done)
    assert "Peer figures saved" in page
    assert re.search(r"Grow lights all CVR 44 1.0 % 2.0 % 4.0 %", page)
    assert page.count("Grow lights") == before.count("Grow lights") + 0, "the month's other figures stay"
    batch = loads.batches(demo.store, 1)[0]
    assert batch.file_name == "typed-in-peers.csv"
    undo.undo(demo.store, 1, batch.id)
    assert "1.0 % 2.0 % 4.0 %" not in plain(owner.get("/standing/peers?account=fernhollow-de"))


@pytest.mark.parametrize(
    ("wrong", "why"),
    [
        ({"p50": "x"}, "not a number"),
        ({"p80": "1.5"}, "from lowest to highest"),
        ({"brands": "5"}, "Too few"),
        ({"peer_category": ""}, "category: Missing."),
    ],
)
def test_typed_in_figures_that_cannot_be_are_refused(owner, wrong, why):
    form = {
        "peers_of": "2026-11",
        "peer_category": "Grow lights",
        "metric": "cvr",
        "p20": "1",
        "p50": "2",
        "p80": "4",
        "brands": "44",
    }
    refused = owner.post("/standing/peers", data=form | wrong)
    assert refused.status_code == 400
    assert why in text_of(refused)


def test_what_is_too_thin_is_drawn_hollow_and_says_what_is_missing():
    some = peers.Peers(tuple(point / 1000 for point in peers.POINTS), 50)
    thin = peers.standing("cvr", {"clicks": 60, "orders": 3}, some, None)
    drawn = strips.strip(thin, Figures("en_IE", "EUR"))
    assert (drawn.x, drawn.hollow, drawn.tone) == (pytest.approx(50), True, "")
    assert drawn.words == "not enough data: 60 of 100 clicks"
    unknown = strips.strip(peers.standing("cvr", {"clicks": 60, "orders": 3}, None, None), Figures("en_IE", "EUR"))
    assert unknown.x is None


@pytest.mark.parametrize(
    ("metric", "value", "typical", "says"),
    [
        ("ctr", 0.01, 0.012, "the same impressions would bring about € 400 more sales per 30 days"),
        ("cpc", 0.8, 0.6, "the same clicks would cost about € 200 less per 30 days"),
        ("acos", 0.4, 0.3, "the same sales would cost about € 200 less per 30 days"),
        ("cvr", 0.1, 0.05, ""),
        ("cvr", None, 0.05, ""),
        ("cart_rate", 0.1, 0.2, ""),
    ],
)
def test_what_closing_the_gap_would_bring_in_words(metric, value, typical, says):
    """Of 15 days with € 1,000 of sales and € 400 of spend: twice that in 30."""
    now = {"sales": 1_000_000_000, "spend": 400_000_000}
    said = tree.gap_words(metric, value, typical, now, 15, Figures("en_IE", "EUR")).replace("\xa0", " ")
    assert says in said
    assert bool(said) is bool(says)


def test_the_nodes_of_the_tree_say_value_change_and_whether_that_is_good():
    """Half the spend for the same sales: cost of sale halved; counts are compared per day, rates as they are."""

    def days(spend, count):
        row = {
            "first_day": date(2026, 10, 1),
            "day": date(2026, 10, 1),
            "impressions": 10_000,
            "clicks": 100,
            "spend": spend * 1_000_000,
            "orders": 10,
            "units": 10,
            "sales": 400 * 1_000_000,
        }
        return pl.DataFrame([row] * count)

    found = Totals("campaign_daily", days(100, 2), days(200, 1), 2, 1)
    nodes = tree.nodes(found, {}, 0.28, Figures("en_IE", "EUR"))
    spend, acos, sales = nodes["spend"], nodes["acos"], nodes["sales"]
    assert (spend.value.replace("\xa0", " "), spend.up, spend.good) == ("€ 200", False, None)
    assert (acos.value.replace("\xa0", " "), acos.up, acos.good) == ("25.0 %", False, True)
    assert "25.0" in acos.change
    assert sales.up is None, "as much a day as before"
    assert nodes["ctr"].value.replace("\xa0", " ") == "1.00 %"
