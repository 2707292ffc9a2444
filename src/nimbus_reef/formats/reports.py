"""
A mapped file to typed rows of one report kind, with the problems of every row.

Parsing is pure: the same table and mapping give the same rows, whatever the order of
the lines, and a file cut in two gives together what it gives whole.
"""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from nimbus_reef.core.model import MICRO
from nimbus_reef.errors import BadFile
from nimbus_reef.formats import values
from nimbus_reef.formats.contract import Column, Holds, ReportKind
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.tables import LINE, RawTable, plain_cell

MAX_REJECTED = 0.05
_TOTAL_WORDS = r"(?i)^\s*(grand\s+)?(total|totals|sum|summe|gesamt|gesamtsumme|totale|suma|result)\b"
_MOST_REASONS = 3
_MOST_UNUSED = 6


@dataclass(frozen=True, slots=True)
class Parsed:
    """
    What a file says.

    rows: the contract's columns, one row per key, money in micro-units (int64), counts
    int64, shares float64, dates date, all else text; columns not in the file are null.
    rejects: line, column, value, reason. sums: each measure over `rows`. warnings: sentences.
    """

    kind: ReportKind
    rows: pl.DataFrame
    rejects: pl.DataFrame
    warnings: tuple[str, ...]
    read: int

    @property
    def sums(self) -> dict[str, int]:
        """The total of each column that adds up, money in micro-units."""
        return {name: int(self.rows[name].sum()) for name in self.kind.summed}


def parse(table: RawTable, mapping: ColumnMap, file_name: str, zone: str = "UTC") -> Parsed:
    """
    Reads the mapped columns; raises BadFile when over 5 % of the data rows are rejected.

    zone: the account's, in which times without an offset are.
    """
    kind = KINDS[mapping.kind]
    warnings = [*table.notes, *_unused(table, mapping)]
    frame = _own_names(table, kind, mapping)
    frame, dropped = _without_totals(frame, kind, mapping)
    if dropped:
        warnings.append(f"{dropped} totals line(s) were left out.")
    frame, twins = _without_twins(frame, table)
    if twins:
        warnings.append(f"{twins} line(s) identical in every column count once.")
    read = len(frame)
    if not read:
        raise BadFile("There is no row of data.", place=file_name, remedy="Check the report's range of days.")
    style = _file_style(frame, kind, mapping)
    typed, rejects = _typed(frame, kind, _Reading(mapping.date_order, style, zone))
    bad_lines = rejects["line"].n_unique()
    if bad_lines > MAX_REJECTED * read:
        raise BadFile(
            f"{bad_lines:,} of {read:,} rows cannot be read ({_main_reasons(rejects)}); nothing was loaded.",
            place=file_name,
            remedy="Check the mapping of those columns, or mend the file and load it again.",
        )
    warnings.extend(_oddities(typed))
    rows, repeats = _combined(typed, kind)
    if repeats:
        warnings.append(f"{repeats} row(s) repeat the key of another; their measures were added up.")
    return Parsed(kind, rows, rejects, tuple(warnings), read)


def _unused(table: RawTable, mapping: ColumnMap) -> list[str]:
    """Says which columns of the file are left out, so that nothing is lost unseen."""
    left = [header for header in table.headers if header not in mapping.columns.values()]
    if not left:
        return []
    named = ", ".join(left[:_MOST_UNUSED])
    more = f" and {len(left) - _MOST_UNUSED} more" if len(left) > _MOST_UNUSED else ""
    return [f"Columns of the file that are not used: {named}{more}."]


def _own_names(table: RawTable, kind: ReportKind, mapping: ColumnMap) -> pl.DataFrame:
    """The mapped columns under the contract's names, trimmed, unmapped ones blank."""
    columns = [
        pl.lit("").alias(column.name)
        if (header := mapping.columns.get(column.name)) is None
        else pl.col(header).fill_null("").str.strip_chars().alias(column.name)
        for column in kind.columns
    ]
    return table.frame.select(LINE, *columns)


def _without_totals(frame: pl.DataFrame, kind: ReportKind, mapping: ColumnMap) -> tuple[pl.DataFrame, int]:
    """Drops lines that sum up the others: “Total” in a text cell, or figures without any key."""
    texts = [c.name for c in kind.columns if c.holds is Holds.TEXT and c.name in mapping.columns]
    days = [name for name in (kind.day_column,) if name and name in mapping.columns]
    keys = [n for n in dict.fromkeys((*days, *kind.key)) if n in mapping.columns and kind.column(n).required]
    nothing = [values.empty(frame[name]) for name in keys]
    unkeyed, lacks_key = nothing[0], nothing[0]
    for each in nothing[1:]:
        unkeyed, lacks_key = unkeyed & each, lacks_key | each
    suspect = lacks_key | _says_total(frame[days[0]]) if days else lacks_key
    if not suspect.any():
        return frame, 0
    says_total = suspect & False
    for name in (*texts, *days):
        says_total = says_total | _says_total(frame[name])
    total = unkeyed | (says_total & suspect)
    return frame.filter(~total), int(total.sum())


