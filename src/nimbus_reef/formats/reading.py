"""
A file as a whole: what its tables may be, and all that a set of mappings makes of it. Runs in the sandbox only, see
`sandbox`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Final

import polars as pl

from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import files, mapping, mixed, repeats, reports
from nimbus_reef.formats.kinds import PLACEMENT_ADJUSTMENTS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.raw import AS_FOUND, LINE, Layout, Layouts, RawTable, no_problems
from nimbus_reef.formats.reports import Names, Parsed
from nimbus_reef.formats.sheet_summary import SheetSummary, date_orders, days_missing, doubtful
from nimbus_reef.formats.values import DateOrder


def inspect(path: Path, file_name: str, rows: int, layouts: Layouts) -> list[SheetSummary]:
    """The tables of a file by their first rows; BadFile when it cannot be read."""
    return [_look(table, file_name) for table in files.read_tables(path, file_name, rows=rows, layouts=layouts)]


def _look(table: RawTable, file_name: str) -> SheetSummary:
    suggestions = tuple(mapping.suggest_kind(table))
    told_by = mixed.telling_column(table)
    words = tuple(mixed.row_words(table, told_by).items()) if told_by else ()
    return SheetSummary(table, suggestions, mapping.days_told(table, file_name), told_by or "", words)


def _settled_dates(table: RawTable, columns: ColumnMap, file_name: str) -> ColumnMap:
    """The order of day and month that the whole file proves; asks when it proves none."""
    if columns.date_order is not DateOrder.UNKNOWN:
        return columns
    orders = date_orders(table, columns)
    header = doubtful(orders)
    if header is not None:
        raise BadInput(
            f"The dates in “{header}” can be read day-first or month-first.",
            place=file_name,
            remedy="Choose it (in the mapping, or with --dates).",
        )
    proved = next((order for order in orders.values() if order not in (None, DateOrder.UNKNOWN)), None)
    return replace(columns, date_order=proved) if proved else columns


def parse_file(
    path: Path, file_name: str, maps: Sequence[ColumnMap], zone: str, names: Names, currency: str = ""
) -> list[tuple[ColumnMap, Parsed, tuple[str, ...]]]:
    """
    Every kind that the mappings read from a file, each once, with the first mapping of it (dates
    settled) and the headers of its table.

    names: what the store knows ids to stand for; the file's own rows come before it; currency: the account's. BadFile,
    BadInput as `reports.parse` has them.
    """
    found = files.read_tables(path, file_name, layouts={each.sheet: each.layout for each in maps})
    by_key = _ids_told(found, maps)
    known = {name: {**names.get(name, {}), **by_key.get(name, {})} for name in {*names, *by_key}}
    read_already: set[str] = set()
    parsed: list[tuple[ColumnMap, Parsed, RawTable]] = []
    for each in maps:
        table = _table_of(found, each, file_name)
        settled = _settled_dates(table, _checked(each, table, file_name), file_name)
        if settled.needs_days:
            raise days_missing(table, settled, file_name)
        if table.sheet in read_already:
            table = replace(table, problems=no_problems(), notes=())
        read_already.add(table.sheet)
        part = reports.parse(table, settled, file_name, zone, known, currency)
        parsed.append((settled, _as_of_its_last_day(part) if settled.beside else part, table))
    passed_over = [table.sheet for table in found if table.sheet not in read_already]
    return _by_kind(parsed, passed_over)


def _as_of_its_last_day(settings: Parsed) -> Parsed:
    """
    Bids of a performance report: the newest of each target, as of the report's last day. Its rejects are counted with
    the performance rows.
    """
    kind, rows = settings.kind, settings.rows
    frame = (
        rows.filter(pl.any_horizontal(pl.col(name).is_not_null() for name in ("bid", "ad_group_bid")))
        .sort("date", maintain_order=True)
        .unique(kind.key, keep="last", maintain_order=True)
        .with_columns(date=pl.lit(rows["date"].max(), pl.Date))
    )
    return replace(
        settings,
        distinct=reports.distinct_texts(frame, kind),
        rejects=settings.rejects.clear(),
        warnings=("Bids come from this report. A targets report replaces them.",),
    )


def _checked(columns: ColumnMap, table: RawTable, file_name: str) -> ColumnMap:
    try:
        return mapping.checked(columns, table.headers)
    except BadInput as problem:
        problem.place = problem.place or file_name
        raise


def _table_of(found: Sequence[RawTable], columns: ColumnMap, file_name: str) -> RawTable:
    if not columns.sheet and len(found) > 1:
        return max(found, key=lambda table: len(table.frame))
    table = next((each for each in found if each.sheet == columns.sheet or not columns.sheet), None)
    if table is None:
        raise BadFile(
            f"The workbook has no sheet “{columns.sheet}” with rows.",
            place=file_name,
            remedy=f"Choose among {', '.join(each.sheet for each in found) or 'its sheets'}.",
        )
    return table


def _ids_told(found: Sequence[RawTable], maps: Iterable[ColumnMap]) -> dict[str, dict[str, str]]:
    by_key: dict[str, dict[str, str]] = {}
    for each in maps:
        table = next((table for table in found if table.sheet == each.sheet), None)
        if table is None or not set(each.columns.values()) <= set(table.headers):
            continue
        for name, pairs in reports.ids_told(table, each).items():
            by_key.setdefault(name, {}).update(pairs)
    return by_key


def _by_kind(
    parsed: Sequence[tuple[ColumnMap, Parsed, RawTable]], passed_over: Sequence[str]
) -> list[tuple[ColumnMap, Parsed, tuple[str, ...]]]:
    """What several mappings made of one kind together, each row once; adjustments into their campaigns."""
    groups: dict[str, list[tuple[ColumnMap, Parsed, RawTable]]] = {}
    for part in parsed:
        groups.setdefault(part[1].kind.name, []).append(part)
    adjustments = groups.pop(PLACEMENT_ADJUSTMENTS.name, [])
    notes = (f"Sheets that were not read: {', '.join(passed_over)}.",) if passed_over else ()
    found = []
    for number, parts in enumerate(groups.values()):
        first, table = parts[0][0], parts[0][2]
        whole = _together([part for _, part, _ in parts])
        if whole.kind.name == "campaigns":
            whole = _adjusted(whole, [part for _, part, _ in adjustments])
        if notes and number == 0:
            whole = replace(whole, warnings=(*whole.warnings, *notes))
        found.append((first, whole, table.source_headers))
    if not found:
        raise BadInput(
            "Adjustments of placements alone are not a report.", remedy="Read the campaigns' settings beside them."
        )
    return found


def _together(parts: Sequence[Parsed]) -> Parsed:
    if len(parts) == 1:
        return parts[0]
    kind = parts[0].kind
    rows, _ = repeats.combined(reports.distinct_texts(pl.concat([part.rows for part in parts]), kind), kind)
    return Parsed(
        kind,
        rows,
        pl.concat([part.rejects for part in parts]),
        tuple(dict.fromkeys(warning for part in parts for warning in part.warnings)),
        sum(part.read for part in parts),
    )


_ADJUSTED: Final = {
    "top_of_search": "adj_top_of_search",
    "product_page": "adj_product_page",
    "elsewhere_in_search": "adj_elsewhere",
}


def _adjusted(campaigns: Parsed, adjustments: Sequence[Parsed]) -> Parsed:
    """Campaigns' settings with the adjustments that rows of their own tell."""
    rows = campaigns.rows
    for part in adjustments:
        for placement, column in _ADJUSTED.items():
            own = part.rows.filter(pl.col("placement") == placement).select(
                "campaign", pl.col("adjustment").alias("_told")
            )
            frame = own.unique("campaign", keep="last", maintain_order=True)
            rows = (
                rows.join(frame, on="campaign", how="left", maintain_order="left")
                .with_columns(pl.coalesce("_told", column).alias(column))
                .drop("_told")
            )
    return replace(campaigns, distinct=reports.distinct_texts(rows, campaigns.kind))


