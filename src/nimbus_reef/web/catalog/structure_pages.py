"""Structure as its page shows it: what cannot be steered, and purposes spread out."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.catalog import files, structure
from nimbus_reef.analysis.tables import Field, by_key
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of

FAULTS: Final[Mapping[str, tuple[str, str]]] = {
    "crowded": ("too many targets to steer", "targets"),
    "mixed": ("several match types in one campaign", "match types"),
    "unlike": ("products of different families", "families"),
}


def steered(*, products_known: bool) -> str:
    """What is said where nothing is hard to steer; products_known: it is known which products ad groups hold."""
    if products_known:
        return "Structure is clean."
    return "No ad group has too many targets. No campaign mixes match types."


def answer(
    faults: pl.DataFrame,
    spread: Sequence[tuple[Mapping[str, str], Sequence[str]]],
    figures: Figures,
    *,
    products_known: bool,
) -> Answer:
    """What cannot be steered."""
    counts = dict(faults.group_by("fault").len().rows()) if len(faults) else {}
    texts = [f"{figures.count(counts[key])} with {words}" for key, (words, _) in FAULTS.items() if counts.get(key)]
    told = [f"Hard to steer: {', '.join(texts)}."] if texts else []
    if spread:
        told.append(
            f"{figures.counted(len(spread), 'purpose')} {'is' if len(spread) == 1 else 'are'} spread over several"
            " campaigns."
        )
    return Answer(told[0] if told else steered(products_known=products_known), " ".join(told[1:]))


def fields() -> Mapping[str, Field]:
    """What they are filtered and sorted by."""
    return by_key(
        Field("name", "where", pl.col("campaign"), text=True),
        Field("fault", "what", pl.col("what"), options=tuple(words for words, _ in FAULTS.values())),
        Field("count", "how many", pl.col("count"), digits=0),
        Field("detail", "which", pl.col("detail"), text=True),
    )


def _rows(ask: Context) -> pl.DataFrame:
    called = {key: words for key, (words, _) in FAULTS.items()}
    return structure.faults(ask.facts, ask.selection).with_columns(
        row_id=pl.concat_str("fault", "campaign", "ad_group", separator=":"),
        what=pl.col("fault").replace_strict(called, return_dtype=pl.String),
    )


LIST: Final = ListSpec(
    _rows,
    lambda _ask, _rows: fields(),
    ("campaign", "ad_group", "detail"),
    file=lambda _, rows: files.faults_table(rows),
)


@dataclass(frozen=True, slots=True)
class FaultLine:
    """What cannot be steered."""

    key: str
    campaign: str
    ad_group: str
    fault: str
    count: str
    detail: str


def fault_lines(faults: pl.DataFrame, figures: Figures) -> list[FaultLine]:
    """As they are sorted."""
    return [
        FaultLine(
            row["row_id"],
            row["campaign"],
            row["ad_group"],
            row["what"],
            f"{figures.count(row['count'])} {FAULTS[row['fault']][1]}, {figures.count(row['limit'])}"
            f" {'is' if row['limit'] == 1 else 'are'} usual",
            row["detail"] if len(row["detail"]) < 90 else f"{row['detail'][:88]}…",
        )
        for row in faults.to_dicts()
    ]


@dataclass(frozen=True, slots=True)
class StructureView:
    """What cannot be steered. spread: purposes in several campaigns, by the naming pattern; products_known: whether
    settings are held.
    """

    answer: Answer
    products_known: bool
    spread: Sequence[tuple[Mapping[str, str], Sequence[str]]]
    patterned: bool
    table: TableView


def page(ask: Context) -> StructureView:
    """The view."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    of, spread = listed(ask, LIST), structure.spread(facts, selection)
    known = structure.products_known(facts, selection)
    return StructureView(
        answer(of.rows, spread, figures, products_known=known),
        known,
        spread,
        bool(ask.account.naming),
        table_of(
            ask,
            of,
            fault_lines(of.found.shown, figures),
            heads_of(of.fields, of.found.sort, figures, words=("fault", "count", "detail")),
            here=ask.url("catalog.view", name="structure"),
            name="faults",
            things="places",
            opens=False,
            empty=steered(products_known=known) if of.rows.is_empty() else "Nothing matches.",
        ),
    )
