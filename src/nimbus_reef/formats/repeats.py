"""Rows that repeat the key of another, put together."""

from __future__ import annotations

import polars as pl

from nimbus_reef.formats.contract import CellKind, Column, ReportKind
from nimbus_reef.formats.raw import LINE


def combined(rows: pl.DataFrame, kind: ReportKind) -> tuple[pl.DataFrame, int]:
    """One row per key: measures summed, settings the last, shares and ranks by impressions."""
    days = (
        [kind.day_column, "first_day"] if kind.takes_blocks else [kind.day_column] if kind.day_column else []
    )
    key = list(dict.fromkeys((*days, *kind.key, "account")))
    names = [column.name for column in kind.columns if column.name in rows.columns]
    if kind.takes_blocks:
        names.append("first_day")
    if not rows.select(key).is_duplicated().any():
        return rows.select(names), 0
    rest = [column for column in kind.columns if column.name in names and column.name not in key]
    in_order = rows.sort(LINE) if LINE in rows.columns else rows
    whole = (
        in_order.group_by(key, maintain_order=True)
        .agg(*(_combining(column) for column in rest))
        .select(names)
    )
    return whole, len(rows) - len(whole)


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
