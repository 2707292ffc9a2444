"""
Structure as its page shows it: keywords bought twice with the one to keep, what cannot be steered,
purposes spread out.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import tables
from nimbus_reef.analysis.catalog import structure
from nimbus_reef.analysis.judged import Judged, is_judged
from nimbus_reef.core.model import from_micro
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.tables import TableView, heads, words_head
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


@dataclass(frozen=True, slots=True)
class StructureView:
    """
    How the account is built. bought: what is bought in several places, where that is judged already; table: these
    keywords; told: whether settings are held.
    """

    answer: Answer
    faults: Any
    steered: Any
    told: bool
    faults_more: int
    spread: Any
    patterned: bool
    table: TableView | None


def page(ask: Context) -> StructureView:
    """The view; which keywords are bought twice follows where targets have to be judged first."""
    facts, look, figures = ask.facts, ask.look, ask.figures
    faults, spread, told = structure.faults(facts, look), structure.spread(facts, look), structure.told(facts, look)
    known = is_judged(facts, look, Judged.TARGETS)
    return StructureView(
        answer(duplicates_answer(ask) if known else None, faults, spread, figures, told=told),
        fault_lines(faults, figures),
        steered(told=told),
        told,
        max(0, len(faults) - 40),
        spread[:20],
        bool(ask.account.naming),
        twin_table(ask) if known else None,
    )


def duplicates_answer(ask: Context) -> Answer:
    """What keywords are bought in several places."""
    rows = structure.duplicates(ask.facts, ask.look)
    return bought_twice(rows, ask.figures, told=structure.told(ask.facts, ask.look))


def twin_table(ask: Context) -> TableView:
    """Keywords that are bought in several places."""
    rows = structure.duplicates(ask.facts, ask.look)
    page, of = tables.page_of(len(rows), ask.scope.page)
    shown = rows.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS)
    return TableView(
        here=ask.url("catalog.view", name="structure"),
        name="twins",
        heads=twin_heads(ask.figures),
        groups={"": twin_lines(shown, ask.figures)},
        page=page,
        pages=of,
        picks=True,
        things="keywords",
        empty="No keyword is known to be bought twice.",
    )


def drawer(ask: Context, group: str) -> Drawer:
    """A keyword that is bought in several places, and which of them is kept."""
    figures, rows = ask.figures, structure.twins(ask.facts, ask.look, group)
    spent, orders = sum(row["spend"] for row in rows), sum(row["orders"] for row in rows)
    return Drawer(
        group,
        rows[0]["target"],
        f"{rows[0]['match_type']} · for {rows[0]['main_product']}",
        f"Bought in {figures.counted(len(rows), 'place')}.",
        f"{figures.micro(spent)} for {figures.counted(orders, 'order')} in all.",
        offered(ask, structure.proposal(ask.facts, ask.look, rows)),
        siblings=tuple(
            (
                mark_of(row, "evidence"),
                f"{row['campaign']} · {row['ad_group']}",
                f"{figures.counted(row['clicks'], 'click')}, {figures.counted(row['orders'], 'order')}"
                + (", kept" if row["keep"] else ""),
                figures.micro(row["spend"]),
            )
            for row in rows
        ),
    )
