"""Product ads: a SKU in an ad group beside its siblings there, which to pause, and what the ad group is without it."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.judged import judged_ads
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, evidence_of, promise
from nimbus_reef.core import families
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.catalog import COSTLY_ADS
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MEASURES, State, Verdict, from_micro
from nimbus_reef.core.projection import UNKNOWN, Basis, Projected
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.tiers import RowAction
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

KIND: Final = "product_ad_daily"


def listed(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Judged product ads with the cohort they keep: title, running (its ad is enabled), siblings (running ads beside it),
    their orders, clicks, spend and sales, and to_pause: costly, had its own test, and beside it runs a sibling that
    sells and is not flagged.
    """
    account = selection.account

    def make() -> pl.DataFrame:
        rows = judged_ads(facts, selection)
        running = product_frames.enabled_ads(facts, account.id, selection.window).select("ad_group_id", "product_id")
        titles = product_frames.catalog(facts, account.id).select("product_id", pl.col("title").cast(pl.String))
        here = (
            rows.join(
                running.with_columns(running=pl.lit(True)).unique(),
                on=["ad_group_id", "product_id"],
                how="left",
                maintain_order="left",
            )
            .with_columns(pl.col("running").fill_null(False))
            .join(titles, on="product_id", how="left", maintain_order="left")
        )
        runs = pl.col("running")
        good = runs & (pl.col("orders") > 0) & ~flagged()
        of_group = "ad_group_id"
        return here.with_columns(
            siblings=runs.sum().over(of_group).cast(pl.Int64) - runs.cast(pl.Int64),
            good_siblings=good.sum().over(of_group).cast(pl.Int64) - good.cast(pl.Int64),
            **{
                f"beside_{name}": pl.col(name).sum().over(of_group) - pl.col(name)
                for name in ("clicks", "orders", "spend", "sales")
            },
        ).with_columns(
            to_pause=runs
            & (pl.col("verdict") == Verdict.ABOVE.value)
            & pl.col("own_test")
            & (pl.col("good_siblings") > 0)
        )

    return selection.within(facts, facts.kept("product ads", account.id, make, *selection.judging))


def row_of(facts: Facts, selection: Selection, row_id: str) -> Mapping[str, Any]:
    """One product ad; NotFound where it has no activity in the window."""
    found = listed(facts, selection).filter(pl.col("row_id") == row_id)
    if found.is_empty():
        raise NotFound("This product ad has no activity in this period.", remedy="Choose another period, or close it.")
    return found.row(0, named=True)


def siblings(facts: Facts, selection: Selection, row: Mapping[str, Any]) -> Sequence[Mapping[str, Any]]:
    """The other product ads of its ad group, the largest spend first."""
    group = listed(facts, selection).filter(
        pl.col("ad_group_id") == row["ad_group_id"], pl.col("row_id") != row["row_id"]
    )
    return group.sort(["spend", "sku"], descending=[True, False]).to_dicts()


@dataclass(frozen=True, slots=True)
class Without:
    """What an ad group came to in the window, with a product ad and without, in micro-units."""

    whole: Mapping[str, int]
    rest: Mapping[str, int]


def without(row: Mapping[str, Any], others: Sequence[Mapping[str, Any]]) -> Without:
    """The ad group with and without one of its product ads."""
    rest = {name: sum(int(each[name]) for each in others) for name in MEASURES}
    return Without({name: rest[name] + int(row[name]) for name in MEASURES}, rest)


def _basis(row: Mapping[str, Any], days: int) -> Basis:
    has_prior = row["prior_a"] is not None
    return Basis(
        days,
        row["clicks"],
        from_micro(row["spend"]),
        from_micro(row["sales"]),
        row["prior_a"] + row["k"] if has_prior else 1.0,
        row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        from_micro(row["shrunk_aov"] or 0),
    )


def proposals(facts: Facts, selection: Selection, rows: Sequence[Mapping[str, Any]]) -> list[Proposal]:
    """The pause of each product ad, or why it is not proposed; in their order."""
    days = facts.monthly_days(selection.account.id, KIND, selection.window)
    beside = _beside(facts, selection, {row["ad_group_id"] for row in rows if row["to_pause"]})
    return [_proposal(selection, row, beside.get(row["ad_group_id"], ()), days) for row in rows]