def _says_total(cells: pl.Series) -> pl.Series:
    """True where a cell begins as a totals line does; each distinct text is looked at once."""
    distinct = cells.unique()
    return cells.is_in(distinct.filter(distinct.str.contains(_TOTAL_WORDS)).implode())


def _without_twins(frame: pl.DataFrame, table: RawTable) -> tuple[pl.DataFrame, int]:
    """Lines identical in every column of the file, unmapped ones included, count once."""
    if not table.frame.drop(LINE).hash_rows().is_duplicated().any():
        return frame, 0
    first = table.frame.select(
        pl.col(LINE), ~pl.struct(pl.exclude(LINE)).is_first_distinct().alias("twin")
    ).filter(pl.col("twin"))
    kept = frame.join(first, on=LINE, how="anti", maintain_order="left")
    return kept, len(frame) - len(kept)


def _file_style(frame: pl.DataFrame, kind: ReportKind, mapping: ColumnMap) -> values.Style:
    """Decimal point or comma, by what the whole file's money and shares prove."""
    votes = [
        values.style_votes(frame[column.name])
        for column in kind.columns
        if column.holds in (Holds.MONEY, Holds.SHARE, Holds.PERCENT) and column.name in mapping.columns
    ]
    comma, dot = sum(v.comma for v in votes), sum(v.dot for v in votes)
    return values.Style.COMMA if comma > dot else values.Style.DOT


@dataclass(frozen=True, slots=True)
class _Reading:
    """How a file's dates, figures and times are to be read."""

    order: values.DateOrder
    style: values.Style
    zone: str


def _typed(frame: pl.DataFrame, kind: ReportKind, reading: _Reading) -> tuple[pl.DataFrame, pl.DataFrame]:
    typed, rejects = [frame[LINE]], []
    bad = pl.Series([False], dtype=pl.Boolean).new_from_index(0, len(frame))
    for column in kind.columns:
        cells = frame[column.name]
        value, reason = _column(cells, column, reading)
        failed = reason.is_not_null()
        if failed.any():
            rejects.append(
                pl.DataFrame([frame[LINE].alias("line"), cells.alias("value"), reason.alias("reason")])
                .filter(failed)
                .select("line", pl.lit(column.name).alias("column"), "value", "reason")
            )
            bad = bad | failed
        typed.append(value.alias(column.name))
    problems = pl.concat(rejects).sort("line", maintain_order=True) if rejects else _no_rejects()
    return pl.DataFrame(typed).filter(~bad), problems


def _no_rejects() -> pl.DataFrame:
    return pl.DataFrame(
        schema={"line": pl.Int64, "column": pl.String, "value": pl.String, "reason": pl.String}
    )


def _column(cells: pl.Series, column: Column, reading: _Reading) -> tuple[pl.Series, pl.Series]:
    """The typed cells of one column, and for each cell that fails the reason."""
    match column.holds:
        case Holds.TEXT:
            # A name may be a dash or “null”; only white space is nothing.
            if cells.str.starts_with("'").any():
                cells = cells.map_elements(plain_cell, return_dtype=pl.String)
            value, wrong = _when(cells != "", cells), ""
        case Holds.DATE | Holds.WEEK | Holds.MONTH | Holds.TIME:
            value = dated(cells, column.holds, reading.order, reading.zone)
            wrong = f"is no {column.holds} that can be read"
        case Holds.CHOICE:
            value = values.choices(cells, column.aliases)
            wrong = f"is none of {', '.join(sorted(set(column.aliases.values())))}"
        case _:
            value, wrong = _number(cells, column, reading.style), "is no number that can be read"
    unread = value.is_null()
    reason = pl.Series("reason", [None], dtype=pl.String).new_from_index(0, len(cells))
    if unread.any():
        # What says nothing is nothing; only the cells that gave no value have to be looked at.
        blank = (cells == "") if column.holds is Holds.TEXT else values.empty(cells)
        missing = "is missing" if column.required and not column.summed else None
        reason = pl.select(
            pl.when(pl.lit(unread & blank)).then(pl.lit(missing, pl.String))
            .when(pl.lit(unread)).then(pl.lit(wrong)).otherwise(None).alias("reason")
        ).to_series()  # fmt: skip
        if column.summed:
            value = _when(~(unread & blank), value, 0)
    return _ranged(value, reason, column)


