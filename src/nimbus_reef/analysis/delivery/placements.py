"""
Placements of an account: evidence by account, campaign, portfolio or product; limits for off-site; solutions by
campaign.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from dataclasses import replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement
from nimbus_reef.analysis.judged import AT_ONCE
from nimbus_reef.analysis.look import EVERYTHING, Look
from nimbus_reef.analysis.sheet_rows import change, evidence_of, promise
from nimbus_reef.core import placements as rules
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.delivery import OFF_SITE
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MEASURES, Placement, Verdict, from_micro
from nimbus_reef.core.placements import ORDER, PlacementSums
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import delivery_frames, product_frames
from nimbus_reef.store.reading.facts import Facts

KIND: Final = "placement_daily"
GROUPS: Final = ("account", "campaign", "portfolio", "product")
"""Ways of grouping; besides, by the parts of the account's names."""
SETTING_OF: Final[Mapping[Placement, str]] = {
    Placement.TOP_OF_SEARCH: "adj_top_of_search",
    Placement.ELSEWHERE_IN_SEARCH: "adj_elsewhere",
    Placement.PRODUCT_PAGE: "adj_product_page",
}
"""Where a campaign's settings hold the adjustment of a placement, in per cent."""
_LIMITABLE: Final = "no"


def judged(facts: Facts, look: Look, by: str = "campaign") -> pl.DataFrame:
    """
    Placements of every group, judged: whose (what the group is called), placement, row_id, the measures and what
    `evidence.judge` adds, share_spend and share_sales within the group; largest spend first, placements in their order.

    By campaign its settings besides; judged among the whole account and narrowed after.
    """
    account = look.account

    def make() -> pl.DataFrame:
        rows = delivery_frames.placement_sums(facts, account.id, look.window)
        days = facts.monthly_days(account.id, KIND, look.window)
        if by == "campaign":
            return _shaped(
                rules.judge(rows.with_columns(whose="campaign"), "whose", days, look.aims, account.min_clicks),
                "campaign_id",
            )
        sums = _grouped(facts, look, look.within(facts, rows), by)
        of = _grouped(facts, look, rows, by) if look.part else None
        return _shaped(rules.judge(sums, "whose", days, look.aims, account.min_clicks, of), "whose")

    if by == "campaign":
        return look.within(facts, facts.kept("placements", account.id, make, *_by_campaign(look)))
    return facts.kept("placements", account.id, make, *look.judging, by, look.part, account.naming)


def _by_campaign(look: Look) -> tuple[Hashable, ...]:
    return *look.judging, "campaign"


def judged_soon(facts: Facts, look: Look) -> bool:
    """Whether the campaigns' placements are judged already, or are so few that they are at once."""
    account = look.account
    if facts.known("placements", account.id, *_by_campaign(look)) is not None:
        return True
    return len(delivery_frames.placement_sums(facts, account.id, look.window)) < AT_ONCE


def _grouped(facts: Facts, look: Look, rows: pl.DataFrame, by: str) -> pl.DataFrame:
    """Sums by what rows are grouped by; of a product those of campaigns whose main product it is."""
    if by == "account":
        named = rows.with_columns(whose=pl.lit(look.account.brand))
    elif by.startswith(movement.NAMED):
        named = rows.with_columns(movement.part_column(look.account, rows, by).alias("whose"))
    elif by == "portfolio":
        named = rows.with_columns(whose=pl.col("portfolio").cast(pl.String).fill_null("none given"))
    else:
        main = main_products(facts, look.account.id, look.window)
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


def narrowed(rows: pl.DataFrame, limited: str) -> pl.DataFrame:
    """Placements of the campaigns whose off-site is limited (yes) or is not (no); any other word leaves all."""
    if limited not in ("yes", "no"):
        return rows
    is_limited = pl.col("offsite_limited").cast(pl.String).fill_null("no") == "yes"
    return rows.filter(is_limited if limited == "yes" else ~is_limited)


def off_site(facts: Facts, look: Look) -> pl.DataFrame:
    """The campaigns' off-site rows, with limited: whether it is limited already."""
    rows = judged(facts, look).filter(pl.col("placement") == Placement.OFF_SITE.value)
    return rows.with_columns(limited=pl.col("offsite_limited").cast(pl.String) == "yes")


def row_of(facts: Facts, look: Look, row_id: str) -> Mapping[str, Any]:
    """A placement of a campaign, with limited; NotFound where it had no figures in the window."""
    rows = judged(facts, look).filter(pl.col("row_id") == row_id)
    if rows.is_empty():
        raise NotFound("This placement has no activity in this period.", remedy="Choose another period, or close it.")
    row = rows.row(0, named=True)
    return {**row, "limited": row["offsite_limited"] == "yes"}


def limit_proposal(look: Look, row: Mapping[str, Any], days: int) -> Proposal:
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
    costly = row["verdict"] == Verdict.COSTLY.value
    if costly:
        needs = Reason(ReasonKey.OFF_SITE_NEEDS, (row["needed_cvr"], 1 - row["p_over"]))
        why = (needs,) if row["own_test"] else (needs, Reason(ReasonKey.OFF_SITE_BY_OTHERS))
    else:
        fine = row["verdict"] == Verdict.FINE.value
        says = Reason(ReasonKey.WITHIN_TARGET) if fine else Reason(ReasonKey.EVIDENCE_SAYS, (row["verdict"],))
        why = (says, Reason(ReasonKey.CAN_LIMIT))
    return Proposal(
        subject,
        row["row_id"],
        Headline(HeadlineKey.LIMIT_OFF_SITE if costly else HeadlineKey.LEAVE_OFF_SITE),
        ((limited, promise(look, row, "placements", row["row_id"], effect)),),
        (did, *why),
        effect=effect,
        evidence=evidence_of(row),
        optional=not costly,
    )


def place_sums(row: Mapping[str, Any]) -> PlacementSums:
    """A row of `judged` as the core's rules take it."""
    setting = SETTING_OF.get(Placement(row["placement"]))
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


def of_campaign(facts: Facts, look: Look, campaign: str) -> pl.DataFrame:
    """Rows of `judged` of one campaign, whatever part is looked at; NotFound where it has no placements."""
    rows = judged(facts, replace(look, part=EVERYTHING)).filter(pl.col("campaign") == campaign)
    if rows.is_empty():
        raise NotFound(
            f"“{campaign}” has no placements in these days.", remedy="Choose another campaign, or other days."
        )
    return rows


def worst(facts: Facts, look: Look) -> pl.DataFrame:
    """
    Campaigns by what their placements on the marketplace likely overspend: campaign, stake, spend,
    costly (how many).
    """
    rows = judged(facts, look)
    flagged = pl.col("verdict").is_in([Verdict.COSTLY.value, Verdict.LEANING.value])
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


def to_limit(facts: Facts, look: Look) -> pl.DataFrame:
    """The off-site rows that are costly and not limited yet, most at stake first."""
    rows = off_site(facts, look).filter((pl.col("verdict") == Verdict.COSTLY.value) & ~pl.col("limited"))
    return rows.sort("stake", descending=True, maintain_order=True)


def paid_now(row: Mapping[str, Any]) -> float | None:
    """What a click of a placement costs now, in units."""
    return ratio(from_micro(row["spend"]), row["clicks"])
