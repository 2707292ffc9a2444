"""One product, opened: its figures then and now, against peers, why it moved, its page, its rows."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.proposals import history
from nimbus_reef.core import listings
from nimbus_reef.core.model import MEASURES, from_micro
from nimbus_reef.core.peers import BOTTOM, RATED
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import product_frames, row_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit import charts
from nimbus_reef.web.kit.behind import Behind, behind
from nimbus_reef.web.kit.charts import Marked
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.splits import why
from nimbus_reef.web.kit.strips import strip, value_words
from nimbus_reef.web.params import Scope

TO_CHECK: Final[Mapping[str, str]] = {
    "ctr": "The first picture, price, rating and the start of the title, as they stand beside rivals in search; "
    "then whether the searches paid for are about this product at all.",
    "cvr": "The page: pictures, bullets, reviews, price against rivals, stock, delivery; then searches that "
    "want something else.",
    "cpc": "Bids and placement raises; then whether a quieter match or longer phrase brings the same buyers.",
    "aov": "Price, sizes and sets offered, and which variant the ads lead to.",
    "acos": "Conversion and price per click first: it is made of them and the order value.",
    "cart_rate": "Price, delivery and choice of variants: shoppers look and do not put it in the cart.",
    "purchase_rate": "Delivery time and cost, coupons, stock: shoppers have it in the cart and leave it there.",
}


def drawer(facts: Facts, scope: Scope, sku: str, metric: str, figures: Figures) -> dict[str, Any]:
    """What the drawer shows of a product; NotFound where it did nothing in these days."""
    on = standing.ground(facts, scope.look)
    rows = on.rows.filter(pl.col("sku") == sku)
    if rows.is_empty():
        raise NotFound(f"{sku} had no ads in these days.", remedy="Choose other days, or close the drawer.")
    placed = {name: each.standing for name, each in standing.places(on, rows).items()}
    now = {name: float(rows[name].sum()) for name in MEASURES}
    then, moved = None, None
    if scope.against is not None:
        sides = movement.sides(facts, scope.look, "product").filter(pl.col("key") == sku)
        moved = sides.to_dicts()[0] if len(sides) else None
        then = {name: float(moved[f"{name}0"]) for name in MEASURES} if moved else None
    weak = metric if metric in RATED else _weakest(placed)
    first = rows.row(0, named=True)
    changed = page_changes(facts, scope, sku)
    return {
        "sku": sku,
        "title": first["title"] or "",
        "where": f"{first['category'] or 'no category'} · {first['family'] or 'no family'}",
        "sentence": _sentence(now, moved, figures),
        "strips": [
            (RATED[name].label, value_words(name, each.value, figures), strip(each, figures), name == weak)
            for name, each in placed.items()
        ],
        "check": (RATED[weak].label, TO_CHECK[weak]) if weak else None,
        "why": why(then, now, figures),
        "changed": [(figures.day(each.day), each.words) for each in changed[-6:]],
        "trend": _trend(facts, scope, sku, changed, figures),
        "campaigns": [
            (row["campaign"], figures.money(row["spend"]), figures.rate(row["spend"] / row["sales"], 0) if row["sales"] else "no sales")
            for row in rows.group_by("campaign").agg(pl.col("spend", "sales").sum()).sort(["spend", "campaign"], descending=[True, False]).head(5).to_dicts()
        ],
    }  # fmt: skip


def _weakest(placed: Mapping[str, Any]) -> str:
    told = {name: each.percentile for name, each in placed.items() if each.percentile is not None}
    weakest = min(told, key=lambda name: told[name], default="")
    return weakest if weakest and told[weakest] < BOTTOM else ""


def _sentence(now: Mapping[str, float], moved: Mapping[str, Any] | None, figures: Figures) -> tuple[str, str]:
    acos = figures.rate(now["spend"] / now["sales"]) if now["sales"] else "no sales"
    bold = f"{figures.money(now['spend'])} spent, {figures.money(now['sales'])} sold: ACOS {acos}."
    if moved is None:
        return bold, ""
    rest = (
        f"A month: {figures.change(moved['spend_change'])} spend, {figures.change(moved['sales_change'])} sales; "
        f"{moved['movement']}, {figures.change(moved['profit'])} profit after ads."
    )
    # A line must not end between a sign and its figure.
    return bold, re.sub("([+−])", "\\1\u2060", rest)


def page_changes(facts: Facts, scope: Scope, sku: str) -> list[Marked]:
    """What changed on the product's page over its history."""
    window = history(scope.look)
    catalog = product_frames.placed_products(facts, scope.account.id, scope.window).filter(
        pl.col("sku") == sku
    )
    pages = product_frames.listings(facts, scope.account.id, window).filter(
        pl.col("product_id").is_in(catalog["product_id"].unique().implode())
    )
    if pages.is_empty():
        return []
    return [
        Marked(
            row["day"], f"page’s {row['field'].replace('_', ' ')} {_short(row['old'])} → {_short(row['new'])}"
        )
        for row in listings.page_changes(pages).sort("day").to_dicts()
    ]


def _short(text: str) -> str:
    return text if len(text) <= 24 else f"{text[:22]}…"


def _trend(
    facts: Facts, scope: Scope, sku: str, changed: Sequence[Marked], figures: Figures
) -> dict[str, Any] | None:
    days = (
        product_frames.placed_products(facts, scope.account.id, history(scope.look))
        .filter(pl.col("sku") == sku)
        .group_by("day")
        .agg(pl.col("spend").sum())
        .sort("day")
    )
    if days.is_empty():
        return None
    dates: list[date] = days["day"].to_list()
    return charts.money_and_bid(
        dates, [from_micro(value) for value in days["spend"]], [None] * len(dates), figures=figures,
        first_shown=max(scope.window.first, dates[0]), changes=changed,
    )  # fmt: skip


def rows_behind(facts: Facts, scope: Scope, sku: str, figures: Figures) -> Behind:
    """The product report's own rows of a product in the window."""
    ads = product_frames.product_rows(facts, scope.account.id, scope.window).filter(pl.col("sku") == sku)
    rows = row_frames.rows_behind(
        facts, scope.account.id, "product_ad_daily", scope.window, ads["product_ad_id"].to_list()
    )
    return behind(rows, figures)