def whole_table(path: Path, file_name: str, sheet: str = "", layout: Layout = AS_FOUND) -> RawTable:
    """One table of a file as it stands, all of its rows."""
    return files.read_table(path, file_name, sheet=sheet, layout=layout)


def to_mend(
    path: Path,
    file_name: str,
    problems: Sequence[tuple[int, str, str, str]],
    sheet: str = "",
    layout: Layout = AS_FOUND,
) -> pl.DataFrame:
    """
    The table as it stands with a last column `problem`, rows that were turned away first.

    All of it, since a file replaces the days it covers: the mended rows alone would take
    the place of the good ones. problems: line, column, value, reason.
    """
    table = whole_table(path, file_name, sheet, layout)
    rows = pl.DataFrame(
        {"line": [row[0] for row in problems], "problem": [f"{row[1]} {row[3]}".strip() for row in problems]},
        schema={"line": pl.Int64, "problem": pl.String},
    )
    per_line = rows.group_by("line", maintain_order=True).agg(pl.col("problem").str.join("; "))
    frame = table.frame.with_columns(pl.col(LINE).cast(pl.Int64))
    # Lines that are not rows stand whole in the first column, to be cut into cells by hand.
    lines = table.problems.select(
        pl.col("value").alias(table.headers[0]),
        *(pl.lit("").alias(name) for name in table.headers[1:]),
        pl.col("line").alias(LINE),
    )
    return (
        pl.concat([frame.select(*table.headers, LINE), lines])
        .join(per_line, left_on=LINE, right_on="line", how="left", maintain_order="left")
        .sort(pl.col("problem").is_null(), maintain_order=True)
        .drop(LINE)
    )