def _beside(facts: Facts, selection: Selection, groups: Collection[int]) -> dict[Any, list[dict[str, Any]]]:
    """The running product ads of some ad groups, by ad group."""
    frame = listed(facts, selection).filter(pl.col("ad_group_id").is_in(list(groups)) & pl.col("running"))
    return {key[0]: part.to_dicts() for key, part in frame.partition_by("ad_group_id", as_dict=True).items()}


def _without(row: Mapping[str, Any], group: Sequence[Mapping[str, Any]], days: int) -> Projected:
    """What its ad group does without it."""
    others = [_basis(each, days) for each in group if each["row_id"] != row["row_id"]]
    return families.without_ad(_basis(row, days), others)


BY_HAND: Final = (RowAction.PAUSE, RowAction.ENABLE)
"""What is done by hand to product ads."""


def by_hand(facts: Facts, selection: Selection, chosen: pl.DataFrame, action: RowAction) -> list[Proposal]:
    """Product ads paused or enabled by hand, in their order; nothing of those that are so already."""
    state = State.PAUSED if action is RowAction.PAUSE else State.ENABLED
    days = facts.monthly_days(selection.account.id, KIND, selection.window)
    beside = _beside(facts, selection, set(chosen["ad_group_id"]))
    found = []
    for row in chosen.to_dicts():
        campaign, ad_group, sku = (str(row[name]) for name in ("campaign", "ad_group", "sku"))
        subject, now = EntityKey(Subject.AD, campaign, ad_group, sku), State.ENABLED if row["running"] else State.PAUSED
        if now is state:
            found.append(Proposal(subject, row["row_id"], Headline(HeadlineKey.NOTHING), evidence=evidence_of(row)))
            continue
        pauses = state is State.PAUSED
        effect = _without(row, beside.get(row["ad_group_id"], ()), days) if pauses else UNKNOWN
        changed = change(Entity.PRODUCT_AD, "state", campaign, state.value, now.value, "", ad_group=ad_group, sku=sku)
        headline = Headline(HeadlineKey.PAUSE_AD, (sku, ad_group)) if pauses else Headline(HeadlineKey.ENABLE)
        package = ((changed, promise(selection, row, "ads", row["row_id"], effect)),)
        why = (Reason(ReasonKey.OWN_ACTION),)
        found.append(Proposal(subject, row["row_id"], headline, package, why, effect=effect, evidence=evidence_of(row)))
    return found


def _proposal(selection: Selection, row: Mapping[str, Any], group: Sequence[Mapping[str, Any]], days: int) -> Proposal:
    campaign, ad_group, sku = (str(row[name]) for name in ("campaign", "ad_group", "sku"))
    subject = EntityKey(Subject.AD, campaign, ad_group, sku)
    if not row["to_pause"]:
        headline, reasons = _why_not(row)
        return Proposal(subject, row["row_id"], Headline(headline), reasons=reasons, evidence=evidence_of(row))
    effect = _without(row, group, days)
    of: dict[str, Any] = {"ad_group": ad_group, "sku": sku}
    paused = change(Entity.PRODUCT_AD, "state", campaign, "paused", "enabled", COSTLY_ADS.key, **of)
    rate = ratio(row["beside_orders"], row["beside_clicks"])
    reasons = (
        Reason(ReasonKey.AD_TEST, (row["clicks"], row["orders"])),
        Reason(ReasonKey.AD_BESIDE, (rate, row["cvr"])),
        Reason(ReasonKey.AD_CLICKS_MOVE),
    )
    return Proposal(
        subject,
        row["row_id"],
        Headline(HeadlineKey.PAUSE_AD, (sku, ad_group)),
        ((paused, promise(selection, row, "ads", row["row_id"], effect)),),
        reasons,
        effect=effect,
        evidence=evidence_of(row),
    )


def _why_not(row: Mapping[str, Any]) -> tuple[HeadlineKey, tuple[Reason, ...]]:
    if not row["running"]:
        return HeadlineKey.IS_PAUSED, ()
    if row["verdict"] != Verdict.ABOVE.value:
        return HeadlineKey.NOTHING, (Reason(ReasonKey.EVIDENCE_SAYS, (row["verdict"],)),)
    if not row["own_test"]:
        return HeadlineKey.NOTHING_YET, (Reason(ReasonKey.AD_FEW_CLICKS, (row["clicks"],)),)
    why = ReasonKey.AD_NO_SIBLING if row["siblings"] else ReasonKey.AD_ALONE
    return HeadlineKey.NO_PAUSE, (Reason(why),)
