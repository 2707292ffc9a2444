"""Verdicts on what is judged on a whole: budgets, strategies and states of campaigns, families, ads, ad groups."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Final, NamedTuple

import polars as pl

from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome, bounded, early
from nimbus_reef.analysis.outcome.kinds import OutcomeKind
from nimbus_reef.analysis.outcome.measured import AccountMoves, Compared
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.change_periods import NoVerdict
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MICRO, Placement
from nimbus_reef.core.outcome import FIRST_DAYS, ClickWorth, OutcomeVerdict, SumPart, by_range
from nimbus_reef.core.profit_outcome import WholeFigures, of_whole, whole_decided_after
from nimbus_reef.core.promises import Promise, worth_of
from nimbus_reef.core.windows import Window, per_day
from nimbus_reef.store.people.sendings import CarriedOut
from nimbus_reef.store.reading import delivery_frames, product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

NEW_STRENGTH: Final = 25
"""Clicks of the account that what is known of a new campaign or ad counts for."""
_ACCOUNT_DAYS: Final = 28
_FAMILIES: Final = "families"


class WholeKey(NamedTuple):
    """What a change is judged on: level (campaign, ad group, family, ad, target, placement) and its names."""

    level: str
    names: tuple[str, ...]


def whole_of(done: CarriedOut) -> WholeKey:
    """The whole that a change is judged on."""
    change = done.change
    if done.promise.view == _FAMILIES:
        return WholeKey("family", (done.promise.row_id,))
    if change.entity is Entity.PRODUCT_AD and change.action is Action.CREATE:
        return WholeKey("ad", (change.campaign, change.ad_group, change.sku))
    if change.entity is Entity.TARGET:
        return WholeKey("target", (change.campaign, change.ad_group, change.target, change.match_type))
    if change.field == "offsite_limited":
        return WholeKey("placement", (change.campaign, Placement.OFF_SITE))
    if change.entity in (Entity.PRODUCT_AD, Entity.AD_GROUP):
        return WholeKey("ad group", (change.campaign, change.ad_group))
    return WholeKey("campaign", (change.campaign,))


def promised_profit_of(promise: Promise) -> float:
    """Profit a day of the middle of what was projected for 30 days; 0 where nothing was."""
    if not promise.projected:
        return 0.0
    margin = worth_of(promise).margin
    return per_day(promise.projected["sales"][1] * margin - promise.projected["spend"][1])


@dataclass
class Wholes:
    """Judges them. compared, until: as all changes of the account are compared, and looked at again."""

    facts: Facts
    selection: Selection
    where: AccountMoves
    compared: Callable[[Window, Window], Compared]
    until: Callable[[ChangeOutcome, int | None], date | None]

    # --- figures -------------------------------------------------------------------------

    def figures(self, whole: WholeKey, window: Window) -> WholeFigures:
        """What a whole did in a window."""
        account = self.selection.account.id
        if whole.level in ("family", "ad"):
            ads = product_frames.named_ads(self.facts, account, window).with_columns(
                pl.col("sku", "family", "campaign").cast(pl.String)
            )
            ids = ads.filter(self._ads(whole))["product_ad_id"]
            rows = self.facts.sums(account, "product_ad_daily", window)
            return figures_in(rows.filter(pl.col("product_ad_id").is_in(ids.implode())), window)
        if whole.level == "placement":
            rows = delivery_frames.placement_sums(self.facts, account, window)
            here = pl.col("placement").cast(pl.String) == whole.names[1]
            return figures_in(
                rows.filter(here, pl.col("campaign_id") == self.where.campaigns.get(whole.names[0])), window
            )
        rows = target_frames.target_sums(self.facts, account, window)
        return figures_in(rows.filter(pl.col("target_id").is_in(self.where.within(whole.names))), window)

    def _ads(self, whole: WholeKey) -> pl.Expr:
        if whole.level == "family":
            return pl.col("family") == whole.names[0]
        campaign, group, sku = whole.names
        groups = product_frames.ad_groups(self.facts, self.selection.account.id).filter(
            pl.col("campaign").cast(pl.String) == campaign, pl.col("ad_group").cast(pl.String) == group
        )
        placed = product_frames.ads_of_groups(self.facts, self.selection.account.id, groups["ad_group_id"])
        return (pl.col("sku") == sku) & pl.col("product_ad_id").is_in(placed.implode())

    def usual_worth(self, promise: Promise, day: date) -> ClickWorth:
        """What a click of the account brought in the four weeks before a day: what is known of something new."""
        window = Window(day - timedelta(days=_ACCOUNT_DAYS), day - timedelta(days=1))
        rows = target_frames.target_sums(self.facts, self.selection.account.id, window)
        known = figures_in(rows, window)
        conversion = min(ratio(known.orders, known.clicks) or 0.0, 1.0)
        a = NEW_STRENGTH * conversion
        order_value = ratio(known.sales, known.orders) or 0.0
        return ClickWorth(a + 0.5, NEW_STRENGTH - a + 0.5, order_value, worth_of(promise).margin)

    # --- verdicts ------------------------------------------------------------------------

    def judged(self, entries: Sequence[ChangeOutcome]) -> list[ChangeOutcome]:
        """
        All changes, those of wholes with their verdict: of several of a day on one whole the first bears it. What
        other changes of that day inside the whole brought is theirs.
        """
        parts: dict[tuple[WholeKey, date], list[ChangeOutcome]] = {}
        days: dict[WholeKey, set[date]] = {}
        own = [each for each in entries if each.kind.of_whole and each.unjudged is None and each.day is not None]
        widest = {(whole_of(each.done), each.day) for each in own}
        for each in own:
            if each.day is not None:
                key = whole_of(each.done)
                # An ad group of a campaign that was changed the same day tells the same money.
                campaign = WholeKey("campaign", key.names[:1])
                if key.level in ("ad group", "target") and (campaign, each.day) in widest:
                    key = campaign
                parts.setdefault((key, each.day), []).append(each)
                days.setdefault(key, set()).add(each.day)
        found: dict[int, ChangeOutcome] = {}
        for (key, day), those in parts.items():
            lead, *others = sorted(those, key=lambda each: (whole_of(each.done) != key, each.change.row))
            found[lead.done.id] = self._whole(lead, key, those, days[key], _inside(key, day, entries))
            for each in others:
                found[each.done.id] = replace(each, unjudged=NoVerdict.WITH_ANOTHER, with_row=lead.change.row)
        return [found.get(each.done.id, each) for each in entries]

    def _whole(
        self,
        bare: ChangeOutcome,
        key: WholeKey,
        own: Sequence[ChangeOutcome],
        days: Iterable[date],
        inside: Sequence[ChangeOutcome],
    ) -> ChangeOutcome:
        bare = bounded(bare, days, self.where.first, self.where.mature)
        before, after = bare.before, bare.after
        if before is None:
            return bare
        if after is None or after.days < FIRST_DAYS:
            return replace(early(bare, NoVerdict.FEW_DAYS), until=self.until(bare, FIRST_DAYS))
        then, now = self.figures(key, before), self.figures(key, after)
        if not then.clicks and not now.clicks:
            return early(bare, NoVerdict.NO_CLICKS)
        promise = bare.done.promise
        margin = worth_of(promise).margin
        control = self.compared(before, after).control(
            self.where.campaigns.get(bare.change.campaign, 0), "", whole_campaign=True
        )
        result = of_whole(then, now, margin, control)
        for each in inside:
            result = result.less(*_profit_of(each))
        promised = sum(promised_profit_of(each.done.promise) for each in own)
        low, high = result.range
        verdict = by_range(result.range, promised)
        until = None
        if verdict is OutcomeVerdict.TOO_EARLY:
            until = self.until(bare, whole_decided_after(then, now, margin, control, promised))
        return replace(
            bare,
            whole=result,
            wholes=(then, now),
            control=control,
            margin_known=promise.margin is not None,
            promised=promised,
            result=result.profit,
            low=low,
            high=high,
            verdict=verdict,
            until=until,
            unjudged=NoVerdict.PROMISED_NOTHING if verdict is OutcomeVerdict.NONE else None,
            part=SumPart(promised, result.profit, result.spread) if promised > 0 else None,
        )


def figures_in(rows: pl.DataFrame, window: Window) -> WholeFigures:
    """The sums of rows as the figures of a whole."""
    measures = pl.col("clicks", "spend", "orders", "sales").cast(pl.Int64).sum()
    clicks, spend, orders, sales = rows.select(measures).row(0)
    return WholeFigures(window.days, float(clicks), spend / MICRO, float(orders), sales / MICRO)


def _inside(key: WholeKey, day: date, entries: Sequence[ChangeOutcome]) -> list[ChangeOutcome]:
    """Changes of the same day that are judged by themselves and whose money lies inside a whole."""
    return [
        each
        for each in entries
        if each.day == day and not each.kind.of_whole and each.result is not None and _lies_in(each.change, key)
    ]


def _lies_in(change: Change, key: WholeKey) -> bool:
    if key.level == "campaign":
        return (change.campaign,) == key.names
    return key.level == "ad group" and (change.campaign, change.ad_group) == key.names


def _profit_of(each: ChangeOutcome) -> tuple[float, float]:
    """Profit a day that a change brought, and its standard deviation: of what was stopped, its spend less its sales."""
    assert each.result is not None
    if each.part is None:
        return (0.0, 0.0) if each.kind is OutcomeKind.ADJUSTMENTS and each.change.package else (each.result, 0.0)
    if each.stopped is None or each.worth is None:
        return each.result, each.part.spread
    away = each.stopped.clicks * each.stopped.share
    return each.result - away * each.worth.value, each.part.spread
