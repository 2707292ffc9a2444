"""Two phrases side by side: what each costs and sells over all ad groups, with its range, and how its ranks went."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import evidence, market_fit, unbought
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.words import normal_form
from nimbus_reef.store.reading import market_frames, product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

_OFFERED: Final = 200
_LINES: Final = 3
"""So many rivals' ranks are followed, those that rank best now."""


@dataclass(frozen=True, slots=True)
class Estimate:
    """A figure and its 80 % range, null where nothing says it."""

    value: float | None
    low: float | None = None
    high: float | None = None


@dataclass(frozen=True, slots=True)
class Phrase:
    """
    A phrase. row: as `market.phrases`; clicks, orders of ads in the window over all ad groups, spend and sales in
    micro-units; ctr, cvr, acos with their ranges; places: how many ad groups bought it.
    """

    row: dict[str, Any]
    impressions: int
    clicks: int
    orders: int
    spend: int
    sales: int
    places: int
    ctr: Estimate
    cvr: Estimate
    acos: Estimate

    @property
    def cpc(self) -> float | None:
        """What a click cost, micro-units."""
        return ratio(self.spend, self.clicks)


@dataclass(frozen=True, slots=True)
class RankedItem:
    """An item's ranks for a phrase, day by day. own; age: days since its launch, null where unknown."""

    name: str
    own: bool
    age: int | None
    days: tuple[tuple[date, float | None, float | None], ...]


def found(facts: Facts, selection: Selection, text: str) -> dict[str, Any] | None:
    """The phrase of the market that is written so, as `market.phrases`; None for none."""
    rows = market.phrases(facts, selection).filter(pl.col("phrase") == normal_form(text))
    return rows.row(0, named=True) if len(rows) else None


def usual(facts: Facts, selection: Selection) -> list[str]:
    """Phrases to choose from, those with ranks, clicked and searched most, first. Kept."""

    def make() -> pl.DataFrame:
        order = ["listed", "own_clicks", "volume", "phrase"]
        every = market.phrases(facts, selection).select(order)
        return every.sort(order, descending=[True, True, True, False], nulls_last=True).select("phrase").head(_OFFERED)

    return facts.kept("usual phrases", selection.account.id, make, *market.key(selection))["phrase"].to_list()


def compared(facts: Facts, selection: Selection, row: dict[str, Any]) -> Phrase:
    """What is known of a phrase."""
    account_id, window = selection.account.id, selection.window
    terms = target_frames.term_sums(facts, account_id, window).filter(pl.col("normal_id") == row["normal_id"])
    sums = dict(zip(MEASURES, terms.select(pl.col(MEASURES).cast(pl.Int64).sum()).row(0), strict=True))
    n, k = sums["clicks"], min(sums["orders"], sums["clicks"])
    cvr = _conversion(facts, selection, row, n, k)
    value = ratio(sums["sales"], sums["orders"]) if sums["orders"] else None
    price = ratio(sums["spend"], n) if n else None
    shown = max(sums["impressions"], n)
    return Phrase(
        row,
        sums["impressions"],
        n,
        sums["orders"],
        sums["spend"],
        sums["sales"],
        len(terms),
        Estimate(ratio(n, shown), *evidence.interval(n + 1, shown - n + 1)) if shown else Estimate(None),
        cvr,
        Estimate(ratio(sums["spend"], sums["sales"]) if sums["sales"] else None, *_acos(price, value, cvr)),
    )


def _conversion(facts: Facts, selection: Selection, row: dict[str, Any], n: int, k: int) -> Estimate:
    """Its conversion, drawn to what its product, words and ranks let expect."""
    fit = market.fitted(facts, selection.whole)
    if fit is None or row["sku"] is None:
        return Estimate(ratio(k, n)) if n else Estimate(None)
    rows = pl.DataFrame([row], schema=market.phrases(facts, selection).schema).with_columns(
        pl.col("sku").cast(pl.String), free_clicks=0, free_orders=0
    )
    pairs = rows.select("normal_id", word_id="words").explode("word_id").unique()
    expected = market_fit.expected(fit, rows.select("normal_id", "rank", "rivals", product="sku"), pairs)
    prior = unbought.posterior(rows.hstack(expected), fit.strength, 1.0).row(0, named=True)
    a, b = prior["a"] + k, prior["b"] + n - k
    return Estimate(a / (a + b), *evidence.interval(a, b))


def _acos(price: float | None, value: float | None, cvr: Estimate) -> tuple[float | None, float | None]:
    if price is None or value is None or not cvr.low or not cvr.high:
        return None, None
    return price / (value * cvr.high), price / (value * cvr.low)


def course(facts: Facts, selection: Selection, normal_id: int) -> list[RankedItem]:
    """How the ranks of our best item and of the rivals that rank best went, ours first."""
    account_id, as_of = selection.account.id, market.as_of(selection)
    days = market_frames.rank_course(facts, account_id, normal_id, as_of)
    own = product_frames.catalog(facts, account_id).select(pl.col("item", "sku").cast(pl.String), "launched")
    others = market_frames.rivals(facts, account_id).select(pl.col("item").cast(pl.String), "launched")
    mine = days.filter(pl.col("item").is_in(own["item"].implode()))
    theirs = days.filter(pl.col("item").is_in(market.rivals(facts, selection)["item"].implode()))
    launched = dict(pl.concat([own.drop("sku"), others]).drop_nulls("item").rows())
    brands = days.drop_nulls("brand").unique("item", keep="last", maintain_order=True)
    names = dict(brands.select("item", "brand").rows()) | dict(own.drop_nulls("item").select("item", "sku").rows())
    return [
        RankedItem(
            names.get(item, item),
            ours,
            (as_of - launched[item]).days if launched.get(item) else None,
            tuple(part.select("day", "organic", "sponsored").rows()),
        )
        for rows, most, ours in ((mine, 1, True), (theirs, _LINES, False))
        for item in _best(rows, most)
        for part in (rows.filter(pl.col("item") == item),)
    ]


def _best(rows: pl.DataFrame, most: int) -> Sequence[str]:
    """The items that rank best on their newest day."""
    newest = rows.filter(pl.col("day") == pl.col("day").max().over("item"))
    return newest.sort("organic", "item", nulls_last=True)["item"].head(most).to_list()
