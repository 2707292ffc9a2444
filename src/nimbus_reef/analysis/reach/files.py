"""What leaves Reach as files, for pages, the workbook and the command line alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import coverage, market, overlaps, ranks, shares
from nimbus_reef.analysis.reach.pool import listed
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.model import MICRO
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.reading.facts import TARGET_SOURCES, Facts


def phrases_table(rows: pl.DataFrame) -> Table:
    """The pool of phrases as a file."""
    frame = rows.select(
        "phrase",
        "status",
        "sku",
        pl.col("category").cast(pl.String),
        "term_words",
        "listed",
        "searched",
        "own_term",
        lists="brought",
        searches_a_week="volume",
        own_rank="own_rank",
        rivals_within_40="rivals_seen",
        clicks_without_ads="free_clicks",
        orders_without_ads="free_orders",
        expected_cvr="cvr",
        usual_cpc="price",
        suggested_bid="suggested",
        chance_to_pay="pays",
        bid="bid",
        clicks_in_28_days="clicks",
        spend_in_28_days="spend",
        sales_in_28_days="sales",
        profit_in_28_days="gain",
        campaign="campaign",
        ad_group="ad_group",
    )
    money = dict.fromkeys(
        ("usual_cpc", "suggested_bid", "bid", "spend_in_28_days", "sales_in_28_days", "profit_in_28_days"), "0.00"
    )
    return Table("phrases", frame, money | {"expected_cvr": "0.0%", "chance_to_pay": "0%"})


def ranks_table(rows: pl.DataFrame) -> Table:
    """Phrases with who ranks and pays for them, as a file."""
    frame = rows.select(
        "phrase",
        "sku",
        pl.col("category").cast(pl.String),
        "own_rank",
        "best_rival",
        "rivals_seen",
        "relevance",
        "bought",
        "gap",
        searches_a_week="volume",
        own_sponsored_rank="own_ad",
        rivals_with_ads="paying",
        of_them_new="new_paying",
        in_title="title",
        title_lacks="missing",
        do_first="fight",
        bid="bid",
        clicks_in_28_days="clicks",
        profit_in_28_days="profit",
    )
    return Table("ranks", frame, {"relevance": "0%", "bid": "0.00", "profit_in_28_days": "0.00"})


def top_table(rows: pl.DataFrame) -> Table:
    """Targets with room at the top of search, as a file."""
    frame = rows.select(
        pl.col("campaign", "ad_group", "target", "match_type").cast(pl.String),
        "top_of_search_share",
        "bid",
        next_bid="proposed",
        share_then="after",
        room_left="room",
        why_the_bid_stays="held",
        gain_in_30_days="gain",
        chance_above_target="p_over",
        campaign_share="campaign_share",
        age_in_days="age",
        clicks="clicks",
        orders="orders",
        spend=pl.col("spend") / MICRO,
        sales=pl.col("sales") / MICRO,
    )
    shares = dict.fromkeys(
        ("top_of_search_share", "share_then", "room_left", "chance_above_target", "campaign_share"), "0%"
    )
    return Table(
        "top-of-search", frame, shares | dict.fromkeys(("bid", "next_bid", "gain_in_30_days", "spend", "sales"), "0.00")
    )


def small_shares_table(rows: pl.DataFrame) -> Table:
    """Search terms that earn and of which little is ours, as a file."""
    frame = rows.select(
        pl.col("campaign", "ad_group", "term").cast(pl.String),
        "impression_share",
        "impression_rank",
        chance_above_target="p_over",
        clicks="clicks",
        orders="orders",
        spend=pl.col("spend") / MICRO,
        sales=pl.col("sales") / MICRO,
    )
    shares = dict.fromkeys(("impression_share", "chance_above_target"), "0%")
    return Table("small-shares", frame, shares | {"impression_rank": "0.0", "spend": "0.00", "sales": "0.00"})


def coverage_table(rows: pl.DataFrame) -> Table:
    """For how many phrases products are seen, as a file."""
    frame = rows.select(
        "name",
        "sku",
        "products",
        "category",
        "phrases",
        "goal",
        "advice",
        age_in_days="age",
        ranked_within_40="ranked",
        ranked_within_10="first_page",
        with_own_ad="shown",
        ad_and_rank="both",
        clicks="clicks",
        orders="orders",
        cvr="cvr",
        cvr_of_category="cohort_cvr",
        chance_of_less="p_worse",
    )
    return Table("coverage", frame, dict.fromkeys(("cvr", "cvr_of_category"), "0.0%") | {"chance_of_less": "0%"})


def overlaps_table(rows: pl.DataFrame) -> Table:
    """Where we compete with ourselves, as a file."""
    frame = rows.select(
        "phrase",
        "overlap",
        "sku",
        "category",
        "own_rank",
        "spend",
        "sales",
        "paid_clicks",
        "paid_orders",
        searches_a_week="volume",
        own_items_within_40="items",
        which="skus",
        bought_for="buying",
        clicks_without_ads="free_clicks",
        orders_without_ads="free_orders",
        rank_before="before",
        last_click_by_ads="stopped",
    )
    return Table("own-against-own", frame, {"spend": "0.00", "sales": "0.00"})


def rivals_table(rows: pl.DataFrame) -> Table:
    """Other brands' items as a file."""
    frame = rows.select(
        item="row_id",
        brand="brand",
        title="title",
        category="category",
        launch_date="launched",
        price=pl.col("price") / MICRO,
        rating="rating",
        reviews="reviews",
        monthly_sales_estimate=pl.col("monthly_sales") / MICRO,
        phrases_within_40="seen",
        three_weeks_ago="before",
        ahead_of_us="ahead",
        phrases_with_its_ad="paying",
        compared_with="chosen",
    )
    return Table("rivals", frame, {"price": "0.00", "monthly_sales_estimate": "0.00"})


FILES: Final[Mapping[str, Callable[[Facts, Selection], Table]]] = {
    "phrases": lambda facts, selection: phrases_table(listed(facts, selection)),
    "ranks": lambda facts, selection: ranks_table(ranks.gaps(facts, selection)),
    "rivals": lambda facts, selection: rivals_table(ranks.rivals(facts, selection)),
    shares.TOP_VIEW: lambda facts, selection: top_table(shares.top_of_search(facts, selection).rows),
    shares.TERMS_VIEW: lambda facts, selection: small_shares_table(shares.small_shares(facts, selection).rows),
    "coverage": lambda facts, selection: coverage_table(coverage.rows(facts, selection)),
    "own-against-own": lambda facts, selection: overlaps_table(overlaps.rows(facts, selection)),
}
"""Every table of the area, whole."""
NEEDS: Final[Mapping[str, tuple[str, ...]]] = {
    "phrases": market.SOURCES,
    "ranks": (market.LISTS,),
    "rivals": (market.LISTS, "rivals"),
    shares.TOP_VIEW: TARGET_SOURCES,
    shares.TERMS_VIEW: ("search_term_daily",),
    "coverage": (market.LISTS,),
    "own-against-own": (market.LISTS,),
}
