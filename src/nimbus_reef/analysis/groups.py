"""Campaigns and ad groups as rows: what they did, what they are set to, what is in them, how old they are."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import bid_advice, judged_proposals, out_of_budget, own_actions, purposes
from nimbus_reef.analysis.delivery import budgets
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, evidence_of, promise
from nimbus_reef.core import evidence, targeting
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MEASURES, MICRO, Bidding, Placement, State
from nimbus_reef.core.projection import UNKNOWN, Projected, Range
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.tiers import RowAction, Value
from nimbus_reef.core.windows import per_month
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import delivery_frames, product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

CAMPAIGNS: Final = "campaigns"
AD_GROUPS: Final = "ad-groups"
AD_GROUP: Final = Subject("ad group")
OFFERED: Final[Mapping[str, tuple[RowAction, ...]]] = {
    CAMPAIGNS: (
        RowAction.BIDS_AS_PROPOSED,
        RowAction.ALL_BIDS_AS_PROPOSED,
        RowAction.BUDGET_BY,
        RowAction.BUDGET_TO,
        RowAction.PAUSE,
        RowAction.ENABLE,
        RowAction.LIMIT_OFF_SITE,
        RowAction.BIDDING_FIXED,
        RowAction.BIDDING_DOWN,
        RowAction.BIDDING_UP_AND_DOWN,
        RowAction.PORTFOLIO,
    ),
    AD_GROUPS: (
        RowAction.BIDS_AS_PROPOSED,
        RowAction.ALL_BIDS_AS_PROPOSED,
        RowAction.BIDS_BY,
        RowAction.BIDS_TO,
        RowAction.DEFAULT_BID_BY,
        RowAction.DEFAULT_BID_TO,
        RowAction.PAUSE,
        RowAction.ENABLE,
    ),
}
"""What is done by hand to campaigns and ad groups."""
OF_ALL_TARGETS: Final = {RowAction.BIDS_BY: RowAction.BID_BY, RowAction.BIDS_TO: RowAction.BID_TO}
"""What is done to ad groups by doing something to each of their targets."""
AS_PROPOSED: Final = (RowAction.BIDS_AS_PROPOSED, RowAction.ALL_BIDS_AS_PROPOSED)
"""What is done to campaigns and ad groups by doing to their targets what is proposed on them."""
_BIDDING: Final = {
    RowAction.BIDDING_FIXED: Bidding.FIXED,
    RowAction.BIDDING_DOWN: Bidding.DOWN_ONLY,
    RowAction.BIDDING_UP_AND_DOWN: Bidding.UP_AND_DOWN,
}


def rows(facts: Facts, selection: Selection, view: str) -> pl.DataFrame:
    """
    The rows of a view, judged among each other: row_id, campaign (and ad_group), state, format, portfolio, purpose
    (by a label that is one, else by the naming pattern; null where neither says), age (days since the first day with
    spend that is loaded), targets and products (live ones), match_types, what `targeting.judged` adds; of campaigns
    also bidding, budget (units a day), offsite_limited, dry_share (part of the days out of budget; null without hours),
    top_share (part of the impressions at top of search; null without placements). Kept.
    """
    make = _campaigns if view == CAMPAIGNS else _ad_groups
    found = facts.kept(
        f"rows of {view}", selection.account.id, lambda: make(facts, selection), *selection.judging, selection.part
    )
    hand = purposes.by_hand(facts, selection.account)
    if not hand:
        return found
    set_by_hand = pl.col("campaign").cast(pl.String).replace_strict(hand, default=None, return_dtype=pl.String)
    return found.with_columns(purpose=pl.coalesce(set_by_hand, "purpose"))


def with_bids(facts: Facts, selection: Selection, view: str, rows: pl.DataFrame) -> pl.DataFrame:
    """Rows with moves (bids and pauses proposed in them) and gain (units in 30 days that those are to bring)."""
    level = "campaign_id" if view == CAMPAIGNS else "ad_group_id"
    moving = bid_advice.moving(facts, selection, every=True).group_by(level)
    sums = moving.agg(moves=pl.len().cast(pl.Int64), gain=pl.col("gain").sum().round(2))
    return rows.join(sums, on=level, how="left", maintain_order="left").with_columns(
        pl.col("moves").fill_null(0), pl.col("gain").fill_null(0.0)
    )


def row_of(facts: Facts, selection: Selection, view: str, row_id: str) -> dict[str, Any]:
    """One of them; NotFound where it has no activity in the window."""
    found = rows(facts, selection, view).filter(pl.col("row_id") == row_id)
    if found.is_empty():
        raise NotFound("This row has no activity in this period.", remedy="Choose another period, or close it.")
    return found.row(0, named=True)


def _campaigns(facts: Facts, selection: Selection) -> pl.DataFrame:
    account, window = selection.account, selection.window
    source = budgets.source_of(facts, selection)
    kind = source or facts.target_source(account.id, window).kind
    made = budgets.judged_campaigns(facts, selection, kind, every=True)
    settings = setting_frames.campaign_settings(facts, account.id, window)
    missing = [name for name in ("bidding", "daily_budget", "offsite_limited", "state") if name not in made.columns]
    dry = budgets.days_out_of_budget(facts, selection).select("campaign_id", "dry_days")
    hours_held = facts.monthly_days(account.id, out_of_budget.KIND, window)
    funded = (pl.col("state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value) & (
        pl.col("daily_budget").is_not_null() & pl.lit(hours_held > 0)
    )
    return (
        made.join(settings.select("campaign_id", *missing), on="campaign_id", how="left")
        .join(dry, on="campaign_id", how="left")
        .join(_top_share(facts, selection), on="campaign_id", how="left")
        .with_columns(
            budget=pl.col("daily_budget") / MICRO,
            dry_share=pl.when(funded).then(pl.col("dry_days").fill_null(0) / max(1, hours_held)),
        )
        .pipe(_described, facts, selection, "campaign")
    )


def _ad_groups(facts: Facts, selection: Selection) -> pl.DataFrame:
    account, window = selection.account, selection.window
    homes = product_frames.ad_groups(facts, account.id)
    source = facts.target_source(account.id, window).kind
    sums = (
        target_frames.target_sums(facts, account.id, window, source)
        .join(target_frames.targets(facts, account.id).select("target_id", "ad_group_id"), on="target_id")
        .group_by("ad_group_id")
        .agg(pl.col(MEASURES).sum())
    )
    # Those that did nothing are rows too: what lies idle is looked for here.
    named = (
        homes.join(sums, on="ad_group_id", how="left")
        .with_columns(pl.col(MEASURES).fill_null(0))
        .join(setting_frames.placed(facts, account.id, window), on="campaign_id", how="left")
    )
    days = facts.monthly_days(account.id, source, window)
    judged = targeting.judged(evidence.with_priors(named, ()), days, selection.aims, account.min_clicks)
    settings = setting_frames.ad_group_settings(facts, account.id, window).rename({"ad_group_state": "state"})
    return (
        selection.within(facts, purposes.held_back(facts, selection, judged))
        .join(settings, on="ad_group_id", how="left")
        .with_columns(default_bid=pl.col("default_bid") / MICRO)
        .pipe(_described, facts, selection, "ad_group")
    )


def _described(rows: pl.DataFrame, facts: Facts, selection: Selection, level: str) -> pl.DataFrame:
    """Campaigns or ad groups with row_id, name, purpose, age and what is in them, the largest spend first."""
    return (
        rows.join(_contents(facts, selection, f"{level}_id"), on=f"{level}_id", how="left")
        .join(purposes.ages(facts, selection), on="campaign_id", how="left")
        .with_columns(
            purposes.purpose(selection.account),
            pl.col("targets", "products").fill_null(0),
            pl.col("state").cast(pl.String),
            row_id=pl.col(f"{level}_id").cast(pl.String),
            name=pl.col(level).cast(pl.String),
        )
        .sort(["spend", "name"], descending=[True, False])
    )


def _top_share(facts: Facts, selection: Selection) -> pl.DataFrame:
    sums = delivery_frames.placement_sums(facts, selection.account.id, selection.window)
    at_top = pl.col("impressions").filter(pl.col("placement") == Placement.TOP_OF_SEARCH.value).sum()
    every = pl.col("impressions").sum()
    return sums.group_by("campaign_id").agg(top_share=pl.when(every > 0).then(at_top / every))


def _contents(facts: Facts, selection: Selection, level: str) -> pl.DataFrame:
    """level, live targets, their match types, products with a live ad."""
    account, window = selection.account, selection.window
    states = setting_frames.target_settings(facts, account.id, window).select("target_id", "state")
    live = (
        target_frames.targets(facts, account.id)
        .join(states, on="target_id", how="left")
        .filter(pl.col("state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value)
        .filter(~pl.col("match_type").cast(pl.String).str.starts_with("negative"))
        .group_by(level)
        .agg(
            targets=pl.len().cast(pl.Int64),
            match_types=pl.col("match_type").cast(pl.String).unique().sort().str.join(", "),
        )
    )
    homes = product_frames.ad_groups(facts, account.id).select("ad_group_id", "campaign_id")
    ads = product_frames.enabled_ads(facts, account.id, window).join(homes, on="ad_group_id", how="left")
    products = ads.group_by(level).agg(products=pl.col("product_id").n_unique().cast(pl.Int64))
    return live.join(products, on=level, how="full", coalesce=True)


def proposals(
    facts: Facts,
    selection: Selection,
    view: str,
    chosen: pl.DataFrame,
    action: RowAction,
    value: Value,
    *,
    raises: bool,
) -> list[Proposal]:
    """
    What an action by hand does to rows, in their order; nothing where it changes nothing. The bids of all targets are
    changed target by target, each on its own figures; raises: also of those that never made an order.
    """
    if action in AS_PROPOSED:
        moving = bid_advice.moving(facts, selection, every=action is RowAction.ALL_BIDS_AS_PROPOSED)
        level = "campaign_id" if view == CAMPAIGNS else "ad_group_id"
        inside = moving.filter(pl.col(level).is_in(chosen[level].implode()))
        return judged_proposals.propose(facts, selection.whole, Subject.TARGET, inside)
    if action in OF_ALL_TARGETS:
        rows = judged_targets(facts, selection.whole).filter(
            pl.col("ad_group_id").is_in(chosen["ad_group_id"].implode()),
            pl.col("bid").is_not_null(),
            pl.col("state").cast(pl.String) == State.ENABLED.value,
        )
        return own_actions.proposals(
            facts, selection, Subject.TARGET, rows, OF_ALL_TARGETS[action], float(value or 0), raises=raises
        )
    account, window = selection.account, selection.window
    days = max(1, facts.monthly_days(account.id, facts.target_source(account.id, window).kind, window))
    return [_proposal(selection, view, row, action, value, days) for row in chosen.to_dicts()]


def _proposal(
    selection: Selection, view: str, row: Mapping[str, Any], action: RowAction, value: Value, days: int
) -> Proposal:
    campaign = str(row["campaign"])
    group = "" if view == CAMPAIGNS else str(row["ad_group"])
    subject = EntityKey(Subject.CAMPAIGN if view == CAMPAIGNS else AD_GROUP, campaign, group, name=group or campaign)
    headline, field, old, new = _meant(row, action, value)
    if new is None or new == old:
        return Proposal(subject, row["row_id"], Headline(HeadlineKey.NOTHING), evidence=evidence_of(row))
    effect = _without(row, days) if action is RowAction.PAUSE else UNKNOWN
    changed = change(Entity.AD_GROUP if group else Entity.CAMPAIGN, field, campaign, new, old, "", ad_group=group)
    return Proposal(
        subject,
        row["row_id"],
        headline,
        ((changed, promise(selection, row, view, row["row_id"], effect)),),
        (Reason(ReasonKey.OWN_ACTION),),
        effect=effect,
        evidence=evidence_of(row),
        name=group or campaign,
    )


def _without(row: Mapping[str, Any], days: int) -> Projected:
    """What it does where it is paused: its spend and its sales stay away."""
    spend, sales = (per_month(row[name], days) / MICRO for name in ("spend", "sales"))
    return Projected(Range(-spend, -spend, -spend), Range(-sales, -sales, -sales))


def _meant(row: Mapping[str, Any], action: RowAction, value: Value) -> tuple[Headline, str, str, str | None]:
    """An action on a row: in a word, the field, what it holds and what it is to hold; None where that is not known."""
    if action in (RowAction.PAUSE, RowAction.ENABLE):
        stops = action is RowAction.PAUSE
        new = State.PAUSED if stops else State.ENABLED
        return Headline(HeadlineKey.PAUSE if stops else HeadlineKey.ENABLE), "state", row["state"] or "", new.value
    if action is RowAction.LIMIT_OFF_SITE:
        return Headline(HeadlineKey.LIMIT_OFF_SITE), "offsite_limited", str(row["offsite_limited"] or "no"), "yes"
    if action in _BIDDING:
        held, wanted = str(row["bidding"] or ""), _BIDDING[action].value
        return Headline(HeadlineKey.SET, ("bidding", held, wanted)), "bidding", held, wanted
    if action is RowAction.PORTFOLIO:
        held, wanted = str(row["portfolio"] or ""), str(value)
        return Headline(HeadlineKey.SET, ("portfolio", held, wanted)), "portfolio", held, wanted
    budget = action in (RowAction.BUDGET_BY, RowAction.BUDGET_TO)
    field, old = ("daily_budget", row["budget"]) if budget else ("default_bid", row["default_bid"])
    if old is None:
        return Headline(HeadlineKey.NOTHING), field, "", None
    sets = action in (RowAction.BUDGET_TO, RowAction.DEFAULT_BID_TO)
    amount = round(max(0.01, float(value or 0) if sets else old * (1 + float(value or 0))), 2)
    key = HeadlineKey.BUDGET if budget else HeadlineKey.BID
    return Headline(key, (old, amount)), field, f"{old:.2f}", f"{amount:.2f}"
