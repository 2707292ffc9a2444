"""
Families: whether a family's money goes to the children that sell, and what to shift through which product ads.

Formulas: "Families" in docs/calculations.md. Money in micro-units in frames, in units in values.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.core import evidence
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.projection import NOTHING, Basis, Projected, Range, part_of
from nimbus_reef.core.reasons import ReasonKey
from nimbus_reef.core.windows import month_factor

LEAST_SHARE: Final = 0.05
COSTLY_INDEX: Final = 0.60
KEPT_SHARE: Final = 0.03


def children(rows: pl.DataFrame, least_share: float = LEAST_SHARE, costly_index: float = COSTLY_INDEX) -> pl.DataFrame:
    """
    Children with their place in the family.

    rows: judged rows of SKUs (see `evidence.judge`) with family, sku and total_sales (micro-units; null where trade is
    not
    held: then ad sales stand for it). Adds sold (what shares are of), share_spend, share_sales, index (share of sales ÷
    share of spend), costly_child and excess (micro-units of the window: spend − share of sales × the family's spend).
    """
    whole_spend, sold = pl.col("spend").sum().over("family"), pl.coalesce("total_sales", "sales")
    shares = rows.with_columns(sold=sold).with_columns(
        children=pl.len().over("family"),
        share_spend=pl.when(whole_spend > 0).then(pl.col("spend") / whole_spend),
        share_sales=pl.when(pl.col("sold").sum().over("family") > 0).then(
            pl.col("sold") / pl.col("sold").sum().over("family")
        ),
    )
    index = pl.when(pl.col("share_spend") > 0).then(pl.col("share_sales") / pl.col("share_spend"))
    return shares.with_columns(index=index).with_columns(
        costly_child=(
            (pl.col("children") > 1)
            & (pl.col("share_spend") >= least_share)
            & (pl.col("index") < costly_index)
            & pl.col("own_test")
        ).fill_null(False),
        excess=pl.max_horizontal(
            pl.col("spend") - (pl.col("share_sales") * whole_spend).fill_null(pl.col("spend").cast(pl.Float64)), 0.0
        )
        .round()
        .cast(pl.Int64),
    )


@dataclass(frozen=True, slots=True)
class Ad:
    """A product ad: where it stands, what it spent and sold in the window (units), and whether it runs."""

    campaign: str
    ad_group: str
    sku: str
    clicks: int
    spend: float
    sales: float

    @property
    def home(self) -> tuple[str, str]:
        """Campaign and ad group."""
        return self.campaign, self.ad_group


@dataclass(frozen=True, slots=True)
class Child:
    """
    A child as a shift needs it, money in units; a, b: the posterior of its conversion, aov what an
    order is worth.
    """

    sku: str
    spend: float
    clicks: int
    costly: bool
    excess: float
    index: float | None
    verdict: Verdict
    a: float
    b: float
    aov: float

    @property
    def above_target(self) -> bool:
        """It costs more than its target, surely or likely."""
        return self.verdict in (Verdict.ABOVE, Verdict.LIKELY_ABOVE)

    @property
    def takes(self) -> bool:
        """Its evidence is fine and its share of sales is at least that of spend."""
        return self.verdict is Verdict.WITHIN and self.index is not None and self.index >= 1


@dataclass(frozen=True, slots=True)
class Shift:
    """
    pauses: product ads to pause; after: spend by SKU that results, in units of the window; moved: what changes hands;
    projected: the change of spend and sales in 30 days; kept: costly children of which something is left, and how much.
    why_not: the reason where nothing is proposed.
    """

    pauses: tuple[Ad, ...]
    after: dict[str, float]
    moved: float
    projected: Projected
    kept: dict[str, float]
    why_not: ReasonKey | None = None


def shift(family: Sequence[Child], ads: Sequence[Ad], days: int, kept_share: float = KEPT_SHARE) -> Shift:
    """
    Pauses of costly children's ads beside siblings that may take more.

    Of each costly child the ads with the largest spend are paused, in ad groups that hold a sibling whose evidence is
    fine and whose share of sales is at least its share of spend, and none that is itself above target, until its excess
    is moved; at least 3 % (`kept_share`) of the family's spend stay with it. What is paused goes to the siblings of the
    ad group by what they spend there, as a marketplace would deal it: a sibling above target would get its part too.
    """
    now = {child.sku: child.spend for child in family}
    whole = sum(now.values())
    good = {child.sku for child in family if child.takes}
    costly = [child for child in family if child.costly]
    if not costly:
        return Shift((), now, 0.0, NOTHING, {}, ReasonKey.NO_COSTLY_CHILD)
    if not good:
        return Shift((), now, 0.0, NOTHING, {}, ReasonKey.NO_PROVEN_SIBLING)
    after, pauses, changes = dict(now), list[Ad](), list[Projected]()
    bases = {child.sku: child for child in family}
    out: set[tuple[str, str, str]] = set()
    blocked = False
    for child in sorted(costly, key=lambda each: (-each.excess, each.sku)):
        left = child.excess
        for ad in sorted((each for each in ads if each.sku == child.sku), key=lambda each: (-each.spend, each.home)):
            beside = [
                each
                for each in ads
                if each.home == ad.home
                and each.sku != child.sku
                and (*each.home, each.sku) not in out
                and not bases.get(each.sku, child).costly
            ]
            able = {each.sku for each in beside} & good
            if ad.spend <= 0 or left <= 0 or not able:
                continue
            if any(each.sku in bases and bases[each.sku].above_target for each in beside):
                blocked = True
                continue
            if after[child.sku] - ad.spend < kept_share * whole:
                continue
            pauses.append(ad)
            out.add((*ad.home, ad.sku))
            after[child.sku] -= ad.spend
            left -= ad.spend
            changes.append(_moved(ad, beside, bases, after, days))
    moved = sum(ad.spend for ad in pauses)
    kept = {child.sku: after[child.sku] for child in costly}
    why_not = ReasonKey.SIBLING_ABOVE_TARGET if blocked else ReasonKey.NO_SIBLING_TAKES_MORE
    return Shift(tuple(pauses), after, moved, _sum(changes), kept, None if pauses else why_not)


def _moved(ad: Ad, beside: Sequence[Ad], bases: dict[str, Child], after: dict[str, float], days: int) -> Projected:
    """Deals what an ad spent to its siblings, and says what that does to sales: the clicks stay, who sells changes."""
    weights = {each.sku: max(each.spend, 0.0) for each in beside if each.sku in bases}
    if not any(weights.values()):
        weights = dict.fromkeys(weights, 1.0)
    whole = sum(weights.values())
    before = _sales(bases[ad.sku], ad.clicks, days)
    low = middle = high = 0.0
    for sku, weight in weights.items():
        part = weight / whole
        after[sku] = after.get(sku, 0.0) + ad.spend * part
        sold = _sales(bases[sku], ad.clicks * part, days)
        low, middle, high = low + sold.low, middle + sold.middle, high + sold.high
    return Projected(Range(0, 0, 0), Range(low - before.high, middle - before.middle, high - before.low))


def _sales(child: Child, clicks: float, days: int) -> Range:
    monthly = month_factor(days) * clicks * child.aov
    low, high = evidence.interval(child.a, child.b)
    return Range(monthly * low, monthly * child.a / (child.a + child.b), monthly * high)


def _sum(changes: Sequence[Projected]) -> Projected:
    """Changes of one family share its children's conversions, so their ranges are added as they stand."""
    if not changes:
        return NOTHING
    sums = [
        Range(sum(r.low for r in ranges), sum(r.middle for r in ranges), sum(r.high for r in ranges))
        for ranges in ([each.spend for each in changes], [each.sales for each in changes])
    ]
    return Projected(sums[0], sums[1])


def without_ad(basis: Basis, siblings: Sequence[Basis]) -> Projected:
    """
    Pausing a product ad: its clicks are lost, or go to its siblings in the ad group, or anything between.

    The range spans both ends; the middle is half of them. siblings: what they did and their posteriors.
    """
    monthly = month_factor(basis.days)
    spend, clicks = basis.spend * monthly, basis.clicks * monthly
    own = clicks * basis.aov * basis.a / (basis.a + basis.b)
    of_siblings = sum(each.clicks for each in siblings)
    worth = (
        sum(each.clicks * each.aov * each.a / (each.a + each.b) for each in siblings) / of_siblings
        if of_siblings
        else 0.0
    )
    lost, taken = -own, clicks * worth - own
    if not of_siblings:
        return Projected(Range(-spend, -spend, -spend), Range(lost, lost, lost))
    ends = sorted((lost, taken))
    return Projected(Range(-spend, -spend / 2, 0.0), Range(ends[0], (lost + taken) / 2, ends[1]))


def part(projected: Projected, pauses: int) -> Projected:
    """One pause's part of a shift."""
    return part_of(projected, 1 / pauses) if pauses else NOTHING
