"""Rows that repeat the key of another, put together."""

from __future__ import annotations

from dataclasses import replace

import polars as pl

from nimbus_reef.formats.contract import SPAN_COLUMNS, CellKind, Column, ReportKind
from nimbus_reef.formats.distinct_texts import DistinctTexts, distinct
from nimbus_reef.formats.raw import LINE


def columns_of(kind: ReportKind) -> list[str]:
    """The columns of parsed rows, in the contract's order; spans are told by `date` and `first_day` in the end."""
    if not kind.takes_blocks:
        return [column.name for column in kind.columns]
    return [*(column.name for column in kind.columns if column.name not in SPAN_COLUMNS), "first_day"]


def combined(distinct_texts: DistinctTexts, kind: ReportKind) -> tuple[DistinctTexts, int]:
    """One row per key: measures summed, settings the last, shares and ranks by impressions."""
    days = [kind.day_column, "first_day"] if kind.takes_blocks else [kind.day_column] if kind.day_column else []
    key = list(dict.fromkeys((*days, *kind.key, "account")))
    names, texts = columns_of(kind), distinct_texts.distinct.columns
    alike = distinct_texts.same([name for name in key if name in texts])
    keyed = pl.DataFrame([alike, *(distinct_texts.rows[name] for name in key if name not in texts)])
    # Most files repeat none; hashes tell that at once.
    if keyed.hash_rows().n_unique() == len(keyed) or not keyed.is_duplicated().any():
        return replace(distinct_texts, rows=distinct_texts.rows.drop(LINE, strict=False)), 0
    rows = distinct_texts.whole
    rest = [column for column in kind.columns if column.name in names and column.name not in key]
    in_order = rows.sort(LINE) if LINE in rows.columns else rows
    whole = in_order.group_by(key, maintain_order=True).agg(*(_combining(column) for column in rest)).select(names)
    return distinct(whole, texts), len(rows) - len(whole)


def _combining(column: Column) -> pl.Expr:
    cell = pl.col(column.name)
    if column.summed:
        return cell.sum()
    if column.holds is CellKind.SHARE:
        return _share(column.name)
    if column.holds is CellKind.RANK:
        return _rank(column.name)
    return cell.drop_nulls().last()


def _share(column: str) -> pl.Expr:
    """Σimp ÷ Σ(imp ÷ share), over the rows that have a share above 0."""
    known = pl.col(column) > 0
    shown = pl.col("impressions").filter(known)
    return (shown.sum() / (shown / pl.col(column).filter(known)).sum()).fill_nan(None).alias(column)


def _rank(column: str) -> pl.Expr:
    """The mean rank weighted by impressions, over the rows that have one."""
    known = pl.col(column).is_not_null()
    shown = pl.col("impressions").filter(known)
    return ((shown * pl.col(column).filter(known)).sum() / shown.sum()).fill_nan(None).alias(column)
