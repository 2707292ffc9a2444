"""Campaigns and ad groups as rows: what they did, what they are set to, what is in them, how old they are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.delivery import budgets
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, evidence_of, promise
from nimbus_reef.core import evidence, naming, targeting
from nimbus_reef.core.changes import Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MEASURES, MICRO, Placement, State
from nimbus_reef.core.projection import UNKNOWN, Projected, Range
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import Window, per_month
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import labels
from nimbus_reef.store.reading import delivery_frames, product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

CAMPAIGNS: Final = "campaigns"
AD_GROUPS: Final = "ad-groups"
AD_GROUP: Final = Subject("ad group")
PURPOSES: Final = ("launch", "defence", "test", "harvest")
"""Labels that say what a campaign is for."""


class GroupAction(StrEnum):
    """What is done by hand to campaigns or ad groups."""

    PAUSE = "pause"
    ENABLE = "enable"
    BUDGET_BY = "budget_by"
    BUDGET_TO = "budget_to"
    LIMIT_OFF_SITE = "limit_off_site"
    BIDS_BY = "bids_by"


OFFERED: Final[Mapping[str, tuple[GroupAction, ...]]] = {
    CAMPAIGNS: (
        GroupAction.BUDGET_BY,
        GroupAction.BUDGET_TO,
        GroupAction.PAUSE,
        GroupAction.ENABLE,
        GroupAction.LIMIT_OFF_SITE,
    ),
    AD_GROUPS: (GroupAction.BIDS_BY, GroupAction.PAUSE, GroupAction.ENABLE),
}
NEEDS_VALUE: Final = (GroupAction.BUDGET_BY, GroupAction.BUDGET_TO, GroupAction.BIDS_BY)


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
    own = labels.of_account(facts.store, selection.account.id).campaigns
    by_hand = {name: text for name, texts in own.items() for text in texts if text in PURPOSES}
    if not by_hand:
        return found
    set_by_hand = pl.col("campaign").cast(pl.String).replace_strict(by_hand, default=None, return_dtype=pl.String)
    return found.with_columns(purpose=pl.coalesce(set_by_hand, "purpose"))


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
    dry = budgets.campaign_rows(facts, selection).select(
        "campaign_id", dry_share=pl.when(pl.col("held_days") > 0).then(pl.col("dry_days") / pl.col("held_days"))
    )
    return (
        made.join(settings.select("campaign_id", *missing), on="campaign_id", how="left")
        .join(dry, on="campaign_id", how="left")
        .join(_top_share(facts, selection), on="campaign_id", how="left")
        .join(_contents(facts, selection, "campaign_id"), on="campaign_id", how="left")
        .join(_ages(facts, selection), on="campaign_id", how="left")
        .with_columns(
            _purpose(selection),
            row_id=pl.col("campaign_id").cast(pl.String),
            name=pl.col("campaign").cast(pl.String),
            budget=pl.col("daily_budget") / MICRO,
            **_filled(),
        )
        .sort(["spend", "name"], descending=[True, False])
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
    states = setting_frames.ad_group_states(facts, account.id, window).rename({"ad_group_state": "state"})
    return (
        selection.within(facts, judged)
        .join(states, on="ad_group_id", how="left")
        .join(_contents(facts, selection, "ad_group_id"), on="ad_group_id", how="left")
        .join(_ages(facts, selection), on="campaign_id", how="left")
        .with_columns(
            _purpose(selection),
            row_id=pl.col("ad_group_id").cast(pl.String),
            name=pl.col("ad_group").cast(pl.String),
            **_filled(),
        )
        .sort(["spend", "name"], descending=[True, False])
    )


def _filled() -> dict[str, pl.Expr]:
    """Counts of what has nothing, and a state where no report tells one."""
    return {
        "targets": pl.col("targets").fill_null(0),
        "products": pl.col("products").fill_null(0),
        "state": pl.col("state").cast(pl.String),
    }


def _purpose(selection: Selection) -> pl.Expr:
    """The part of the campaign's name that says what it is for, by the account's pattern."""
    pattern = naming.pattern(selection.account.naming) if selection.account.naming else None
    named = next((part for part in ("purpose", "goal") if pattern and part in pattern.parts), "")
    if pattern is None or not named:
        return pl.lit(None, pl.String).alias("purpose")

    def read(name: str) -> str | None:
        return (pattern.read(name) or {}).get(named)

    return pl.col("campaign").cast(pl.String).map_elements(read, return_dtype=pl.String).alias("purpose")


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


def _ages(facts: Facts, selection: Selection) -> pl.DataFrame:
    """campaign_id, age: days from the first loaded day with spend to the window's end."""
    account, last = selection.account, selection.window.last
    found = []
    for kind in budgets.SOURCES[:2]:
        first = min((span.days.first for span in facts.spans(account.id).get(kind, [])), default=None)
        if first is not None and first <= last:
            found.append(delivery_frames.campaign_spend_days(facts, account.id, Window(first, last), kind))
    if not found:
        return pl.DataFrame(schema={"campaign_id": pl.UInt32, "age": pl.Int64})
    days = pl.concat(each.select("campaign_id", "day", "spend") for each in found).filter(pl.col("spend") > 0)
    return days.group_by("campaign_id").agg(age=(pl.lit(last) - pl.col("day").min()).dt.total_days() + 1)


