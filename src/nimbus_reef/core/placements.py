"""
Placements: what each earns, and the base bid with adjustments at which all of them meet the target.

Formulas: "Placements" and "Evidence" in docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

from nimbus_reef.core import evidence, projection
from nimbus_reef.core.click_prices import ADJUSTABLE, PLACES
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import Placement
from nimbus_reef.core.projection import Projected, Range
from nimbus_reef.core.response import USUAL, ClickResponse
from nimbus_reef.core.targeting import Aims, judged
from nimbus_reef.core.windows import month_factor

ORDER: Final = PLACES
STRENGTH: Final = 50.0
RPC_WEIGHT: Final = 20.0
BASE_SHARE: Final = 0.10
MOST_ADJUSTMENT: Final = 9.0
STAYS_WITHIN: Final = 0.03


def judge(
    rows: pl.DataFrame, whose: str, days: int, aims: Aims, min_clicks: int, of: pl.DataFrame | None = None
) -> pl.DataFrame:
    """
    The verdict on placements, each among all placements of what `whose` names.

    The prior is Beta(m·50, (1-m)·50) with m = Σk/Σn of the cohort where Σn ≥ 300 and Σk ≥ 5, else of the account;
    without either the account is too small. An order is worth what it is in the same cohort. Off-site traffic is of
    another kind than a campaign's own and alike across campaigns: a row of it has the other off-site rows for cohort, m
    = (Σk + 50·m_account)/(Σn + 50) without its own clicks, where those are 300 or more.

    Parameters
    ----------
    rows : frame
        Measures (money in micro-units) and the column `whose`.
    whose : column name
    days : days
        Of the window.
    aims : Aims
    min_clicks : count
        Of the simple rule.
    of : frame, optional
        All placements of the account, where rows are only a part of it: a row keeps the cohort of the whole.

    Returns
    -------
    frame
        See `evidence.judge`.

    References
    ----------
    docs/calculations.md, “Placements”.
    """
    cohort = rows if of is None else of
    return judged(_off_site_apart(_in_cohort(rows, whose, cohort), cohort), days, aims, min_clicks)


def _off_site_apart(rows: pl.DataFrame, cohort: pl.DataFrame) -> pl.DataFrame:
    n, k = pl.col("clicks").cast(pl.Int64), pl.min_horizontal("orders", "clicks").cast(pl.Int64)
    off = pl.col("placement").cast(pl.String) == Placement.OFF_SITE.value
    off_n, off_k, all_n, all_k = cohort.select(
        n.filter(off).sum().alias("off_n"),
        k.filter(off).sum().alias("off_k"),
        n.sum().alias("all_n"),
        k.sum().alias("all_k"),
    ).row(0)
    others_n, others_k = pl.lit(off_n) - n, pl.lit(off_k) - k
    account = pl.lit(ratio(all_k, all_n), pl.Float64)
    mean = (others_k + STRENGTH * account) / (others_n + STRENGTH)
    apart = off & (others_n >= evidence.MIN_GROUP_CLICKS) & pl.col("cohort_cvr").is_not_null()
    return rows.with_columns(
        cohort_cvr=pl.when(apart).then(mean).otherwise("cohort_cvr"),
        prior_a=pl.when(apart).then(mean * STRENGTH).otherwise("prior_a"),
        prior_b=pl.when(apart).then((1 - mean) * STRENGTH).otherwise("prior_b"),
    )


def _in_cohort(rows: pl.DataFrame, whose: str, of: pl.DataFrame) -> pl.DataFrame:
    n, k = pl.col("clicks").cast(pl.Int64), pl.min_horizontal("orders", "clicks").cast(pl.Int64)
    # Orders without a click (k = 0) would inflate the order value.
    sold = pl.col("sales").filter(n > 0).sum()
    own = of.group_by(whose).agg(own_n=n.sum(), own_k=k.sum(), own_sales=sold)
    whole = of.select(all_n=n.sum(), all_k=k.sum(), all_sales=sold)
    frame = own.join(whole, how="cross").with_columns(
        by_own=(pl.col("own_n") >= evidence.MIN_GROUP_CLICKS) & (pl.col("own_k") >= evidence.MIN_GROUP_ORDERS),
        by_all=(pl.col("all_n") >= evidence.MIN_GROUP_CLICKS) & (pl.col("all_k") >= evidence.MIN_GROUP_ORDERS),
    )
    mean = (
        pl.when("by_own").then(pl.col("own_k") / pl.col("own_n")).when("by_all").then(pl.col("all_k") / pl.col("all_n"))
    )
    worth = (
        pl.when("by_own")
        .then(pl.col("own_sales") / pl.col("own_k"))
        .when("by_all")
        .then(pl.col("all_sales") / pl.col("all_k"))
    )
    cohort = frame.select(
        whose, cohort_cvr=mean, prior_a=mean * STRENGTH, prior_b=(1 - mean) * STRENGTH, group_aov=worth.cast(pl.Float64)
    )
    return rows.join(cohort, on=whose, how="left", maintain_order="left")


@dataclass(frozen=True, slots=True)
class PlacementSums:
    """
    What a campaign did in one placement, money in units; adjustment: the raise in force, as a fraction. a, b: the
    posterior of its conversion; aov: what an order is worth.
    """

    placement: Placement
    clicks: int
    spend: float
    sales: float
    adjustment: float = 0.0
    a: float = 1.0
    b: float = 1.0
    aov: float = 0.0

    @property
    def expected_sales(self) -> float:
        """What its clicks sell by its conversion, luck taken out."""
        return self.clicks * self.aov * self.a / (self.a + self.b)


@dataclass(frozen=True, slots=True)
class Solution:
    """
    base: what a click may cost where nothing is added, in units; ratio: by how much a bid that was right for all
    placements together is multiplied. adjustments: fractions by placement; worth: what a click may cost there.
    sets_base: the placement of the lowest worth among those with base_share of the clicks.
    """

    base: float
    ratio: float
    adjustments: Mapping[Placement, float]
    worth: Mapping[Placement, float]
    sets_base: Placement
    base_share: float


def solve(places: Sequence[PlacementSums], target_acos: float, base_share: float = BASE_SHARE) -> Solution | None:
    """
    The base bid and the adjustments that together meet the target in every placement.

    RPC_c = their sales ÷ clicks; RPC_p = (sales_p + 20·RPC_c)/(clicks_p + 20); v_p = RPC_p × target. Base = the least v
    of placements with ≥ 10 % (`base_share`) of their clicks; adjustment = clip(v_p/base - 1, 0, 9), whole per cent
    downwards. Bids are multiplied by M × base/(RPC_c × target), M = Σ clicks·(1 + adjustment in force) ÷ Σ clicks: they
    were paid with those on top. Sales of a placement without a click are not its clicks' and do not count.

    Parameters
    ----------
    places : PlacementSums
        Of one campaign, money in one unit.
    target_acos : fraction
    base_share : fraction

    Returns
    -------
    Solution or None
        None where the campaign sold nothing.

    References
    ----------
    docs/calculations.md, “Placements”.
    """
    own = [each for each in places if each.placement in ADJUSTABLE and each.clicks]
    clicks, sales = sum(each.clicks for each in own), sum(each.sales for each in own)
    if not clicks or sales <= 0:
        return None
    rpc = sales / clicks
    by_key = {each.placement: each for each in own}
    worth = {
        name: (
            target_acos
            * ((by_key[name].sales + RPC_WEIGHT * rpc) / (by_key[name].clicks + RPC_WEIGHT) if name in by_key else rpc)
        )
        for name in ADJUSTABLE
    }
    used = [each.placement for each in own if each.clicks >= base_share * clicks]
    lowest = min(used, key=lambda name: (worth[name], ADJUSTABLE.index(name)))
    base = worth[lowest]
    adjustments = {
        name: int(min(max(value / base - 1, 0.0), MOST_ADJUSTMENT) * 100 + 1e-9) / 100 for name, value in worth.items()
    }
    in_force = sum(each.clicks * (1 + each.adjustment) for each in own) / clicks
    return Solution(base, in_force * base / (rpc * target_acos), adjustments, worth, lowest, base_share)


def is_right(places: Sequence[PlacementSums], found: Solution) -> bool:
    """Whether every placement with clicks is already at its target price: no bid would move by more than 3 %."""
    return all(
        abs(found.ratio * (1 + found.adjustments[each.placement]) / (1 + each.adjustment) - 1) <= STAYS_WITHIN + 1e-9
        for each in places
        if each.placement in ADJUSTABLE and each.clicks
    )


def outcome(
    places: Sequence[PlacementSums],
    bid_ratio: float,
    adjustments: Mapping[Placement, float],
    days: int,
    response: ClickResponse = USUAL,
) -> tuple[Projected, float | None, tuple[float, float] | None]:
    """
    What new bids and adjustments are likely to do in 30 days, and the cost of sale that results.

    What is bid in a placement moves by x = ratio × (1 + new adjustment) ÷ (1 + the one in force), its clicks by x^e,
    their price by x^p; the range spans that of e.

    Parameters
    ----------
    places : PlacementSums
        Of one campaign, in the window.
    bid_ratio : number
        The new base bid ÷ the one in force.
    adjustments : placement → fraction
        The new ones.
    days : days
        Of the window.
    response : ClickResponse
        How clicks and prices answer bids.

    Returns
    -------
    effect : Projected
    acos : fraction or None
        The middle.
    ends : fractions or None
        Its range.
    """
    monthly = month_factor(days)
    spends, sales = [], []
    for power in response.powers:
        spent = sold = 0.0
        for each in places:
            r = bid_ratio * (1 + adjustments.get(each.placement, 0.0)) / (1 + each.adjustment)
            if each.placement is Placement.OFF_SITE:
                r = bid_ratio
            spent += each.spend * r ** (response.p + power)
            sold += each.expected_sales * r**power
        spends.append(spent * monthly)
        sales.append(sold * monthly)
    before = (sum(each.spend for each in places) * monthly, sum(each.expected_sales for each in places) * monthly)
    change = Projected(_span([value - before[0] for value in spends]), _span([value - before[1] for value in sales]))
    acos = [ratio(spent, sold) for spent, sold in zip(spends, sales, strict=True)]
    known = [each for each in acos if each is not None]
    return change, acos[1], (min(known), max(known)) if known else None


def _span(values: Sequence[float]) -> Range:
    return Range(min(values), values[1], max(values))


def remaining(places: Sequence[PlacementSums], clicks: float, spend: float, sales: float) -> list[PlacementSums]:
    """
    What placements are without targets that are paused, which no report tells by placement: alike in all of them.

    Parameters
    ----------
    places : PlacementSums
        Of one campaign.
    clicks, spend, sales : fractions
        The parts of the campaign's sums that its other targets made.
    """
    return [
        replace(
            each,
            clicks=round(each.clicks * clicks),
            spend=each.spend * spend,
            sales=each.sales * sales,
            aov=each.aov * sales / clicks if clicks else 0.0,
        )
        for each in places
    ]


def left_out(place: PlacementSums, days: int) -> Projected:
    """What keeping a campaign from a placement does in 30 days: see `projection.stopped`."""
    basis = projection.Basis(days, place.clicks, place.spend, place.sales, place.a, place.b, place.aov)
    return projection.stopped(basis)
