"""
The order of work: what stands before a keyword of an ad group and is not settled yet.

A negative or a bid hits every product of its ad group; while one of them wastes the money, its campaign is out of
budget or its page is broken, what the keyword shows is not the keyword's.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum

import polars as pl

from nimbus_reef.analysis.catalog import ads
from nimbus_reef.analysis.delivery import budgets
from nimbus_reef.analysis.falls import falls
from nimbus_reef.analysis.lost_pages import lost
from nimbus_reef.analysis.selection import EVERYTHING, Selection
from nimbus_reef.core.changes import Change, Entity
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts


class Unsettled(StrEnum):
    """What is to be settled first."""

    AD = "product ad"
    BUDGET = "budget"
    PAGE = "page"
    LOST_PAGE = "lost page"


@dataclass(frozen=True, slots=True)
class Before:
    """
    Something to settle before a keyword. name: the product or campaign; row_id: by which it opens in its view; stake:
    micro-units per 30 days (of a budget: sales missed). days: on how many of the days held a budget was dry.
    """

    kind: Unsettled
    name: str
    row_id: str
    stake: int
    days: tuple[int, int] = (0, 0)


Home = tuple[str, str]
"""Campaign and ad group."""


def before(
    facts: Facts, selection: Selection, homes: Collection[Home], planned: Sequence[Change] = ()
) -> dict[Home, list[Before]]:
    """
    What stands before keywords of ad groups, by ad group: costly product ads, a dry budget, broken pages; what is
    planned already is settled, and an ad group in which all is settled is left out.
    """
    whole = Selection(selection.account, selection.window, selection.aims, selection.against, EVERYTHING)
    settled = {
        (change.entity, change.campaign, change.ad_group if change.entity is Entity.PRODUCT_AD else "", change.sku)
        for change in planned
    }
    wanted = pl.DataFrame(sorted(set(homes)), schema={"campaign": pl.String, "ad_group": pl.String}, orient="row")
    found: dict[Home, list[Before]] = {}
    for of in (_ads, _budgets, _pages):
        for home, each in of(facts, whole, wanted, settled):
            found.setdefault(home, []).append(each)
    return found


_Settled = set[tuple[Entity, str, str, str]]
_Found = list[tuple[Home, Before]]


def _ads(facts: Facts, selection: Selection, homes: pl.DataFrame, settled: _Settled) -> _Found:
    if not facts.held_days(selection.account.id, ads.KIND, selection.window):
        return []
    here = _named(ads.listed(facts, selection).filter("to_pause")).join(homes, on=["campaign", "ad_group"], how="semi")
    return [
        ((row["campaign"], row["ad_group"]), Before(Unsettled.AD, str(row["sku"]), row["row_id"], row["stake"]))
        for row in here.sort("stake", descending=True).to_dicts()
        if (Entity.PRODUCT_AD, row["campaign"], row["ad_group"], str(row["sku"])) not in settled
    ]


def _named(rows: pl.DataFrame) -> pl.DataFrame:
    return rows.with_columns(pl.col("campaign", "ad_group").cast(pl.String))


def _budgets(facts: Facts, selection: Selection, homes: pl.DataFrame, settled: _Settled) -> _Found:
    if not facts.held_days(selection.account.id, "hourly", selection.window):
        return []
    rows = budgets.campaign_rows(facts, selection).filter("runs_dry").join(homes, on="campaign", how="semi")
    dry = {
        line.campaign: Before(
            Unsettled.BUDGET,
            line.campaign,
            line.campaign,
            round(line.missed.middle * 1e6),
            (line.dry_days, line.held_days),
        )
        for line in budgets.lines(rows)
        if (Entity.CAMPAIGN, line.campaign, "", "") not in settled
    }
    return [((campaign, group), dry[campaign]) for campaign, group in homes.rows() if campaign in dry]


def _pages(facts: Facts, selection: Selection, homes: pl.DataFrame, settled: _Settled) -> _Found:  # noqa: ARG001
    fell = facts.kept("falls", selection.account.id, lambda: falls(facts, selection), *selection.judging)
    broken = pl.concat(
        rows.select("name", "row_id", "stake", kind=pl.lit(kind.value))
        for kind, rows in ((Unsettled.LOST_PAGE, lost(facts, selection)), (Unsettled.PAGE, fell))
    )
    if broken.is_empty():
        return []
    ads_of = _named(product_frames.ad_rows(facts, selection.account.id, selection.window)).select(
        "campaign", "ad_group", name=pl.col("sku").cast(pl.String)
    )
    here = broken.unique("name", keep="first", maintain_order=True).join(
        ads_of.join(homes, on=["campaign", "ad_group"], how="semi"), on="name"
    )
    return [
        ((row["campaign"], row["ad_group"]), Before(Unsettled(row["kind"]), row["name"], row["row_id"], row["stake"]))
        for row in here.to_dicts()
    ]
