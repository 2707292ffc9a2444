"""Which judged rows the plan changes already."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.tables import NO, YES
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.store.people.plans import Planned

_NAMED: Final = ("campaign", "ad_group", "match_type")


def marked(rows: pl.DataFrame, subject: Subject, planned: Sequence[Planned]) -> pl.DataFrame:
    """
    Judged rows with `planned`: YES where the plan changes the target, keeps the search term away, or does either to
    what a phrase stands for; else NO.
    """
    if subject is Subject.PHRASE:
        ids = [each.promise.row_id for each in planned if each.promise.view == "words"]
        return _with(rows, pl.col("row_id").is_in(ids))
    entity = Entity.TARGET if subject is Subject.TARGET else Entity.NEGATIVE
    own = [each for each in planned if each.change.entity is entity]
    if not own:
        others = [each.promise.row_id for each in planned if subject is Subject.TERM and each.promise.view == "terms"]
        return _with(rows, pl.col("row_id").is_in(others))
    keys = pl.DataFrame(
        [(each.change.campaign, each.change.ad_group, each.change.match_type, each.change.target) for each in own],
        schema={**dict.fromkeys(_NAMED, pl.String), "named": pl.String},
        orient="row",
    ).unique()
    on = [*_NAMED, "named"] if subject is Subject.TARGET else ["campaign", "ad_group", "named"]
    name = "target" if subject is Subject.TARGET else "term"
    texts = rows.select("row_id", pl.col(_NAMED).cast(pl.String), pl.col(name).cast(pl.String).alias("named"))
    entries = set(texts.join(keys, on=on, how="semi")["row_id"])
    entries |= {each.promise.row_id for each in planned if subject is Subject.TERM and each.promise.view == "terms"}
    return _with(rows, pl.col("row_id").is_in(list(entries)))


def _with(rows: pl.DataFrame, expression: pl.Expr) -> pl.DataFrame:
    return rows.with_columns(planned=pl.when(expression).then(pl.lit(YES)).otherwise(pl.lit(NO)))
