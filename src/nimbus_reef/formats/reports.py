"""
A mapped table to typed rows of one report kind, with the problems of every row.

Parsing is pure: the same table and mapping give the same rows, whatever the order of
the lines, and a file cut in two gives together what it gives whole.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import cell_types, currencies, mixed, repeats, values
from nimbus_reef.formats.contract import SPAN_COLUMNS, CellKind, Column, ReportKind
from nimbus_reef.formats.distinct_texts import COMBINATION, DistinctTexts, distinct
from nimbus_reef.formats.kinds import READ_KINDS
from nimbus_reef.formats.mapping import NAMED_BY_ID, ColumnMap
from nimbus_reef.formats.raw import LINE, RawTable
from nimbus_reef.formats.tables import plain_cell
from nimbus_reef.formats.values import Style, Votes

MAX_REJECTED = 0.05
_MOST_REASONS = 3
_MOST_UNUSED = 6
_MOST_WORDS = 6

Names = Mapping[str, Mapping[str, str]]
"""Column of a name (campaign, ad_group, target, match_type) → id as a file writes it → name."""


@dataclass(frozen=True, slots=True)
class Parsed:
    """
    What a file says.

    distinct: the contract's columns, one row per key, money in micro-units (int64), counts
    int64, shares float64, dates date, all else text; columns not in the file are null. Kinds that
    take blocks have `first_day` besides, which is `date` itself where a row is one day.
    rejects: line, column, value, reason. sums: each measure over the rows. warnings: sentences.
    """

    kind: ReportKind
    distinct: DistinctTexts
    rejects: pl.DataFrame
    warnings: tuple[str, ...]
    read: int

    @property
    def rows(self) -> pl.DataFrame:
        """All columns together, in the contract's order."""
        return self.distinct.whole.select(repeats.columns_of(self.kind))

    @property
    def sums(self) -> dict[str, int]:
        """The total of each column that adds up, money in micro-units."""
        return {name: int(self.distinct.rows[name].sum()) for name in self.kind.summed}


def parse(
    table: RawTable,
    mapping: ColumnMap,
    file_name: str,
    zone: str = "UTC",
    names: Names | None = None,
    currency: str = "",
) -> Parsed:
    """
    Reads the mapped columns; raises BadFile when over 5 % of the data rows are rejected, BadInput
    where the file leaves open which decimal sign it has or what its words mean.

    zone: the account's, in which times without an offset are. names: what ids stand for, for rows
    that have only an id. currency: the account's, which the file's money has to be in or to be converted to; any where
    empty.
    """
    kind = READ_KINDS[mapping.kind]
    warnings = [*table.notes, *_unused(table, mapping)]
    converted = currencies.must_be_own(table, mapping, currency, _place(file_name, table))
    if converted:
        warnings.append(converted)
    _must_be_known(table, mapping, kind, file_name)
    warnings += [
        f"The file has no {name.replace('_', ' ')}: all its rows are read as {word}."
        for name, word in mapping.assumes().items()
    ]
    if mapping.told_by:
        table = mixed.rows_of(table, mapping.told_by, mapping.only)
    cells = _named_by_id(_own_names(table, kind, mapping), kind, names or {})
    cells, dropped = _without_totals(cells, kind, mapping)
    if dropped:
        warnings.append(f"{dropped} totals line(s) were left out.")
    cells, twins = _without_twins(cells, table, kind)
    if twins:
        warnings.append(f"{twins} line(s) identical in every column count once.")
    read = len(cells) + len(table.problems)
    if not len(cells):
        raise _nothing_left(table, file_name)
    style = _settled_style(table, mapping, file_name, cells)
    _ask_about_words(cells, kind, mapping, file_name)
    typed, rejects = cell_types.typed(cells, kind, cell_types.CellReading(mapping, style, zone, table.numeric))
    rejects = pl.concat([table.problems, rejects])
    bad_lines = rejects["line"].n_unique()
    if bad_lines > MAX_REJECTED * read:
        raise BadFile(
            f"{bad_lines:,} of {read:,} rows cannot be read ({_main_reasons(rejects)}); nothing was loaded.",
            place=_place(file_name, table),
            remedy="Check the mapping of these columns, or fix the file and load it again.",
        )
    warnings.extend(_oddities(typed.rows))
    if kind.takes_blocks:
        typed, joined = _whole_spans(typed, kind, _place(file_name, table))
        warnings.extend(joined)
    rows, added_up = repeats.combined(typed, kind)
    if added_up:
        warnings.append(f"{added_up} row(s) repeat the key of another; their measures were added up.")
    _must_fit(rows.rows, kind, _place(file_name, table))
    return Parsed(kind, rows, rejects, tuple(warnings), read)


