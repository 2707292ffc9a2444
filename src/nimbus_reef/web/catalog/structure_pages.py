"""
Structure as its page shows it: keywords bought twice with the one to keep, what cannot be steered,
purposes spread out.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.offers import Offer
from nimbus_reef.core.model import from_micro
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.offered import Worded, heads, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_KEPT: Final[Mapping[str, str]] = {"evidence": "lowest expected ACOS", "oldest": "the oldest"}
FAULTS: Final[Mapping[str, tuple[str, str]]] = {
    "crowded": ("too many targets to steer", "targets"),
    "mixed": ("several match types in one campaign", "match types"),
    "unlike": ("products of different families", "families"),
}


@dataclass(frozen=True, slots=True)
class TwinLine:
    """One place where a keyword is bought; first: of its group, which it names and opens."""

    key: str
    open: str
    name: str
    where: str
    mark: str
    clicks: str
    orders: str
    acos: str
    spend: str
    bid: str
    keep: str
    kept: bool
    first: bool


def twin_lines(rows: pl.DataFrame, figures: Figures) -> list[TwinLine]:
    """Groups one after the other, the one to keep first."""
    made = []
    for row in rows.to_dicts():
        acos = "no sales" if row["spend"] and not row["sales"] else figures.percent(row["acos"], 0)
        made.append(
            TwinLine(
                row["row_id"],
                row["group"],
                row["target"],
                f"{row['match_type']} · {row['campaign']} · {row['ad_group']}",
                mark_of(row, "evidence"),
                figures.count(row["clicks"]),
                figures.count(row["orders"]),
                acos,
                figures.count(from_micro(row["spend"])),
                figures.number(from_micro(row["bid"])) if row["bid"] is not None else "–",
                f"keep: {_KEPT[row['keep_why']]}" if row["keep"] else "pause",
                row["keep"],
                row["place"] == 0,
            )
        )
    return made


def twin_heads(figures: Figures) -> Any:
    """Their heads."""
    return heads(
        "keyword, where",
        "clicks",
        "orders",
        "ACOS %",
        f"spend {figures.symbol}",
        f"bid {figures.symbol}",
        words_head("what to do"),
    )


def bought_twice(rows: pl.DataFrame, figures: Figures, *, told: bool) -> Answer:
    """What is bought in several places, and what that takes; told: it is known which products ad groups hold."""
    groups = rows["group"].n_unique() if len(rows) else 0
    if not groups and not told:
        return Answer("Unknown what is bought twice: which product a keyword sells is told by product ads by day.", "")
    if not groups:
        return Answer("No keyword is bought twice for the same product.", "")
    spent = from_micro(int(rows.filter(~pl.col("keep"))["spend"].sum()))
    return Answer(
        f"{figures.counted(groups, 'keyword')} {'is' if groups == 1 else 'are'} bought in several places for the same"
        " product.",
        f"{figures.money(spent)} went to places other than the one to keep.",
    )


def steered(*, told: bool) -> str:
    """What is said where nothing is hard to steer; told: it is known which products ad groups hold."""
    if told:
        return "Every ad group and campaign can be steered."
    return "No ad group has too many targets, no campaign several match types."


def answer(
    bought: Answer | None,
    faults: pl.DataFrame,
    spread: Sequence[tuple[Mapping[str, str], Sequence[str]]],
    figures: Figures,
    *,
    told: bool,
) -> Answer:
    """What is bought twice (None where that is told later) and what cannot be steered."""
    rest = [bought.rest] if bought is not None and bought.rest else []
    counts = dict(faults.group_by("fault").len().rows()) if len(faults) else {}
    said = [f"{figures.count(counts[key])} with {words}" for key, (words, _) in FAULTS.items() if counts.get(key)]
    if said:
        rest.append(f"Hard to steer: {', '.join(said)}.")
    if spread:
        rest.append(
            f"{figures.counted(len(spread), 'purpose')} {'is' if len(spread) == 1 else 'are'} spread over several"
            " campaigns."
        )
    if bought is not None:
        return Answer(bought.bold, " ".join(rest))
    return Answer(rest[0] if rest else steered(told=told), " ".join(rest[1:]))


@dataclass(frozen=True, slots=True)
class FaultLine:
    """What cannot be steered."""

    campaign: str
    ad_group: str
    fault: str
    count: str
    detail: str


def fault_lines(faults: pl.DataFrame, figures: Figures, most: int = 40) -> list[FaultLine]:
    """The largest of each kind."""
    return [
        FaultLine(
            row["campaign"],
            row["ad_group"],
            FAULTS[row["fault"]][0],
            f"{figures.count(row['count'])} {FAULTS[row['fault']][1]}, {figures.count(row['limit'])}"
            f" {'is' if row['limit'] == 1 else 'are'} usual",
            row["detail"] if len(row["detail"]) < 90 else f"{row['detail'][:88]}…",
        )
        for row in faults.head(most).to_dicts()
    ]


def worded(rows: Sequence[Mapping[str, Any]], offer: Offer | None, figures: Figures) -> Worded:
    """Which of the places is kept, and why."""
    kept = next((row for row in rows if row["keep"]), None)
    if kept is None:
        spent, orders = sum(row["spend"] for row in rows), sum(row["orders"] for row in rows)
        why = (
            f"“{rows[0]['target']}” is bought {len(rows)} times for {rows[0]['main_product']}",
            f"none of them pays: {figures.counted(orders, 'order')} for {figures.micro(spent)}",
        )
        return Worded(offer, f"pause all {figures.count(len(rows))}", why)
    others = [row for row in rows if not row["keep"]]
    where = f"{kept['campaign']} · {kept['ad_group']}"
    reasons = [
        f"“{kept['target']}” is bought {len(rows)} times for {kept['main_product']}",
        f"kept in {where}: {_KEPT[kept['keep_why']]}",
        (
            f"the others made {figures.counted(sum(row['orders'] for row in others), 'order')} for "
            f"{figures.micro(sum(row['spend'] for row in others))}; the same searches reach the one that is kept"
        ),
    ]
    return Worded(offer, f"keep it in {where}, pause {figures.count(len(others))}", tuple(reasons))