def dated(cells: pl.Series, holds: Holds, order: values.DateOrder, zone: str) -> pl.Series:
    """Cells that place something in time, as dates; times as datetimes in the zone."""
    match holds:
        case Holds.WEEK:
            return values.weeks(cells, order)
        case Holds.MONTH:
            return values.months(cells, order)
        case Holds.TIME:
            return values.times(cells, zone)
    return values.dates(cells, order)


def _when(condition: pl.Series, value: pl.Series, other: int | None = None) -> pl.Series:
    return pl.select(pl.when(pl.lit(condition)).then(pl.lit(value)).otherwise(other)).to_series()


def _number(cells: pl.Series, column: Column, style: values.Style) -> pl.Series:
    if column.holds is Holds.COUNT:
        style = values.counts_style(cells, style)
    value = values.numbers(cells, style)
    if column.holds is Holds.COUNT:
        whole = value == value.floor()
        return _when(whole, value).cast(pl.Int64)
    if column.holds is Holds.MONEY:
        return (value * MICRO).round().cast(pl.Int64, strict=False)
    if column.holds is Holds.SHARE:
        return _when(~values.percent_signs(cells), value).fill_null(value / 100)
    return value


def _ranged(value: pl.Series, reason: pl.Series, column: Column) -> tuple[pl.Series, pl.Series]:
    """Turns away figures no such column can hold."""
    if column.holds in (Holds.COUNT, Holds.MONEY, Holds.RANK, Holds.NUMBER):
        outside, why = value < 0, "is negative"
        if column.most is not None:
            outside, why = outside | (value > column.most), f"is not between 0 and {column.most:g}"
    elif column.holds is Holds.SHARE:
        outside, why = (value < 0) | (value > 1), "is no share between 0 and 1 (or 0 % and 100 %)"
    else:
        return value, reason
    outside = outside.fill_null(False)
    if not outside.any():
        return value, reason
    marked = pl.select(pl.when(pl.lit(outside)).then(pl.lit(why)).otherwise(pl.lit(reason))).to_series()
    return value, marked


def _main_reasons(rejects: pl.DataFrame) -> str:
    counts = (
        rejects.group_by("column", "reason")
        .agg(pl.len(), pl.col("value").first(), pl.col("line").min())
        .sort("len", "column", descending=[True, False])
        .head(_MOST_REASONS)
    )
    return "; ".join(
        f"{row['column']} {row['reason']} in {row['len']:,}, first on line {row['line']}"
        f"{': “' + row['value'] + '”' if row['value'] else ''}"
        for row in counts.to_dicts()
    )


def _oddities(rows: pl.DataFrame) -> list[str]:
    """What is possible but rare enough to be told."""
    if "clicks" not in rows.columns:
        return []
    more_clicks = int((rows["clicks"] > rows["impressions"]).sum())
    no_clicks = int(((rows["orders"] > 0) & (rows["clicks"] == 0)).sum())
    said = []
    if more_clicks:
        said.append(f"{more_clicks} row(s) have more clicks than impressions.")
    if no_clicks:
        said.append(f"{no_clicks} row(s) have orders without a click (seen, not clicked).")
    return said


def _combined(rows: pl.DataFrame, kind: ReportKind) -> tuple[pl.DataFrame, int]:
    """One row per key: measures summed, settings the last, shares and ranks by impressions."""
    key = list(dict.fromkeys((*([kind.day_column] if kind.day_column else []), *kind.key, "account")))
    if not rows.select(key).is_duplicated().any():
        return rows.drop(LINE), 0
    rest = [column for column in kind.columns if column.name not in key]
    combined = (
        rows.sort(LINE)
        .group_by(key, maintain_order=True)
        .agg(*(_combining(column) for column in rest))
        .select([column.name for column in kind.columns])
    )
    return combined, len(rows) - len(combined)


def _combining(column: Column) -> pl.Expr:
    cell = pl.col(column.name)
    if column.summed:
        return cell.sum()
    if column.holds is Holds.SHARE:
        return combined_share(column.name)
    if column.holds is Holds.RANK:
        return combined_rank(column.name)
    return cell.drop_nulls().last()


def combined_share(column: str) -> pl.Expr:
    """Σimp ÷ Σ(imp ÷ share), over the rows that have a share above 0."""
    known = pl.col(column) > 0
    shown = pl.col("impressions").filter(known)
    return (shown.sum() / (shown / pl.col(column).filter(known)).sum()).fill_nan(None).alias(column)


def combined_rank(column: str) -> pl.Expr:
    """The mean rank weighted by impressions, over the rows that have one."""
    known = pl.col(column).is_not_null()
    shown = pl.col("impressions").filter(known)
    return ((shown * pl.col(column).filter(known)).sum() / shown.sum()).fill_nan(None).alias(column)
