"""What the target solver starts from: a scope's own figures, its margin, its peers, and how clicks answer its bids."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import polars as pl

from nimbus_reef.analysis import bid_advice, bid_response, judged_proposals, out_of_budget, standing
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import solver
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.peers import POINTS, RATED
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.solver import Figure, ScopeSums
from nimbus_reef.core.windows import month_factor
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts


class Quartiles(NamedTuple):
    """What a quarter, half and three quarters of the peers are at or under."""

    lower: float
    median: float
    upper: float


@dataclass(frozen=True, slots=True)
class SolverData:
    """
    now: what the scope does in 30 days; left_out: campaigns without it, out of budget lately; formats: the ad formats
    in it; unpriced: the part of its sales without a known margin; of_visits: conversion of all visits to its products,
    None where that is not loaded; peers: the quartiles of category peers.
    """

    now: ScopeSums
    response: ClickResponse
    left_out: tuple[str, ...]
    formats: tuple[str, ...]
    unpriced: float
    of_visits: float | None
    peers: Mapping[Figure, Quartiles]


def data(facts: Facts, selection: Selection) -> SolverData:
    """The start, from the targets of the part that is looked at. Kept."""
    asked = bid_advice.advice_key(selection)
    return facts.kept("solver", selection.account.id, lambda: _data(facts, selection), *asked, selection.part)


def _data(facts: Facts, selection: Selection) -> SolverData:
    judged = judged_proposals.judged(facts, selection, Subject.TARGET)
    rows = bid_advice.with_advice(facts, selection, judged)
    dry = out_of_budget.lately(facts, selection.whole).filter("dry")
    without = rows.join(dry, on="campaign_id", how="semi").filter(pl.col("spend") > 0)
    kept = rows.join(dry, on="campaign_id", how="anti")
    days = max(1, judged_proposals.monthly_days(facts, selection, Subject.TARGET))
    margin, unpriced = _margin(kept)
    clicks, orders, spend, sales = (float(kept[name].sum()) for name in ("clicks", "orders", "spend", "sales"))
    month = month_factor(days)
    return SolverData(
        ScopeSums(clicks * month, orders * month, spend * month / MICRO, sales * month / MICRO, margin),
        bid_response.learned(facts, selection),
        tuple(without["campaign"].cast(pl.String).unique().sort()),
        tuple(kept.filter(pl.col("spend") > 0)["format"].cast(pl.String).drop_nulls().unique().sort()),
        unpriced,
        _of_visits(facts, selection),
        _peers(facts, selection),
    )


def _margin(rows: pl.DataFrame) -> tuple[float | None, float]:
    """The margin before ads, weighed by sales, and the part of sales whose margin is not known."""
    sales, known = pl.col("sales"), pl.col("margin").is_not_null()
    whole, told, weighed = rows.select(
        all=sales.sum(), told=sales.filter(known).sum(), weighed=(sales * pl.col("margin")).sum()
    ).row(0)
    unpriced = 1 - told / whole if whole else 1.0
    return (weighed / told if told and unpriced <= solver.NO_MARGIN else None), unpriced


def _of_visits(facts: Facts, selection: Selection) -> float | None:
    """Orders of all kinds by visits of the products advertised in the part, on the days that tell both."""
    ads = selection.within(facts, product_frames.named_ads(facts, selection.account.id, selection.window))
    trade = product_frames.trade_days(facts, selection.account.id, selection.window)
    own = trade.join(ads.select("product_id").unique(), on="product_id", how="semi").filter(pl.col("sessions") > 0)
    return ratio(float(own["total_orders"].sum()), float(own["sessions"].sum()))


def _peers(facts: Facts, selection: Selection) -> Mapping[Figure, Quartiles]:
    """Of the scope's categories, weighed as the median peer of several is: see `core.peers.combined`."""
    on = standing.standing_data(facts, selection)
    own = on.days.drop_nulls("category").group_by("category").agg(pl.col(MEASURES).sum()).to_dicts()
    found = {}
    for figure in Figure:
        told = [
            (peers.quantiles, row[RATED[figure].denominator])
            for row in own
            if (peers := on.peers_of(row["category"], standing.ALL, figure)) and row[RATED[figure].denominator] > 0
        ]
        if told:
            entries, weights = zip(*told, strict=True)
            lower, middle, upper = np.interp((25, 50, 75), POINTS, np.average(entries, axis=0, weights=weights))
            found[figure] = Quartiles(float(lower), float(middle), float(upper))
    return found
