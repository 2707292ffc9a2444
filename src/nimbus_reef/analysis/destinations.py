"""Destinations of a promoted search term: ad groups that advertise the product it sold, or a new ad group."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.model import MatchType, State, Targeting
from nimbus_reef.core.recommendations import AdProduct, sold_by
from nimbus_reef.store.reading import product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class Destination:
    """
    An ad group for a new target. sku: the product that sold the term, empty where none is known; new: the ad group is
    made for it.
    """

    campaign: str
    ad_group: str
    sku: str = ""
    new: bool = False

    @property
    def key(self) -> str:
        """Tells it from the others that are offered."""
        return "\x1f".join((self.campaign, self.ad_group, "new" if self.new else ""))


@dataclass(frozen=True, slots=True)
class Places:
    """
    What destinations are found from. of_sku: ad groups that take keywords and advertise a product, by SKU: campaign, ad
    group, whether that is its main product, and how many exact keywords it holds, the best first; takes: names of ad
    groups that take keywords.
    """

    of_sku: Mapping[str, Sequence[tuple[str, str, bool, int]]]
    takes: frozenset[tuple[str, str]]

    def for_term(self, term: str, source: tuple[str, str], products: Sequence[AdProduct]) -> tuple[Destination, ...]:
        """
        The ad groups that a term bought in `source` may go to, the best first: those whose main product sold it, then a
        new one in a campaign that advertises it, then others that advertise it too. Where no product is known, its own.
        """
        sold = sold_by(term, products)
        if sold is None:
            return (Destination(*source),) if source in self.takes else ()
        known = self.of_sku.get(sold.sku, ())
        own = [Destination(campaign, group, sold.sku) for campaign, group, main, _ in known if main]
        others = [Destination(campaign, group, sold.sku) for campaign, group, main, _ in known if not main]
        # Beside the product's own ad groups first; the campaign it was bought in last, as it may hold others' too.
        campaigns = dict.fromkeys((*(each.campaign for each in own), *(each.campaign for each in others)))
        new = [Destination(campaign, term[:_LONGEST], sold.sku, new=True) for campaign in list(campaigns)[:1]]
        return tuple(dict.fromkeys((*own, *new, *others)))

    def for_phrase(self, sku: str) -> Destination | None:
        """
        The ad group that a phrase of a product may go to: of those with exact keywords the one whose main product it is
        and that has most of them; else any that takes keywords; None where no ad group advertises the product.
        """
        known = self.of_sku.get(sku, ())
        best = max(known, key=lambda each: (each[3] > 0, each[2], each[3]), default=None)
        return None if best is None else Destination(best[0], best[1], sku)


_LONGEST = 200
"""An ad group that is made for a term is called by it."""


def places(facts: Facts, selection: Selection) -> Places:
    """What destinations are found from, of the whole account. Kept."""
    return facts.kept("destinations", selection.account.id, lambda: _places(facts, selection), selection.window)


def match_types(facts: Facts, selection: Selection) -> dict[str, str]:
    """By campaign the match type of its live keywords, where they have but one."""
    live = target_frames.live(facts, selection.account.id, selection.window)
    keywords = live.select(pl.col("campaign", "match_type").cast(pl.String)).filter(
        pl.col("match_type").is_in([MatchType.EXACT.value, MatchType.PHRASE.value, MatchType.BROAD.value])
    )
    one = keywords.group_by("campaign").agg(pl.col("match_type").unique()).filter(pl.col("match_type").list.len() == 1)
    return {campaign: found[0] for campaign, found in one.rows()}


def _places(facts: Facts, selection: Selection) -> Places:
    account, window = selection.account, selection.window
    targets = target_frames.targets(facts, account.id)
    auto = targets.group_by("ad_group_id").agg(
        auto=(pl.col("match_type").cast(pl.String) == MatchType.AUTO.value).any(),
        exact=(pl.col("match_type").cast(pl.String) == MatchType.EXACT.value).sum(),
    )
    campaigns = setting_frames.campaign_settings(facts, account.id, window).select(
        "campaign_id", "targeting", pl.col("state").alias("campaign_state")
    )
    runs = pl.all_horizontal(
        pl.col("ad_group_state", "campaign_state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value
    )
    takes = (
        product_frames.ad_groups(facts, account.id)
        .join(auto, on="ad_group_id", how="left")
        .join(campaigns, on="campaign_id", how="left")
        .join(setting_frames.ad_group_states(facts, account.id, window), on="ad_group_id", how="left")
        .filter(
            runs,
            ~pl.col("auto").fill_null(False),
            pl.col("targeting").cast(pl.String).fill_null(Targeting.MANUAL.value) == Targeting.MANUAL.value,
        )
    )
    main = target_frames.advertised_products(facts, account.id, window)
    rows = (
        product_frames.enabled_ads(facts, account.id, window)
        .select("ad_group_id", pl.col("sku").cast(pl.String))
        .unique()
        .join(takes, on="ad_group_id")
        .join(main, on="ad_group_id", how="left")
        .with_columns(main=(pl.col("main_product") == pl.col("sku")).fill_null(False))
        .sort(["sku", "main", "exact", "ad_group_id"], descending=[False, True, True, False])
    )
    of_sku: dict[str, list[tuple[str, str, bool, int]]] = {}
    for sku, *home in rows.select("sku", "campaign", "ad_group", "main", pl.col("exact").fill_null(0)).rows():
        of_sku.setdefault(sku, []).append((home[0], home[1], home[2], home[3]))
    return Places(of_sku, frozenset(takes.select("campaign", "ad_group").rows()))