MOST_SUM: Final = 2**63 - 1
"""What all the money of a file can add up to, in micro-units: as much as its column holds."""


def _must_fit(rows: pl.DataFrame, kind: ReportKind, place: str) -> None:
    """BadFile where what a file adds up to is more than can be held."""
    for column in kind.columns:
        if not column.summed:
            continue
        money = column.holds is CellKind.MONEY
        most = MOST_SUM if money else cell_types.MOST_COUNTED
        total = rows[column.name].cast(pl.Float64)
        if (float(total.sum()) if money else float(total.max() or 0)) > most:  # type: ignore[arg-type]
            raise BadFile(
                f"The {column.name.replace('_', ' ')} of the file adds up to more than can be stored.",
                place=place,
                remedy="Look for an impossible figure, fix it, and load the file again.",
            )


_FOLLOWS: Final = {
    "clicks": "impressions",
    "spend": "clicks",
    "orders": "clicks",
    "sales": "orders",
    "total_sales": "total_orders",
}
"""Where there is nothing of the second there is nothing of the first, said or not."""


def _is_blank(table: RawTable, header: str) -> bool:
    cells = values.trimmed(table.frame[header])
    return bool(len(cells)) and bool((values.empty(cells) | cells.str.contains(values.NOT_KNOWN)).all())


def _is_nought(table: RawTable, header: str | None) -> bool:
    if header is None:
        return False
    cells = values.trimmed(table.frame[header])
    return bool((values.empty(cells) | cells.str.contains(r"^0([.,]0+)?$")).all())


def _must_be_known(table: RawTable, mapping: ColumnMap, kind: ReportKind, file_name: str) -> None:
    """
    BadFile where a measure that is needed is blank in every row: a report that could not be computed is not one of
    noughts.
    """
    for column in kind.columns:
        header = mapping.columns.get(column.name)
        if header is None or not (column.summed and column.required):
            continue
        if _is_blank(table, header) and not _is_nought(table, mapping.columns.get(_FOLLOWS.get(column.name, ""))):
            raise BadFile(
                f"The column “{header}” is blank in every row, so {column.name.replace('_', ' ')} are not known;"
                " nothing was loaded.",
                place=_place(file_name, table),
                remedy=(
                    "If its cells are formulas, open the file in a spreadsheet program and save it again; else download"
                    " the report anew."
                ),
            )


def _place(file_name: str, table: RawTable) -> str:
    return f"{file_name}, sheet “{table.sheet}”" if table.sheet else file_name


def _nothing_left(table: RawTable, file_name: str) -> BadFile:
    if len(table.problems):
        return BadFile(
            f"None of {len(table.problems):,} rows can be read ({_main_reasons(table.problems)}); nothing was loaded.",
            place=_place(file_name, table),
            remedy="Fix the file, or download it again, and load it.",
        )
    return BadFile(
        "There is no row of data.", place=_place(file_name, table), remedy="Check the report's range of days."
    )


def _unused(table: RawTable, mapping: ColumnMap) -> list[str]:
    """Says which columns of the file are left out, so that nothing is lost unseen."""
    left = [header for header in table.headers if header not in mapping.columns.values() and header != mapping.told_by]
    if not left or mapping.told_by:
        return []
    named = ", ".join(left[:_MOST_UNUSED])
    more = f" and {len(left) - _MOST_UNUSED} more" if len(left) > _MOST_UNUSED else ""
    return [f"Columns of the file that are not used: {named}{more}."]


_TEXTS: Final = (CellKind.TEXT, CellKind.CHOICE)


def _texts_of(kind: ReportKind) -> list[str]:
    """The columns whose cells repeat each other: names and words of closed lists."""
    return [column.name for column in kind.columns if column.holds in _TEXTS]


def distinct_texts(rows: pl.DataFrame, kind: ReportKind) -> DistinctTexts:
    """Rows of a kind with their texts taken apart."""
    return distinct(rows, _texts_of(kind))


