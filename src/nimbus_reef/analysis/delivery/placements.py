"""
Placements of an account: evidence by account, campaign, portfolio or product; limits for off-site; solutions by
campaign.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement, purposes
from nimbus_reef.analysis.judged import AT_ONCE
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, evidence_of, promise
from nimbus_reef.core import placements as rules
from nimbus_reef.core.changes import MOST_PERCENT, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.delivery import OFF_SITE
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MEASURES, Placement, Verdict, from_micro
from nimbus_reef.core.placements import ORDER, PlacementSums
from nimbus_reef.core.projection import UNKNOWN
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.tiers import RowAction, Value
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import delivery_frames, product_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

KIND: Final = "placement_daily"
GROUPS: Final = ("account", "campaign", "portfolio", "product")
"""Ways of grouping; besides, by the parts of the account's names."""
_LIMITABLE: Final = "no"


def judged(facts: Facts, selection: Selection, by: str = "campaign") -> pl.DataFrame:
    """
    Placements of every group, judged: whose (what the group is called), placement, row_id, the measures and what
    `evidence.judge` adds, share_spend and share_sales within the group; largest spend first, placements in their order.

    By campaign its settings besides; judged among the whole account and narrowed after.
    """
    account = selection.account

    def make() -> pl.DataFrame:
        rows = delivery_frames.placement_sums(facts, account.id, selection.window)
        days = facts.monthly_days(account.id, KIND, selection.window)
        if by == "campaign":
            named = rows.with_columns(whose="campaign")
            judged_rows = rules.judge(named, "whose", days, selection.aims, account.min_clicks)
            return _shaped(purposes.held_back(facts, selection, judged_rows), "campaign_id")
        sums = _grouped(facts, selection, selection.within(facts, rows), by)
        of = _grouped(facts, selection, rows, by) if selection.part else None
        return _shaped(rules.judge(sums, "whose", days, selection.aims, account.min_clicks, of), "whose")

    if by == "campaign":
        return selection.within(facts, facts.kept("placements", account.id, make, *_by_campaign(selection)))
    return facts.kept(
        "placements", account.id, make, *selection.judging, by, selection.part, *movement.parts_key(facts, account, by)
    )


def _by_campaign(selection: Selection) -> tuple[Hashable, ...]:
    return *selection.judging, "campaign"


def judged_soon(facts: Facts, selection: Selection) -> bool:
    """Whether the campaigns' placements are judged already, or are so few that they are at once."""
    account = selection.account
    if facts.known("placements", account.id, *_by_campaign(selection)) is not None:
        return True
    return len(delivery_frames.placement_sums(facts, account.id, selection.window)) < AT_ONCE


def _grouped(facts: Facts, selection: Selection, rows: pl.DataFrame, by: str) -> pl.DataFrame:
    """Sums by what rows are grouped by; of a product those of campaigns whose main product it is."""
    if by == "account":
        named = rows.with_columns(whose=pl.lit(selection.account.brand))
    elif movement.is_told(by):
        named = rows.with_columns(movement.part_column(facts, selection.account, rows, by).alias("whose"))
    elif by == "portfolio":
        named = rows.with_columns(whose=pl.col("portfolio").cast(pl.String).fill_null("none given"))
    else:
        main = main_products(facts, selection.account.id, selection.window)
        named = rows.join(main, on="campaign_id", how="left").with_columns(
            whose=pl.col("main_product").fill_null("no product known")
        )
    return named.group_by("whose", "placement").agg(pl.col(MEASURES).sum()).sort("whose", "placement")


