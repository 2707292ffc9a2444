"""Findings about products and categories: what moved them, where they stand, what their pages did."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.core import listings, peers
from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.metrics import Better
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.movement import Movement
from nimbus_reef.core.peers import RATED
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window, preceding
from nimbus_reef.jobs import movement, standing
from nimbus_reef.jobs.narrow import Narrow
from nimbus_reef.store import product_frames
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.facts import Facts


@dataclass(frozen=True, slots=True)
class ProductCheck:
    """What is found about products or categories, and what to do about it."""

    key: str
    title: str
    to_do: str
    of_category: bool = False


LEAKING: Final = ProductCheck(
    "leaking-products", "Products that spend more and sell no more", "look at what changed: bids, page, price"
)
NOT_WORTH: Final = ProductCheck(
    "growth-not-worth", "Growth that costs more than it may", "take back the raise that bought it"
)
FELL: Final = ProductCheck(
    "page-broke", "Conversion that fell when a page changed", "look at the product page"
)
BOTTOM: Final = ProductCheck(
    "bottom-quarter",
    "Metrics in the bottom quarter of their category",
    "look at what drags it",
    of_category=True,
)
CHECKS: Final = {each.key: each for each in (LEAKING, NOT_WORTH, FELL, BOTTOM)}
_JUDGED: Final = ("ctr", "cvr", "cpc", "acos")
_SCHEMA: Final = {
    "row_id": pl.String, "members": pl.List(pl.String), "name": pl.String, "where": pl.String,
    "why": pl.List(pl.String), "figures": pl.List(pl.Float64), "stake": pl.Int64,
    "campaign": pl.String, "ad_group": pl.String, "target": pl.String, "match_type": pl.String,
    **dict.fromkeys(MEASURES, pl.Int64),
}  # fmt: skip


def found(
    facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow
) -> dict[str, pl.DataFrame]:
    """
    Rows per check: row_id, name, where, why (words that say which figures follow), figures,
    stake (micro-units per 30 days; shown as their own money, never added to the overspend).
    """
    before = preceding(window)
    sides = movement.sides(facts, account, window, before, aims, "product", narrow)
    sure = sides.filter(~pl.col("thin") & pl.col("sku").is_not_null())
    leaking = sure.filter(pl.col("movement") == Movement.LEAKING.value)
    bought = sure.filter((pl.col("movement") == Movement.BUYING.value) & ~pl.col("worth"))
    return {
        LEAKING.key: _frame([_moved(row, "leaking", account) for row in leaking.to_dicts()]),
        NOT_WORTH.key: _frame([_moved(row, "bought", account) for row in bought.to_dicts()]),
        FELL.key: _frame(_falls(facts, account, window, narrow)),
        BOTTOM.key: _frame(_bottom(facts, account, window, aims, narrow)),
    }


def _frame(rows: list[dict[str, Any]]) -> pl.DataFrame:
    return pl.DataFrame(rows, schema=_SCHEMA).sort("stake", descending=True, maintain_order=True)


def _row(
    row_id: str, name: str, where: str, stake: float, sums: Mapping[str, int], why: str, *figures: float
) -> dict[str, Any]:
    words, *names = why.split("|")
    return {
        "row_id": row_id[:64], "members": [row_id], "name": name, "where": where, "why": [words, *names],
        "figures": list(figures), "stake": round(max(0.0, stake) * MICRO), "campaign": "", "ad_group": "",
        "target": name, "match_type": "", **{measure: int(sums.get(measure, 0)) for measure in MEASURES},
    }  # fmt: skip


def _sums(row: Mapping[str, Any]) -> dict[str, int]:
    money = {"spend": MICRO, "sales": MICRO}
    return {name: round(row[f"{name}1"] * money.get(name, 1)) for name in MEASURES}


def _moved(row: Mapping[str, Any], why: str, account: Account) -> dict[str, Any]:
    """What the movement cost a month: the profit lost, or the spend above what growth may cost."""
    stake = -row["profit"]
    if why == "bought":
        stake = row["spend_change"] - row["target_acos"] * row["sales_change"]
    figures = (row["spend_change"], row["sales_change"], row["marginal"] or 0.0)
    return _row(row["key"], row["key"], row["where"] or account.brand, stake, _sums(row), why, *figures)


def _falls(facts: Facts, account: Account, window: Window, narrow: Narrow) -> list[dict[str, Any]]:
    """Falls of conversion at page changes of the window; money: spend since that bought less by it."""
    around = Window(window.first - timedelta(days=listings.SIDE_DAYS), window.last)
    pages = product_frames.listings(facts, account.id, around)
    if pages.is_empty():
        return []
    changes = listings.page_changes(pages).filter(pl.col("day").is_between(window.first, window.last))
    # A sum of several days says nothing of before and after.
    rows = product_frames.placed_products(facts, account.id, around).filter(
        pl.col("first_day") == pl.col("day")
    )
    rows = narrow.part(facts, account, around, rows) if narrow else rows
    daily = rows.group_by("product_id", "day").agg(pl.col("clicks", "orders", "spend", "sales").sum())
    rows_of = {
        row["product_id"]: row
        for row in rows.unique("product_id", keep="last", maintain_order=True).to_dicts()
    }
    made = []
    newest = facts.newest_day(account.id) or window.last
    mature = min(window.last, newest - timedelta(days=account.maturing_days))
    for fall in listings.falls(daily, changes, mature).to_dicts():
        own = daily.filter(pl.col("product_id") == fall["product_id"])
        sold = own.select(pl.col("sales", "orders", "spend", "clicks").sum()).to_dicts()[0]
        since = own.filter(
            pl.col("day").is_between(
                fall["day"], min(mature, fall["day"] + timedelta(days=listings.SIDE_DAYS - 1))
            )
        )
        spent = int(since["spend"].sum()) / MICRO
        days = (min(mature, fall["day"] + timedelta(days=listings.SIDE_DAYS - 1)) - fall["day"]).days + 1
        wasted = spent * (1 - fall["cvr_after"] / fall["cvr_before"]) * STAKE_DAYS / days
        what = changes.filter((pl.col("product_id") == fall["product_id"]) & (pl.col("day") == fall["day"]))
        words = ", ".join(
            f"{row['field'].replace('_', ' ')} {row['old']} → {row['new']}"
            for row in what.to_dicts()
            if len(row["old"]) < 40
        )
        product = rows_of[fall["product_id"]]
        sums = {name: int(sold[name]) for name in ("sales", "orders", "spend", "clicks")}
        made.append(
            _row(product["sku"], product["sku"], product["title"] or "", wasted, sums,
                 f"fell|{words or 'its title'}|{fall['day']}", fall["cvr_before"], fall["cvr_after"])
        )  # fmt: skip
    return made


def _bottom(
    facts: Facts, account: Account, window: Window, aims: Aims, narrow: Narrow
) -> list[dict[str, Any]]:
    """
    Categories with metrics behind three quarters of their peers, one finding each: the gaps of
    its metrics are the same money, so the largest stands for all.
    """
    on = standing.ground(facts, account, window, narrow)
    monthly = STAKE_DAYS / facts.monthly_days(account.id, "product_ad_daily", window)
    made = []
    for (category,), rows in on.rows.partition_by("category", as_dict=True, maintain_order=True).items():
        if category is None:
            continue
        sums = {name: float(rows[name].sum()) for name in MEASURES}
        weak = []
        for metric, placed in standing.places(on, rows, _JUDGED).items():
            at = placed.standing
            if (
                at.percentile is not None
                and at.percentile < peers.BOTTOM
                and at.value is not None
                and at.typical
            ):
                weak.append((at.percentile, metric, at.value, at.typical))
        if not weak:
            continue
        # The cause before the effect: cost of sale is made of the others.
        weak.sort(key=lambda each: (each[1] == "acos", each[0]))
        money = max(_gap(metric, value, typical, sums, aims.account) for _, metric, value, typical in weak)
        _, cause, _, typical = weak[0]
        counts = {
            name: round(value * (MICRO if name in ("spend", "sales") else 1)) for name, value in sums.items()
        }
        figures = [figure for percentile, _, value, middle in weak for figure in (percentile, value, middle)]
        name = f"{category}: {', '.join(RATED[metric].label for _, metric, _, _ in weak)}"
        words = "|".join(("bottom", *(metric for _, metric, _, _ in weak)))
        made.append(
            _row(
                f"peers of {category}",
                name,
                _drag(rows, cause, typical),
                money * monthly,
                counts,
                words,
                *figures,
            )
        )
    return made


def _gap(metric: str, value: float, typical: float, sums: Mapping[str, float], target: float) -> float:
    """
    What the gap to the typical peer costs in spend: what the same sales would have cost less, and
    for click rate what the sales not made might have cost at the target.
    """
    if metric == "ctr":
        return target * sums["sales"] * (typical / value - 1) if value else 0.0
    if metric == "cvr":
        return sums["spend"] * (1 - value / typical)
    return sums["spend"] * (1 - typical / value) if metric == "cpc" else sums["sales"] * (value - typical)


def _drag(rows: pl.DataFrame, metric: str, typical: float) -> str:
    """The product whose part of the metric lies furthest on the bad side of the typical peer."""
    rated = RATED[metric]
    by_product = rows.group_by("sku").agg(pl.col(rated.numerator, rated.denominator).sum())
    sign = -1 if rated.better is Better.HIGHER else 1
    worst = by_product.with_columns(
        drag=sign * (pl.col(rated.numerator) - typical * pl.col(rated.denominator))
    ).sort(["drag", "sku"], descending=[True, False])
    return f"most of its {rated.label}: {worst['sku'][0]}" if len(worst) and worst["drag"][0] > 0 else ""