def _own_names(table: RawTable, kind: ReportKind, mapping: ColumnMap) -> DistinctTexts:
    """The mapped columns under the contract's names, texts trimmed, and blank where they are not mapped."""
    given = {column.name: mapping.columns.get(column.name) for column in kind.columns}
    texts = _texts_of(kind)
    mapped = [name for name in texts if given[name] is not None]
    frame = table.frame.select(LINE, *(pl.col(header).alias(name) for name, header in given.items() if header))
    cells = distinct(frame, mapped)
    joined = cells.distinct.select(
        (pl.col(name).fill_null("").str.strip_chars() if name in mapped else pl.lit("")).alias(name) for name in texts
    )
    figures = [name for name, header in given.items() if header and name not in texts]
    rows = cells.rows.select(LINE, COMBINATION, *(_figures(cells.rows, kind.column(name)) for name in figures))
    if set(table.headers) <= {column.name for column in kind.columns}:
        # Only in a file of our own writing does an apostrophe before = + - @ stand for itself alone.
        texts = [column.name for column in kind.columns if column.holds is CellKind.TEXT]
        led = joined.select(pl.col(texts).str.starts_with("'").any()).row(0, named=True)
        written = [name for name in texts if led[name]]
        joined = joined.with_columns(joined[name].map_elements(plain_cell, return_dtype=pl.String) for name in written)
    return DistinctTexts(rows, joined)


def _figures(rows: pl.DataFrame, column: Column) -> pl.Series:
    """Cells of a column of figures or dates; a file repeats its few dates, so each is trimmed once."""
    cells = rows[column.name].fill_null("")
    if not column.holds.dated:
        return cells
    distinct = cells.unique()
    bare = distinct.str.strip_chars()
    if bare.equals(distinct):
        return cells
    return cells.replace_strict(distinct, bare, return_dtype=pl.String)


def ids_told(table: RawTable, mapping: ColumnMap) -> dict[str, dict[str, str]]:
    """What ids stand for, from the rows of a file that have both the id and the name."""
    found: dict[str, dict[str, str]] = {}
    part = mixed.rows_of(table, mapping.told_by, mapping.only) if mapping.told_by else table
    for name, id_column in NAMED_BY_ID.items():
        if name in mapping.columns and id_column in mapping.columns:
            pairs = part.frame.select(
                pl.col(mapping.columns[id_column]).fill_null("").str.strip_chars().alias("id"),
                pl.col(mapping.columns[name]).fill_null("").str.strip_chars().alias("name"),
            ).unique(maintain_order=True)
            rows = pairs.filter((pl.col("id") != "") & (pl.col("name") != ""))
            found[name] = dict(rows.rows())
    return found


def _named_by_id(cells: DistinctTexts, kind: ReportKind, names: Names) -> DistinctTexts:
    """Rows that have only an id take the name that goes with it."""
    keys = {column.name for column in kind.columns}
    rows = cells.distinct
    for name, id_column in NAMED_BY_ID.items():
        known = names.get(name)
        if not known or not {name, id_column} <= keys:
            continue
        blank = (rows[name] == "") & (rows[id_column] != "")
        if blank.any():
            series = rows[id_column].replace_strict(dict(known), default="", return_dtype=pl.String)
            rows = rows.with_columns(cell_types.when(~blank, rows[name]).fill_null(series).alias(name))
    return replace(cells, distinct=rows)


def _without_totals(cells: DistinctTexts, kind: ReportKind, mapping: ColumnMap) -> tuple[DistinctTexts, int]:
    """Drops lines that sum up the others: “Total” in a text cell, or figures without any key."""
    names = {*cells.rows.columns, *cells.distinct.columns}
    texts = [c.name for c in kind.columns if c.holds is CellKind.TEXT and c.name in mapping.columns]
    days = [name for name in (kind.day_column, *SPAN_COLUMNS) if name and name in mapping.columns and name in names]
    required = {column.name for column in kind.columns if column.required}
    keys = [n for n in dict.fromkeys((*days[:1], *kind.key)) if n in mapping.columns and (n in required or n in days)]
    if not keys:
        return cells, 0

    def each(name: str, make: Callable[[pl.Series], pl.Series]) -> pl.Series:
        """What is told of the cells of a column, for every row; of texts each is looked at once."""
        if name in cells.distinct.columns:
            of_said = make(cells.distinct[name])
            return cells.spread(of_said) if of_said.any() else no
        return make(cells.rows[name])

    no = pl.Series([False], dtype=pl.Boolean).new_from_index(0, len(cells))
    blank = {column.name: column.blank_with for column in kind.columns}
    nothing = {name: each(name, lambda make: values.empty(values.trimmed(make))) for name in keys}
    unkeyed, lacks_key = ~no, no
    for name, empty in nothing.items():
        unkeyed = unkeyed & empty
        if blank[name] is None:
            lacks_key = lacks_key | empty
    suspect = lacks_key | each(days[0], _says_total) if days else lacks_key
    if not suspect.any():
        return cells, 0
    says_total = no
    for name in (*texts, *days):
        says_total = says_total | each(name, _says_total)
    total = unkeyed | (says_total & suspect)
    return cells.filter(~total), int(total.sum())


