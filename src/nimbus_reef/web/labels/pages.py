"""The list of all that can have a label: products and campaigns, with those they have."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.tables import Field, by_key, choice
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.pairs import pairs
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people import labels
from nimbus_reef.store.people.labels import CAMPAIGN, KINDS, PRODUCT
from nimbus_reef.store.reading import product_frames, setting_frames
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of


@dataclass(frozen=True, slots=True)
class LabelLine:
    """A product or campaign. labels: those it has."""

    key: str
    kind: str
    name: str
    where: str
    labels: tuple[str, ...]


def _rows(ask: Context) -> pl.DataFrame:
    own = labels.of_account(ask.facts.store, ask.account.id)
    text = pl.String
    catalog = product_frames.catalog(ask.facts, ask.account.id)
    products = catalog.select(
        kind=pl.lit(PRODUCT),
        name=pl.col("sku").cast(text),
        where=pl.col("title").cast(text).fill_null(""),
        group=pl.col("category").cast(text),
    )
    settings = setting_frames.campaign_settings(ask.facts, ask.account.id, ask.scope.window)
    campaigns = settings.select(
        kind=pl.lit(CAMPAIGN),
        name=pl.col("campaign").cast(text),
        where=pl.col("format").cast(text).fill_null(""),
        group=pl.col("portfolio").cast(text),
    )
    every = pl.concat([products, campaigns]).sort("kind", "name", descending=[True, False])
    held = {(PRODUCT, name): texts for name, texts in own.products.items()}
    held |= {(CAMPAIGN, name): texts for name, texts in own.campaigns.items()}
    found = [", ".join(held.get(pair, ())) for pair in every.select("kind", "name").rows()]
    return every.with_columns(row_id=pl.concat_str("kind", pl.lit(":"), "name"), labels=pl.Series(found, dtype=text))


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What they are filtered and sorted by."""
    return by_key(
        Field("name", "product, campaign", pl.col("name"), text=True),
        Field("kind", "kind", pl.col("kind"), options=KINDS),
        choice("group", "category, portfolio", pl.col("group"), rows),
        Field("labels", "labels", pl.col("labels"), text=True),
        Field("count", "number of labels", pl.when(pl.col("labels") == "").then(0).otherwise(_COUNT), digits=0),
    )


_COUNT: Final = pl.col("labels").str.count_matches(", ", literal=True) + 1
LIST: Final = ListSpec(
    _rows,
    fields,
    ("name", "where", "group", "labels"),
    file=lambda _, rows: Table("labels", rows.select("kind", "name", "group", "labels"), {}),
)


@dataclass(frozen=True, slots=True)
class LabelsView:
    """Everything that can have a label. known: the labels there are."""

    table: TableView
    known: list[str]


def page(ask: Context) -> LabelsView:
    """The view."""
    of = listed(ask, LIST)
    shown = {key: of.fields[key] for key in ("name", "kind", "group", "labels") if key in of.fields}
    lines = [
        LabelLine(
            row["row_id"],
            row["kind"],
            row["name"],
            " · ".join(filter(None, (row["where"], row["group"]))),
            tuple(filter(None, row["labels"].split(", "))),
        )
        for row in of.found.shown.to_dicts()
    ]
    return LabelsView(
        table_of(
            ask,
            of,
            lines,
            heads_of({key: shown[key] for key in ("name", "kind", "labels")}, of.found.sort, ask.figures, words=_WORDS),
            here=ask.url("labels.index"),
            name="labels",
            things="products and campaigns",
            opens=False,
            picks=ask.writes,
            empty="Load a catalog or campaign settings first." if of.rows.is_empty() else "Nothing matches.",
        ),
        labels.of_account(ask.facts.store, ask.account.id).names,
    )


_WORDS: Final = ("kind", "labels")


def read(ask: Context, text: str) -> list[tuple[str, str, str]]:
    """Kind, name and label of each line of a table with two columns: a SKU or campaign, and its label."""
    known = {name: kind for kind, name in _rows(ask).select("kind", "name").rows()}
    # The first line may be the names of the columns.
    lines = [(number, name, label) for number, name, label in pairs(text) if number > 1 or name in known]
    unknown = [f"line {number}: {name}" for number, name, _ in lines if name not in known]
    if unknown:
        raise BadInput(
            f"{len(unknown)} names are no product or campaign here: {'; '.join(unknown[:5])}. Nothing was labelled.",
            remedy="Write SKUs or campaign names as in the reports.",
        )
    found = [(known[name], name, label) for _, name, label in lines if label]
    if not found:
        raise BadInput("No labels found.", remedy="Use two columns: SKU or campaign, and label.")
    return found