def proposals(
    facts: Facts, selection: Selection, view: str, chosen: pl.DataFrame, action: GroupAction, value: float | None
) -> list[Proposal]:
    """What an action by hand does to rows, in their order; nothing where it changes nothing. BadInput for its value."""
    if action not in OFFERED[view]:
        raise BadInput(f"“{action}” is not an action here.", remedy="Choose from the list.")
    if action in NEEDS_VALUE and value is None:
        raise BadInput("This action needs a number.", remedy="Enter a number such as -20 or 12.")
    days = max(
        1,
        facts.monthly_days(
            selection.account.id, facts.target_source(selection.account.id, selection.window).kind, selection.window
        ),
    )
    bids = _bids(facts, selection, chosen["ad_group_id"]) if action is GroupAction.BIDS_BY else {}
    return [_proposal(selection, view, row, action, value or 0.0, days, bids) for row in chosen.to_dicts()]


def _bids(facts: Facts, selection: Selection, groups: pl.Series) -> dict[int, list[dict[str, Any]]]:
    """The live targets of ad groups that have a bid: target, match_type, bid (units)."""
    account, window = selection.account, selection.window
    settings = setting_frames.target_settings(facts, account.id, window)
    found = (
        target_frames.targets(facts, account.id)
        .filter(pl.col("ad_group_id").is_in(groups.implode()))
        .join(settings, on="target_id")
        .filter(pl.col("bid").is_not_null(), pl.col("state").cast(pl.String) == State.ENABLED.value)
        .with_columns(pl.col("target", "match_type").cast(pl.String), bid=pl.col("bid") / MICRO)
        .sort("target_id")
    )
    by_group: dict[int, list[dict[str, Any]]] = {}
    for row in found.to_dicts():
        by_group.setdefault(row["ad_group_id"], []).append(row)
    return by_group


def _proposal(
    selection: Selection,
    view: str,
    row: Mapping[str, Any],
    action: GroupAction,
    value: float,
    days: int,
    bids: Mapping[int, Sequence[Mapping[str, Any]]],
) -> Proposal:
    campaign = str(row["campaign"])
    group = "" if view == CAMPAIGNS else str(row["ad_group"])
    subject = EntityKey(Subject.CAMPAIGN if view == CAMPAIGNS else AD_GROUP, campaign, group, name=group or campaign)
    headline, changes, effect = _done(selection, view, row, action, value, days, bids)
    result = promise(selection, row, view, row["row_id"], effect)
    none = promise(selection, row, view, row["row_id"], Projected(Range(0, 0, 0), Range(0, 0, 0)))
    package: list[tuple[Change, Promise]] = [
        (each, result if place == 0 else none) for place, each in enumerate(changes)
    ]
    return Proposal(
        subject,
        row["row_id"],
        headline,
        tuple(package),
        (Reason(ReasonKey.OWN_ACTION),),
        effect=effect,
        evidence=evidence_of(row),
        name=group or campaign,
    )


def _done(
    selection: Selection,
    view: str,
    row: Mapping[str, Any],
    action: GroupAction,
    value: float,
    days: int,
    bids: Mapping[int, Sequence[Mapping[str, Any]]],
) -> tuple[Headline, list[Change], Projected]:
    """What is done in a word, the changes, and what comes of them."""
    campaign, entity = str(row["campaign"]), Entity.CAMPAIGN if view == CAMPAIGNS else Entity.AD_GROUP
    of: dict[str, Any] = {} if view == CAMPAIGNS else {"ad_group": str(row["ad_group"])}
    nothing: tuple[Headline, list[Change], Projected] = (Headline(HeadlineKey.NOTHING), [], UNKNOWN)
    if action in (GroupAction.PAUSE, GroupAction.ENABLE):
        new = State.PAUSED if action is GroupAction.PAUSE else State.ENABLED
        old = row["state"] or ""
        if old == new.value:
            return nothing
        key = HeadlineKey.PAUSE if action is GroupAction.PAUSE else HeadlineKey.ENABLE
        spend, sales = (per_month(row[name], days) / MICRO for name in ("spend", "sales"))
        ends = Projected(Range(-spend, -spend, -spend), Range(-sales, -sales, -sales))
        changed = change(entity, "state", campaign, new.value, old, "", **of)
        return Headline(key), [changed], ends if action is GroupAction.PAUSE else UNKNOWN
    if action is GroupAction.LIMIT_OFF_SITE:
        if row.get("offsite_limited") == "yes":
            return nothing
        limited = change(Entity.CAMPAIGN, "offsite_limited", campaign, "yes", "no", "")
        return Headline(HeadlineKey.LIMIT_OFF_SITE), [limited], UNKNOWN
    if action is GroupAction.BIDS_BY:
        limits, changes = selection.account.bid_limits, []
        for target in bids.get(row["ad_group_id"], ()):
            bid = round(min(max(target["bid"] * (1 + value / 100), limits.floor), limits.ceiling), 2)
            if bid != round(target["bid"], 2):
                names: dict[str, Any] = {"target": target["target"], "match_type": target["match_type"], **of}
                changes.append(
                    change(Entity.TARGET, "bid", campaign, f"{bid:.2f}", f"{target['bid']:.2f}", "", **names)
                )
        return (Headline(HeadlineKey.BIDS_OF_ALL, (len(changes), value)), changes, UNKNOWN) if changes else nothing
    if row["budget"] is None:
        return nothing
    new_budget = round(max(0.01, row["budget"] * (1 + value / 100) if action is GroupAction.BUDGET_BY else value), 2)
    if new_budget == round(row["budget"], 2):
        return nothing
    moved = change(Entity.CAMPAIGN, "daily_budget", campaign, f"{new_budget:.2f}", f"{row['budget']:.2f}", "")
    return Headline(HeadlineKey.BUDGET, (row["budget"], new_budget)), [moved], UNKNOWN