def _says_total(cells: pl.Series) -> pl.Series:
    """True where a cell begins as a totals line does; each distinct text is looked at once."""
    distinct = cells.unique()
    return cells.is_in(distinct.filter(distinct.str.contains(values.TOTAL_LINE)).implode())


def _without_twins(cells: DistinctTexts, table: RawTable, kind: ReportKind) -> tuple[DistinctTexts, int]:
    """Lines identical in every column of the file, unmapped ones included, count once."""
    likely = [COMBINATION, *([kind.day_column] if kind.day_column in cells.rows.columns else [])]
    if cells.rows.select(likely).hash_rows().n_unique() == len(cells):
        return cells, 0
    if table.frame.drop(LINE).hash_rows().n_unique() == len(table.frame):
        return cells, 0
    twins = table.frame.select(pl.col(LINE), ~pl.struct(pl.exclude(LINE)).is_first_distinct().alias("twin"))
    kept = cells.filter(~cells.rows[LINE].is_in(twins.filter("twin")[LINE].implode()))
    return kept, len(cells) - len(kept)


_FIGURES: Final = (CellKind.MONEY, CellKind.SHARE, CellKind.PERCENT, CellKind.RANK, CellKind.NUMBER, CellKind.COUNT)


def _style_told(cells: DistinctTexts, kind: ReportKind, mapping: ColumnMap, numeric: frozenset[str]) -> Votes:
    """
    What all cells of figures together say of the decimal sign.

    Cells that are numbers by their type are left out: no sign is in question there.
    """
    written = {name for name, header in mapping.columns.items() if header not in numeric}
    return values.style_votes(
        [
            (cells.rows[column.name], column.holds is CellKind.COUNT)
            for column in kind.columns
            if column.holds in _FIGURES and column.name in written
        ]
    )


def _style_in_doubt(votes: Votes) -> bool:
    """True when every cell that has a sign could have either."""
    return votes.either > 0 and votes.dot == votes.comma == 0


def settled_style(table: RawTable, mapping: ColumnMap, file_name: str) -> Style:
    """The decimal sign of a file: as somebody said, else as most cells that can be only one have it."""
    return _settled_style(table, mapping, file_name, _own_names(table, READ_KINDS[mapping.kind], mapping))


def _settled_style(table: RawTable, mapping: ColumnMap, file_name: str, cells: DistinctTexts) -> Style:
    if mapping.decimal is not None:
        return mapping.decimal
    votes = _style_told(cells, READ_KINDS[mapping.kind], mapping, table.numeric)
    if _style_in_doubt(votes):
        raise BadInput(
            "Figures such as 1,250 can be read with a decimal point or with a decimal comma, and no cell says which.",
            place=_place(file_name, table),
            remedy="Choose it (in the mapping, or with --decimal , or --decimal .).",
        )
    return Style.COMMA if votes.comma > votes.dot else Style.DOT


def unknown_words(table: RawTable, mapping: ColumnMap) -> dict[str, list[str]]:
    """Words in columns of closed lists whose meaning nobody has said: our column → words as they stand."""
    kind = READ_KINDS[mapping.kind]
    part = mixed.rows_of(table, mapping.told_by, mapping.only) if mapping.told_by else table
    return _unknown_words(_own_names(part, kind, mapping).distinct, kind, mapping)


def _unknown_words(rows: pl.DataFrame, kind: ReportKind, mapping: ColumnMap) -> dict[str, list[str]]:
    found = {}
    for column in kind.columns:
        if column.holds is CellKind.CHOICE and column.name in mapping.columns:
            words = rows[column.name].unique(maintain_order=True)
            read = values.choices(words, cell_types.words_of(column, mapping))
            left = words.filter(read.is_null() & ~values.empty(words) & ~_says_total(words))
            if len(left):
                found[column.name] = left.to_list()
    return found