def main_products(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """campaign_id, main_product: the SKU on which each campaign spent most, of equals the first by name."""
    ads = product_frames.ad_rows(facts, account_id, window).group_by("campaign_id", "sku").agg(pl.col("spend").sum())
    first = ads.sort(["spend", "sku"], descending=[True, False]).group_by("campaign_id", maintain_order=True).first()
    return first.select("campaign_id", main_product=pl.col("sku").cast(pl.String))


def _shaped(rows: pl.DataFrame, key: str) -> pl.DataFrame:
    spent, sold = pl.col("spend").sum().over("whose"), pl.col("sales").sum().over("whose")
    places = {place.value: number for number, place in enumerate(ORDER)}
    return (
        rows.with_columns(
            pl.col("placement").cast(pl.String),
            row_id=pl.concat_str(pl.col(key).cast(pl.String), pl.col("placement").cast(pl.String), separator=":"),
            whose_spend=spent,
            place=pl.col("placement").cast(pl.String).replace_strict(places, default=len(places)),
            share_spend=pl.when(spent > 0).then(pl.col("spend") / spent),
            share_sales=pl.when(sold > 0).then(pl.col("sales") / sold),
        )
        .sort(["whose_spend", "whose", "place"], descending=[True, False, False])
        .drop("whose_spend", "place")
    )


def off_site(facts: Facts, selection: Selection) -> pl.DataFrame:
    """The campaigns' off-site rows, with limited: whether it is limited already."""
    rows = judged(facts, selection).filter(pl.col("placement") == Placement.OFF_SITE.value)
    return rows.with_columns(limited=pl.col("offsite_limited").cast(pl.String) == "yes")


def row_of(facts: Facts, selection: Selection, row_id: str) -> Mapping[str, Any]:
    """A placement of a campaign, with limited; NotFound where it had no figures in the window."""
    rows = judged(facts, selection).filter(pl.col("row_id") == row_id)
    if rows.is_empty():
        raise NotFound("This placement has no activity in this period.", remedy="Choose another period, or close it.")
    row = rows.row(0, named=True)
    return {**row, "limited": row["offsite_limited"] == "yes"}


def limit_proposal(selection: Selection, row: Mapping[str, Any], days: int) -> Proposal:
    """
    Keeping a campaign from off-site: proposed where that is above target, possible wherever it is
    not limited yet.
    """
    did = Reason(ReasonKey.OFF_SITE_DID, (row["clicks"], row["orders"], from_micro(row["spend"])))
    subject = EntityKey(Subject.PLACEMENT, row["campaign"], name=row["placement"])
    if row["limited"]:
        return Proposal(
            subject, row["row_id"], Headline(HeadlineKey.IS_LIMITED), reasons=(did,), evidence=evidence_of(row)
        )
    effect = rules.left_out(place_sums(row), days)
    was = row["offsite_limited"] or _LIMITABLE
    limited = change(Entity.CAMPAIGN, "offsite_limited", row["campaign"], "yes", was, OFF_SITE.key)
    costly = row["verdict"] == Verdict.ABOVE.value
    if costly:
        needs = Reason(ReasonKey.OFF_SITE_NEEDS, (row["needed_cvr"], 1 - row["p_over"]))
        why = (needs,) if row["own_test"] else (needs, Reason(ReasonKey.OFF_SITE_BY_OTHERS))
    else:
        fine = row["verdict"] == Verdict.WITHIN.value
        says = Reason(ReasonKey.WITHIN_TARGET) if fine else Reason(ReasonKey.EVIDENCE_SAYS, (row["verdict"],))
        why = (says, Reason(ReasonKey.CAN_LIMIT))
    return Proposal(
        subject,
        row["row_id"],
        Headline(HeadlineKey.LIMIT_OFF_SITE if costly else HeadlineKey.LEAVE_OFF_SITE),
        ((limited, promise(selection, row, "placements", row["row_id"], effect)),),
        (did, *why),
        effect=effect,
        evidence=evidence_of(row),
        optional=not costly,
    )


ADJUSTED: Final = (RowAction.ADJUST_BY, RowAction.ADJUST_TO)
"""What is done by hand to placements of campaigns."""


def by_hand(selection: Selection, chosen: pl.DataFrame, action: RowAction, value: Value) -> list[Proposal]:
    """The adjustments of placements of campaigns changed by points or set, in their order; of off-site nothing."""
    found = []
    for row in chosen.to_dicts():
        subject = EntityKey(Subject.PLACEMENT, row["campaign"], name=row["placement"])
        setting = setting_frames.ADJUSTMENTS.get(Placement(row["placement"]))
        held = row[setting] if setting else None
        old = int(held or 0)
        wanted = float(value or 0) + (old if action is RowAction.ADJUST_BY else 0)
        new = round(min(max(wanted, 0), MOST_PERCENT))
        if setting is None or new == old:
            found.append(Proposal(subject, row["row_id"], Headline(HeadlineKey.NOTHING), evidence=evidence_of(row)))
            continue
        of = {"placement": row["placement"]}
        changed = change(Entity.PLACEMENT, "adjustment", row["campaign"], str(new), str(old), "", **of)
        package = ((changed, promise(selection, row, "placements", row["row_id"], UNKNOWN)),)
        headline = Headline(HeadlineKey.SET, ("adjustment", f"{old} %", f"{new} %"))
        why = (Reason(ReasonKey.OWN_ACTION),)
        found.append(
            Proposal(subject, row["row_id"], headline, package, why, effect=UNKNOWN, evidence=evidence_of(row))
        )
    return found


def place_sums(row: Mapping[str, Any]) -> PlacementSums:
    """A row of `judged` as the core's rules take it."""
    setting = setting_frames.ADJUSTMENTS.get(Placement(row["placement"]))
    has_prior = row["prior_a"] is not None
    return PlacementSums(
        Placement(row["placement"]),
        int(row["clicks"]),
        from_micro(row["spend"]),
        from_micro(row["sales"]),
        (row.get(setting) or 0.0) / 100 if setting else 0.0,
        row["prior_a"] + row["k"] if has_prior else 1.0,
        row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        from_micro(row["shrunk_aov"] or 0),
    )


def of_campaign(facts: Facts, selection: Selection, campaign: str) -> pl.DataFrame:
    """Rows of `judged` of one campaign, whatever part is looked at; NotFound where it has no placements."""
    rows = judged(facts, selection.whole).filter(pl.col("campaign") == campaign)
    if rows.is_empty():
        raise NotFound(
            f"“{campaign}” has no placements in this period.", remedy="Choose another campaign, or other days."
        )
    return rows


def worst(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Campaigns by what their placements on the marketplace likely overspend: campaign, stake, spend,
    costly (how many).
    """
    rows = judged(facts, selection)
    flagged = pl.col("verdict").is_in([Verdict.ABOVE.value, Verdict.LIKELY_ABOVE.value])
    on_site = pl.col("placement") != Placement.OFF_SITE.value
    return (
        rows.group_by("campaign_id", "campaign")
        .agg(
            stake=pl.col("stake").filter(flagged).sum(),
            on_site=pl.col("stake").filter(flagged & on_site).sum(),
            costly=(flagged & on_site).sum(),
            spend=pl.col("spend").sum(),
            sales=pl.col("sales").sum(),
            clicks=pl.col("clicks").sum(),
        )
        .with_columns(campaign=pl.col("campaign").cast(pl.String))
        .sort(["on_site", "spend", "campaign"], descending=[True, True, False])
    )


def to_limit(facts: Facts, selection: Selection) -> pl.DataFrame:
    """The off-site rows that are costly and not limited yet, most at stake first."""
    rows = off_site(facts, selection).filter((pl.col("verdict") == Verdict.ABOVE.value) & ~pl.col("limited"))
    return rows.sort("stake", descending=True, maintain_order=True)


def paid_now(row: Mapping[str, Any]) -> float | None:
    """What a click of a placement costs now, in units."""
    return ratio(from_micro(row["spend"]), row["clicks"])
