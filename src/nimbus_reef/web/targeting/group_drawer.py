"""A campaign or an ad group, opened: what its verdict rests on, how it ran, what was changed, what is in it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import groups, judged_proposals, made_changes
from nimbus_reef.analysis.groups import AD_GROUPS, CAMPAIGNS
from nimbus_reef.analysis.judged_proposals import history
from nimbus_reef.analysis.selection import Part
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MEASURES, from_micro
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.reading import row_frames, target_frames
from nimbus_reef.web.kit import charts, luck
from nimbus_reef.web.kit.charts import Marked
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.luck import Luck
from nimbus_reef.web.kit.verdicts import mark_of, verdict_at_length
from nimbus_reef.web.targeting.group_pages import GroupTable, age_words

_MOST: Final = 8


@dataclass(frozen=True, slots=True)
class GroupDrawer:
    """
    A campaign or ad group, opened. settings: words and value; changes: day and words; inside: what it holds, as mark,
    name, what it did, spend and where that is open; links: words and address.
    """

    id: str
    name: str
    where: str
    bold: str
    rest: str
    picture: Luck | None
    verdict: str
    settings: Sequence[tuple[str, str]]
    trend: Any
    changes: Sequence[tuple[str, str]]
    inside_title: str
    inside: Sequence[tuple[str, str, str, str, str]]
    inside_more: int
    links: Sequence[tuple[str, str]]


def drawer(ask: Context, of: GroupTable, row_id: str) -> GroupDrawer:
    """The drawer of a row; NotFound where it did nothing in the window."""
    figures, row = ask.figures, groups.row_of(ask.facts, ask.selection, of.name, row_id)
    campaign = str(row["campaign"])
    changes = _changes(ask, of, row, figures)
    inside = _inside(ask, of, row)
    brought = figures.counted(row["orders"], "order") if row["orders"] else "no order"
    return GroupDrawer(
        row_id,
        row["name"],
        campaign if of.name == AD_GROUPS else " · ".join(filter(None, (row["format"], row["portfolio"]))),
        f"{figures.counted(row['clicks'], 'click')} brought {brought} for {figures.micro(row['spend'])}.",
        _rate_words(row, figures),
        luck.of_judged(row, figures, f"all {of.things}"),
        verdict_at_length(row),
        settings(of, row, figures),
        _trend(ask, row, of, changes),
        [(figures.day(each.day), each.at_length) for each in reversed(changes[-6:])],
        "Its ad groups" if of.name == CAMPAIGNS else "Its targets",
        inside[:_MOST],
        max(0, len(inside) - _MOST),
        _links(ask, of, row, campaign),
    )


def _rate_words(row: Mapping[str, Any], figures: Figures) -> str:
    if not row["clicks"]:
        return ""
    acos = figures.rate(row["acos"], 0) if row["sales"] else "no sales"
    return (
        f"ACOS {acos}, target {figures.aim(row['target_acos'])}. A click costs {figures.money(row['cpc'], 2)} and sells"
        f" {figures.money(row['rpc'] or 0, 2)}."
    )


def settings(of: GroupTable, row: Mapping[str, Any], figures: Figures) -> list[tuple[str, str]]:
    """What it is set to and what is in it, in words."""
    told: list[tuple[str, str]] = [("state", row["state"] or "unknown")]
    if of.name == CAMPAIGNS:
        told += [
            ("daily budget", figures.money(row["budget"], 2) if row["budget"] is not None else "unknown"),
            ("days out of budget", figures.rate(row["dry_share"], 0) if row["dry_share"] is not None else "unknown"),
            ("bidding", str(row["bidding"] or "unknown").replace("_", " ")),
            ("off-site limit", str(row["offsite_limited"] or "unknown")),
            ("impressions at top of search", figures.rate(row["top_share"], 0) if row["top_share"] else "unknown"),
        ]
    told += [
        ("purpose", row["purpose"] or "not named"),
        ("age", age_words(row["age"])),
        ("match types", row["match_types"] or "–"),
        ("live targets", figures.count(row["targets"])),
        ("products", figures.count(row["products"])),
    ]
    return told


def _target_ids(ask: Context, of: GroupTable, row: Mapping[str, Any]) -> list[int]:
    key = "campaign_id" if of.name == CAMPAIGNS else "ad_group_id"
    targets = target_frames.targets(ask.facts, ask.account.id)
    return targets.filter(pl.col(key) == row[key])["target_id"].to_list()


def _trend(ask: Context, row: Mapping[str, Any], of: GroupTable, changes: Sequence[Marked]) -> Any:
    """Spend by day, changes marked; None where its targets are not held by day."""
    window = history(ask.selection)
    source = ask.facts.target_source(ask.account.id, window).kind
    days = row_frames.target_days(ask.facts, ask.account.id, source, window, _target_ids(ask, of, row))
    if days.is_empty():
        return None
    sums = days.group_by("day").agg(pl.col(MEASURES).sum()).sort("day")
    return charts.money_and_bid(
        sums["day"].to_list(),
        [from_micro(value) for value in sums["spend"]],
        [None] * len(sums),
        figures=ask.figures,
        first_shown=max(ask.selection.window.first, *sums["day"].head(1).to_list()),
        changes=changes,
    )


def _changes(ask: Context, of: GroupTable, row: Mapping[str, Any], figures: Figures) -> list[Marked]:
    """The days on which something of it was changed."""
    selection = replace(ask.selection, part=Part(campaign=str(row["campaign"])))
    rows = made_changes.listed(ask.facts, selection)
    if of.name == AD_GROUPS:
        rows = rows.filter(pl.col("ad_group") == row["ad_group"])
    return [
        Marked(
            each["day"],
            figures.counted(each["changes"], "change"),
            ", ".join(figures.counted(each[f"{way}s"], way) for way in ("raise", "cut") if each[f"{way}s"])
            or "settings",
        )
        for each in made_changes.by_day(rows).sort("day").to_dicts()
    ]


def _inside(ask: Context, of: GroupTable, row: Mapping[str, Any]) -> list[tuple[str, str, str, str, str]]:
    """Ad groups of a campaign, targets of an ad group, the largest spend first."""
    figures = ask.figures
    if of.name == CAMPAIGNS:
        selection = replace(ask.selection, part=Part(campaign=str(row["campaign"])))
        found, name = groups.rows(ask.facts, selection, AD_GROUPS), "ad_group"
        view = AD_GROUPS
    else:
        judged = judged_proposals.judged(ask.facts, ask.selection, Subject.TARGET)
        found, name = judged.filter(pl.col("ad_group_id") == row["ad_group_id"]), "target"
        view = "targets"
    ordered, here = found.sort("spend", descending=True), ask.url("targeting.table", name=view)
    return [
        (
            mark_of(each, "evidence"),
            str(each[name]),
            f"{figures.counted(each['clicks'], 'click')}, {figures.counted(each['orders'], 'order')}",
            figures.micro(each["spend"]),
            ask.scope.elsewhere(here, campaign=str(row["campaign"]), open=each["row_id"]),
        )
        for each in ordered.to_dicts()
    ]


def _links(ask: Context, of: GroupTable, row: Mapping[str, Any], campaign: str) -> list[tuple[str, str]]:
    def to(endpoint: str, name: str, **more: str) -> str:
        return ask.scope.elsewhere(ask.url(endpoint, name=name), **({"campaign": campaign} | more))

    group = {} if of.name == CAMPAIGNS else {"q": f'"{row["ad_group"]}"'}
    found = [("Ad groups", to("targeting.table", AD_GROUPS))] if of.name == CAMPAIGNS else []
    found += [
        ("Targets", to("targeting.table", "targets", **group)),
        ("Search terms", to("targeting.table", "terms", **group)),
        ("Product ads", to("catalog.view", "ads", **group)),
    ]
    if of.name == CAMPAIGNS:
        found += [
            ("Placements", to("delivery.view", "placements", by="campaign")),
            ("Hours", to("delivery.view", "hours")),
            ("Trends", to("movement.view", "trends", whose=f"campaign:{campaign}")),
            ("Changes", to("movement.view", "changes")),
        ]
    return found