def _ask_about_words(cells: DistinctTexts, kind: ReportKind, mapping: ColumnMap, file_name: str) -> None:
    """Words that many rows have are asked about; of a few rows they are rejects like any other."""
    for name, words in _unknown_words(cells.distinct, kind, mapping).items():
        answered = mapping.values.get(name, {})
        asked = [word for word in words if word not in answered]
        rows = int(cells.spread(cells.distinct[name].is_in(asked)).sum())
        if rows > MAX_REJECTED * len(cells):
            offered = ", ".join(sorted(set(kind.column(name).aliases.values())))
            more = f" and {len(asked) - _MOST_WORDS} more" if len(asked) > _MOST_WORDS else ""
            raise BadInput(
                f"It is not known what {', '.join(f'“{word[:40]}”' for word in asked[:_MOST_WORDS])}{more} "
                f"mean{'s' if len(asked) == 1 else ''} as {name.replace('_', ' ')} ({rows:,} rows).",
                place=file_name,
                remedy=(
                    f"Set it in the mapping, or with --value {name}:{asked[0][:40]}=WORD. Use {offered}, "
                    f"or {cell_types.REJECTED} to leave the rows out."
                ),
            )


def _whole_spans(texts: DistinctTexts, kind: ReportKind, place: str) -> tuple[DistinctTexts, list[str]]:
    """
    Spans that overlap are one block: its sums are known only together.

    BadFile where rows of the same thing overlap, since its sums would count twice.
    """
    rows = texts.rows
    spans = sorted(rows.select("first_day", "date").unique().rows())
    merged: list[tuple[date, date]] = []
    for first, last in spans:
        if merged and first <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(merged[-1][1], last))
        else:
            merged.append((first, last))
    if len(merged) == len(spans):
        return texts, []
    starts, ends = (pl.Series([each[end] for each in merged], dtype=pl.Date) for end in (0, 1))
    which = starts.search_sorted(rows["first_day"], side="right") - 1
    key = [*kind.key, "account", "_block"]
    block = pl.DataFrame(
        [which.alias("_block"), rows["first_day"], rows["date"], rows[LINE], *(texts.column(name) for name in key[:-1])]
    )
    several = (
        block.group_by(key)
        .agg(
            pl.struct("first_day", "date").n_unique().alias("spans"),
            pl.col(LINE).min().alias("line"),
            pl.col(LINE).max().alias("other"),
        )
        .filter(pl.col("spans") > 1)
    )
    if len(several):
        line, other = several.sort("line").select("line", "other").row(0)
        raise BadFile(
            f"The same thing is told for days that overlap, first on lines {line} and {other}: its sums would count"
            " twice.",
            place=place,
            remedy="Keep either the parts or their sum.",
        )
    joined = rows.with_columns(first_day=starts.gather(which), date=ends.gather(which))
    return replace(texts, rows=joined), [
        f"Rows overlap in days. They are kept as {len(merged)} block(s), "
        f"{', '.join(f'{a} to {b}' for a, b in merged[:3])}."
    ]


def _main_reasons(rejects: pl.DataFrame) -> str:
    counts = (
        rejects.group_by("column", "reason")
        .agg(pl.len(), pl.col("value").first(), pl.col("line").min())
        .sort("len", "column", "line", descending=[True, False, False])
        .head(_MOST_REASONS)
    )
    return "; ".join(
        f"{row['column']} {row['reason']} in {row['len']:,}, first on line {row['line']}"
        f"{': “' + row['value'][:60] + '”' if row['value'] else ''}"
        for row in counts.to_dicts()
    )


def _oddities(rows: pl.DataFrame) -> list[str]:
    """What is possible but rare enough to be told."""
    if "clicks" not in rows.columns:
        return []
    more_clicks = int((rows["clicks"] > rows["impressions"]).sum())
    no_clicks = int(((rows["orders"] > 0) & (rows["clicks"] == 0)).sum())
    entries = []
    if more_clicks:
        entries.append(f"{more_clicks} row(s) have more clicks than impressions.")
    if no_clicks:
        entries.append(f"{no_clicks} row(s) have orders without a click (seen, not clicked).")
    return entries
