"""
The order of work: what stands before a keyword of an ad group and is not settled yet.

A negative or a bid hits every product of its ad group; while one of them wastes the money, its campaign runs dry or its page is broken,
what the keyword shows is not the keyword's.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import polars as pl

from nimbus_reef.analysis.catalog import ads
from nimbus_reef.analysis.delivery import budgets
from nimbus_reef.analysis.falls import falls
from nimbus_reef.analysis.look import EVERYTHING, Look
from nimbus_reef.core.changes import Change, Entity
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts


class Unsettled(StrEnum):
    """What is to be settled first."""

    AD = "product ad"
    BUDGET = "budget"
    PAGE = "page"


@dataclass(frozen=True, slots=True)
class Before:
    """
    Something to settle before a keyword. name: the product or campaign; row_id: by which it opens in its view; stake: micro-units per 30
    days (of a budget: sales missed). days: on how many of the days held a budget was dry.
    """

    kind: Unsettled
    name: str
    row_id: str
    stake: int
    days: tuple[int, int] = (0, 0)


def before(
    facts: Facts, look: Look, campaign: str, ad_group: str, planned: Sequence[Change] = ()
) -> list[Before]:
    """What stands before a keyword of an ad group: costly product ads, a dry budget, broken pages; what is planned already is settled."""
    whole = Look(look.account, look.window, look.aims, look.against, EVERYTHING)
    settled = {
        (change.entity, change.campaign, change.ad_group if change.entity is Entity.PRODUCT_AD else "", change.sku)
        for change in planned
    }  # fmt: skip
    return [
        *_ads(facts, whole, campaign, ad_group, settled),
        *_budget(facts, whole, campaign, settled),
        *_pages(facts, whole, campaign, ad_group),
    ]


_Settled = set[tuple[Entity, str, str, str]]


def _ads(facts: Facts, look: Look, campaign: str, ad_group: str, settled: _Settled) -> list[Before]:
    if not facts.held_days(look.account.id, ads.KIND, look.window):
        return []
    here = ads.listed(facts, look).filter(
        pl.col("to_pause"), pl.col("campaign").cast(pl.String) == campaign,
        pl.col("ad_group").cast(pl.String) == ad_group,
    )  # fmt: skip
    return [
        Before(Unsettled.AD, str(row["sku"]), row["row_id"], row["stake"])
        for row in here.sort("stake", descending=True).to_dicts()
        if (Entity.PRODUCT_AD, campaign, ad_group, str(row["sku"])) not in settled
    ]


def _budget(facts: Facts, look: Look, campaign: str, settled: _Settled) -> list[Before]:
    if (Entity.CAMPAIGN, campaign, "", "") in settled or not facts.held_days(
        look.account.id, "hourly", look.window
    ):
        return []
    rows = budgets.held(facts, look).filter((pl.col("campaign") == campaign) & pl.col("runs_dry"))
    return [
        Before(
            Unsettled.BUDGET, campaign, campaign, round(line.missed.middle * 1e6), (line.dry_days, line.held_days)
        )
        for line in budgets.lines(rows)
    ]  # fmt: skip


def _pages(facts: Facts, look: Look, campaign: str, ad_group: str) -> list[Before]:
    broken = facts.kept("falls", look.account.id, lambda: falls(facts, look), *look.judging)
    if broken.is_empty():
        return []
    here = product_frames.ad_rows(facts, look.account.id, look.window).filter(
        pl.col("campaign").cast(pl.String) == campaign, pl.col("ad_group").cast(pl.String) == ad_group
    )
    held = set(here["sku"].cast(pl.String))
    return [
        Before(Unsettled.PAGE, row["name"], row["row_id"], row["stake"])
        for row in broken.to_dicts()
        if row["name"] in held
    ]
