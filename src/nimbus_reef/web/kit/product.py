"""One product, opened: its figures then and now, against peers, why it moved, its page, its rows."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, Final

from nimbus_reef.analysis import products
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.wording import metric_words
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.peers import RATED
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit import charts
from nimbus_reef.web.kit.behind import Behind, behind
from nimbus_reef.web.kit.charts import Marked
from nimbus_reef.web.kit.splits import Why, why
from nimbus_reef.web.kit.strips import Strip, strip
from nimbus_reef.web.params import Scope

_REPORT: Final = "product_ad_daily"
TO_CHECK: Final[Mapping[str, str]] = {
    "ctr": (
        "Compare main picture, price, rating and title with rivals in search. "
        "Then check that the search terms fit this product."
    ),
    "cvr": (
        "Check the page: pictures, bullets, reviews, price, stock, delivery. "
        "Then check for search terms that want something else."
    ),
    "cpc": "Check bids and bid adjustments. Then try a narrower match type or a longer phrase.",
    "aov": "Check price, sizes and sets, and which variation the ads lead to.",
    "acos": "Check conversion and CPC first. ACOS is made of both and of AOV.",
    "cart_rate": "Check price, delivery and variations: shoppers look but do not add it to the cart.",
    "purchase_rate": "Check delivery time and cost, coupons and stock: shoppers leave it in the cart.",
}


@dataclass(frozen=True, slots=True)
class ProductDrawer:
    """
    What the drawer shows of a product. sentence: its bold part and the rest; strips: label, value, strip, whether it is
    looked at; check: the metric and what to look at on the page; changed, campaigns: ready to print, a row each.
    """

    sku: str
    title: str
    where: str
    sentence: tuple[str, str]
    priced: str
    strips: list[tuple[str, str, Strip, bool]]
    check: tuple[str, str] | None
    why: Why
    changed: list[tuple[str, str]]
    trend: dict[str, Any] | None
    needs_days: str
    campaigns: list[tuple[str, str, str]]


def drawer(facts: Facts, scope: Scope, sku: str, metric: str, figures: Figures) -> ProductDrawer:
    """What the drawer shows of a product; NotFound where it has no activity in the window."""
    found = products.opened(facts, scope.selection, sku)
    weak = metric if metric in RATED else found.weakest
    changed = page_changes(facts, scope.selection, sku)
    return ProductDrawer(
        sku=sku,
        title=found.title,
        where=f"{found.category or 'no category'} · {found.family or 'no family'}",
        sentence=_sentence(found.now, found.moved, figures),
        priced=_priced(found.price, found.siblings, figures),
        strips=[
            (RATED[name].label, metric_words(name, each.value, figures), strip(each, figures), name == weak)
            for name, each in found.standings.items()
        ],
        check=(RATED[weak].label, TO_CHECK[weak]) if weak else None,
        why=why(found.then, found.now, figures),
        changed=[(figures.day(each.day), each.words) for each in changed[-6:]],
        trend=_trend(facts, scope.selection, sku, changed, figures),
        needs_days=(
            ""
            if facts.by_day_only(scope.account.id, _REPORT, scope.window)
            else f"Spend by day needs {KINDS[_REPORT].title.lower()} by day. One total is loaded."
        ),
        campaigns=[
            (
                row["campaign"],
                figures.money(row["spend"]),
                figures.rate(ratio(row["spend"], row["sales"]), 0) if row["sales"] else "no sales",
            )
            for row in found.campaigns.to_dicts()
        ],
    )


def _sentence(now: Mapping[str, float], moved: Mapping[str, Any] | None, figures: Figures) -> tuple[str, str]:
    acos = figures.rate(ratio(now["spend"], now["sales"])) if now["sales"] else "no sales"
    bold = f"{figures.money(now['spend'])} spent, {figures.money(now['sales'])} sold: ACOS {acos}."
    if moved is None:
        return bold, ""
    rest = (
        f"Per 30 days {figures.change(moved['spend_change'])} spend, {figures.change(moved['sales_change'])} sales; "
        f"{moved['movement']}, {figures.change(moved['profit'])} profit after ads."
    )
    # A line must not end between a sign and its figure.
    return bold, re.sub("([+−])", "\\1\u2060", rest)


def _priced(price: float | None, siblings: Sequence[float], figures: Figures) -> str:
    """What it costs beside the others of its family; empty where the catalog tells no price of it."""
    if price is None:
        return ""
    own = f"Costs {figures.money(price, 2)}"
    if not siblings:
        return f"{own}."
    lowest, highest = figures.money(siblings[0], 2), figures.money(siblings[-1], 2)
    among = lowest if lowest == highest else f"{lowest} to {highest}"
    return f"{own}; {'its variation' if len(siblings) == 1 else f'its {len(siblings)} variations'} {among}."


def page_changes(facts: Facts, selection: Selection, sku: str) -> list[Marked]:
    """What changed on the product's page over its history."""
    return [
        Marked(row["day"], f"page’s {row['field'].replace('_', ' ')} {_short(row['old'])} → {_short(row['new'])}")
        for row in products.page_changes(facts, selection, sku).to_dicts()
    ]


def _short(text: str) -> str:
    return text if len(text) <= 24 else f"{text[:22]}…"


def _trend(
    facts: Facts, selection: Selection, sku: str, changed: Sequence[Marked], figures: Figures
) -> dict[str, Any] | None:
    days = products.spend_by_day(facts, selection, sku)
    if days.is_empty():
        return None
    dates: list[date] = days["day"].to_list()
    return charts.money_and_bid(
        dates,
        [from_micro(value) for value in days["spend"]],
        [None] * len(dates),
        figures=figures,
        first_shown=max(selection.window.first, dates[0]),
        changes=changed,
    )


def rows_behind(facts: Facts, scope: Scope, sku: str, figures: Figures) -> Behind:
    """The product report's own rows of a product in the window."""
    return behind(products.report_rows(facts, scope.selection, sku), figures)
