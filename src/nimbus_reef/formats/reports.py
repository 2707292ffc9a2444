"""
A mapped table to typed rows of one report kind, with the problems of every row.

Parsing is pure: the same table and mapping give the same rows, whatever the order of
the lines, and a file cut in two gives together what it gives whole.
"""

from __future__ import annotations

import operator
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.core.model import MICRO
from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import mixed, repeats, values
from nimbus_reef.formats.apart import COMBINATION, Apart, apart
from nimbus_reef.formats.contract import SPAN_COLUMNS, CellKind, Column, ReportKind
from nimbus_reef.formats.kinds import READ_KINDS
from nimbus_reef.formats.mapping import NAMED_BY_ID, ColumnMap
from nimbus_reef.formats.raw import LINE, RawTable
from nimbus_reef.formats.tables import plain_cell
from nimbus_reef.formats.values import Style, Votes

MAX_REJECTED = 0.05
MOST_UNITS: Final = 10**12
"""No figure of money is larger than this many units, nor the sum of a file's."""
MOST_COUNTED: Final = 2**32 - 1
"""No count in one row is larger."""
_TOTAL_WORDS = r"(?i)^\s*(grand\s+)?(total|totals|sum|summe|gesamt|gesamtsumme|totale|suma|result)\b"
_MOST_REASONS = 3
_MOST_UNUSED = 6
_MOST_WORDS = 6

Names = Mapping[str, Mapping[str, str]]
"""Column of a name (campaign, ad_group, target, match_type) → id as a file writes it → name."""


@dataclass(frozen=True, slots=True)
class Parsed:
    """
    What a file says.

    apart: the contract's columns, one row per key, money in micro-units (int64), counts
    int64, shares float64, dates date, all else text; columns not in the file are null. Kinds that
    take blocks have `first_day` besides, which is `date` itself where a row is one day.
    rejects: line, column, value, reason. sums: each measure over the rows. warnings: sentences.
    """

    kind: ReportKind
    apart: Apart
    rejects: pl.DataFrame
    warnings: tuple[str, ...]
    read: int

    @property
    def rows(self) -> pl.DataFrame:
        """All columns together, in the contract's order."""
        return self.apart.whole.select(repeats.columns_of(self.kind))

    @property
    def sums(self) -> dict[str, int]:
        """The total of each column that adds up, money in micro-units."""
        return {name: int(self.apart.rows[name].sum()) for name in self.kind.summed}


def parse(
    table: RawTable, mapping: ColumnMap, file_name: str, zone: str = "UTC", names: Names | None = None
) -> Parsed:
    """
    Reads the mapped columns; raises BadFile when over 5 % of the data rows are rejected, BadInput
    where the file leaves open which decimal sign it has or what its words mean.

    zone: the account's, in which times without an offset are. names: what ids stand for, for rows
    that have only an id.
    """
    kind = READ_KINDS[mapping.kind]
    warnings = [*table.notes, *_unused(table, mapping)]
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
    typed, rejects = _typed(cells, kind, _Reading(mapping, style, zone, table.numeric))
    rejects = pl.concat([table.problems, rejects])
    bad_lines = rejects["line"].n_unique()
    if bad_lines > MAX_REJECTED * read:
        raise BadFile(
            f"{bad_lines:,} of {read:,} rows cannot be read ({_main_reasons(rejects)}); nothing was loaded.",
            place=_place(file_name, table),
            remedy="Check the mapping of those columns, or mend the file and load it again.",
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


def _must_fit(rows: pl.DataFrame, kind: ReportKind, place: str) -> None:
    """BadFile where what a file adds up to is more than can be held."""
    for column in kind.columns:
        if not column.summed:
            continue
        money = column.holds is CellKind.MONEY
        most = MOST_UNITS * MICRO if money else MOST_COUNTED
        total = rows[column.name].cast(pl.Float64)
        if (float(total.sum()) if money else float(total.max() or 0)) > most:  # type: ignore[arg-type]
            raise BadFile(
                f"The {column.name.replace('_', ' ')} of the file adds up to more than can be held.",
                place=place,
                remedy="Look for a figure that cannot be meant, mend it, and load the file again.",
            )


def _place(file_name: str, table: RawTable) -> str:
    return f"{file_name}, sheet “{table.sheet}”" if table.sheet else file_name


def _nothing_left(table: RawTable, file_name: str) -> BadFile:
    if len(table.problems):
        return BadFile(
            f"None of {len(table.problems):,} rows can be read ({_main_reasons(table.problems)}); nothing was loaded.",
            place=_place(file_name, table),
            remedy="Mend the file, or download it again, and load it.",
        )
    return BadFile(
        "There is no row of data.", place=_place(file_name, table), remedy="Check the report's range of days."
    )


def _unused(table: RawTable, mapping: ColumnMap) -> list[str]:
    """Says which columns of the file are left out, so that nothing is lost unseen."""
    left = [
        header
        for header in table.headers
        if header not in mapping.columns.values() and header != mapping.told_by
    ]
    if not left or mapping.told_by:
        return []
    named = ", ".join(left[:_MOST_UNUSED])
    more = f" and {len(left) - _MOST_UNUSED} more" if len(left) > _MOST_UNUSED else ""
    return [f"Columns of the file that are not used: {named}{more}."]


_TEXTS: Final = (CellKind.TEXT, CellKind.CHOICE)


def _texts_of(kind: ReportKind) -> list[str]:
    """The columns whose cells repeat each other: names and words of closed lists."""
    return [column.name for column in kind.columns if column.holds in _TEXTS]


def texts_apart(rows: pl.DataFrame, kind: ReportKind) -> Apart:
    """Rows of a kind with their texts taken apart."""
    return apart(rows, _texts_of(kind))


def _own_names(table: RawTable, kind: ReportKind, mapping: ColumnMap) -> Apart:
    """The mapped columns under the contract's names, texts trimmed, and blank where they are not mapped."""
    given = {column.name: mapping.columns.get(column.name) for column in kind.columns}
    texts = _texts_of(kind)
    mapped = [name for name in texts if given[name] is not None]
    frame = table.frame.select(
        LINE, *(pl.col(header).alias(name) for name, header in given.items() if header)
    )
    cells = apart(frame, mapped)
    said = cells.said.select(
        (pl.col(name).fill_null("").str.strip_chars() if name in mapped else pl.lit("")).alias(name)
        for name in texts
    )
    figures = [name for name, header in given.items() if header and name not in texts]
    rows = cells.rows.select(
        LINE, COMBINATION, *(_figures(cells.rows, kind.column(name)) for name in figures)
    )
    if set(table.headers) <= {column.name for column in kind.columns}:
        # Only in a file of our own writing does an apostrophe before = + - @ stand for itself alone.
        texts = [column.name for column in kind.columns if column.holds is CellKind.TEXT]
        written = [name for name in texts if said[name].str.starts_with("'").any()]
        said = said.with_columns(
            said[name].map_elements(plain_cell, return_dtype=pl.String) for name in written
        )
    return Apart(rows, said)


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
            said = pairs.filter((pl.col("id") != "") & (pl.col("name") != ""))
            found[name] = dict(said.rows())
    return found


def _named_by_id(cells: Apart, kind: ReportKind, names: Names) -> Apart:
    """Rows that have only an id take the name that goes with it."""
    held = {column.name for column in kind.columns}
    said = cells.said
    for name, id_column in NAMED_BY_ID.items():
        known = names.get(name)
        if not known or not {name, id_column} <= held:
            continue
        blank = (said[name] == "") & (said[id_column] != "")
        if blank.any():
            told = said[id_column].replace_strict(dict(known), default="", return_dtype=pl.String)
            said = said.with_columns(_when(~blank, said[name]).fill_null(told).alias(name))
    return replace(cells, said=said)


def _without_totals(cells: Apart, kind: ReportKind, mapping: ColumnMap) -> tuple[Apart, int]:
    """Drops lines that sum up the others: “Total” in a text cell, or figures without any key."""
    held = {*cells.rows.columns, *cells.said.columns}
    texts = [c.name for c in kind.columns if c.holds is CellKind.TEXT and c.name in mapping.columns]
    days = [
        name for name in (kind.day_column, *SPAN_COLUMNS) if name and name in mapping.columns and name in held
    ]
    required = {column.name for column in kind.columns if column.required}
    keys = [
        n
        for n in dict.fromkeys((*days[:1], *kind.key))
        if n in mapping.columns and (n in required or n in days)
    ]
    if not keys:
        return cells, 0

    def each(name: str, told: Callable[[pl.Series], pl.Series]) -> pl.Series:
        """What is told of the cells of a column, for every row; of texts each is looked at once."""
        if name in cells.said.columns:
            of_said = told(cells.said[name])
            return cells.spread(of_said) if of_said.any() else no
        return told(cells.rows[name])

    no = pl.Series([False], dtype=pl.Boolean).new_from_index(0, len(cells))
    blank = {column.name: column.blank_with for column in kind.columns}
    nothing = {name: each(name, lambda told: values.empty(values.trimmed(told))) for name in keys}
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
    return cells.is_in(distinct.filter(distinct.str.contains(_TOTAL_WORDS)).implode())


def _without_twins(cells: Apart, table: RawTable, kind: ReportKind) -> tuple[Apart, int]:
    """Lines identical in every column of the file, unmapped ones included, count once."""
    likely = [COMBINATION, *([kind.day_column] if kind.day_column in cells.rows.columns else [])]
    if not cells.rows.select(likely).hash_rows().is_duplicated().any():
        return cells, 0
    if not table.frame.drop(LINE).hash_rows().is_duplicated().any():
        return cells, 0
    twins = table.frame.select(pl.col(LINE), ~pl.struct(pl.exclude(LINE)).is_first_distinct().alias("twin"))
    kept = cells.filter(~cells.rows[LINE].is_in(twins.filter("twin")[LINE].implode()))
    return kept, len(cells) - len(kept)


_FIGURES: Final = (
    CellKind.MONEY,
    CellKind.SHARE,
    CellKind.PERCENT,
    CellKind.RANK,
    CellKind.NUMBER,
    CellKind.COUNT,
)


def _style_told(cells: Apart, kind: ReportKind, mapping: ColumnMap, numeric: frozenset[str]) -> Votes:
    """
    What all cells of figures together say of the decimal sign.

    Cells that are numbers by their type are left out: no sign is in question there.
    """
    votes = Votes()
    for column in kind.columns:
        header = mapping.columns.get(column.name)
        if column.holds in _FIGURES and header is not None and header not in numeric:
            votes += values.style_votes(cells.rows[column.name], whole=column.holds is CellKind.COUNT)
    return votes


def _style_in_doubt(votes: Votes) -> bool:
    """True when every cell that has a sign could have either."""
    return votes.either > 0 and votes.dot == votes.comma == 0


def settled_style(table: RawTable, mapping: ColumnMap, file_name: str) -> Style:
    """The decimal sign of a file: as somebody said, else as most cells that can be only one have it."""
    return _settled_style(table, mapping, file_name, _own_names(table, READ_KINDS[mapping.kind], mapping))


def _settled_style(table: RawTable, mapping: ColumnMap, file_name: str, cells: Apart) -> Style:
    if mapping.decimal is not None:
        return mapping.decimal
    votes = _style_told(cells, READ_KINDS[mapping.kind], mapping, table.numeric)
    if _style_in_doubt(votes):
        raise BadInput(
            "Figures such as 1,250 can be read with a decimal point or with a decimal comma, and no cell says which.",
            place=_place(file_name, table),
            remedy="Say which it is (in the mapping, or with --decimal , or --decimal .).",
        )
    return Style.COMMA if votes.comma > votes.dot else Style.DOT


def unknown_words(table: RawTable, mapping: ColumnMap) -> dict[str, list[str]]:
    """Words in columns of closed lists whose meaning nobody has said: our column → words as they stand."""
    kind = READ_KINDS[mapping.kind]
    part = mixed.rows_of(table, mapping.told_by, mapping.only) if mapping.told_by else table
    return _unknown_words(_own_names(part, kind, mapping).said, kind, mapping)


def _unknown_words(said: pl.DataFrame, kind: ReportKind, mapping: ColumnMap) -> dict[str, list[str]]:
    found = {}
    for column in kind.columns:
        if column.holds is CellKind.CHOICE and column.name in mapping.columns:
            words = said[column.name].unique(maintain_order=True)
            read = values.choices(words, _words_of(column, mapping))
            left = words.filter(read.is_null() & ~values.empty(words) & ~_says_total(words))
            if len(left):
                found[column.name] = left.to_list()
    return found


REJECTED: Final = "-"
"""Said of a word of a closed list: its rows are to be turned away."""


def _words_of(column: Column, mapping: ColumnMap) -> dict[str, str]:
    """What the words of a closed list mean: what is known, and what was said of this file."""
    given = mapping.values.get(column.name, {})
    plain = values.letters(pl.Series(list(given), dtype=pl.String)).to_list()
    said = {
        letters: meaning
        for letters, meaning in zip(plain, given.values(), strict=True)
        if meaning != REJECTED
    }
    return {**column.aliases, **said}


def _ask_about_words(cells: Apart, kind: ReportKind, mapping: ColumnMap, file_name: str) -> None:
    """Words that many rows have are asked about; of a few rows they are rejects like any other."""
    for name, words in _unknown_words(cells.said, kind, mapping).items():
        answered = mapping.values.get(name, {})
        asked = [word for word in words if word not in answered]
        rows = int(cells.spread(cells.said[name].is_in(asked)).sum())
        if rows > MAX_REJECTED * len(cells):
            offered = ", ".join(sorted(set(kind.column(name).aliases.values())))
            more = f" and {len(asked) - _MOST_WORDS} more" if len(asked) > _MOST_WORDS else ""
            raise BadInput(
                f"It is not known what {', '.join(f'“{word[:40]}”' for word in asked[:_MOST_WORDS])}{more} "
                f"mean{'s' if len(asked) == 1 else ''} as {name.replace('_', ' ')} ({rows:,} rows).",
                place=file_name,
                remedy=f"Say it in the mapping, or with --value {name}:{asked[0][:40]}=WORD; known are {offered}, "
                f"and {REJECTED} turns the rows away.",
            )


@dataclass(frozen=True, slots=True)
class _Reading:
    """How a file's dates, figures and times are to be read."""

    mapping: ColumnMap
    style: Style
    zone: str
    numeric: frozenset[str] = field(default_factory=frozenset)

    def style_of(self, column: Column) -> Style:
        """Number cells have a point, whatever the text cells beside them have."""
        return Style.DOT if self.mapping.columns.get(column.name) in self.numeric else self.style


def _typed(cells: Apart, kind: ReportKind, reading: _Reading) -> tuple[Apart, pl.DataFrame]:
    rows, said = cells.rows, cells.said
    typed: list[pl.Series] = [rows[LINE], cells.codes]
    texts: list[pl.Series] = []
    rejects: list[pl.DataFrame] = []
    bad = pl.Series([False], dtype=pl.Boolean).new_from_index(0, len(rows))
    for column in kind.columns:
        if kind.takes_blocks and column.name in (*SPAN_COLUMNS, kind.day_column):
            continue
        if column.name in said.columns:
            value, reason = _said_read(said, column, reading)
            reason = _allowed_blank(said, column, kind, reading, reason)
            texts.append(value.alias(column.name))
            if reason.null_count() < len(reason):
                told = cells.spread(said[column.name])
                bad = _noted(rows, column.name, told, cells.spread(reason), bad, rejects)
            continue
        told = rows[column.name] if column.name in rows.columns else _NOTHING.new_from_index(0, len(rows))
        value, reason = _day_given(column, reading, len(rows)) or _figures_read(rows, column, reading)
        bad = _noted(rows, column.name, told, reason, bad, rejects)
        typed.append(value.alias(column.name))
    if kind.takes_blocks:
        spans, name, told, reason = _spans(rows, reading)
        bad = _noted(rows, name, told, reason, bad, rejects)
        typed += spans
    problems = pl.concat(rejects).sort("line", maintain_order=True) if rejects else _no_rejects()
    return Apart(pl.DataFrame(typed), pl.DataFrame(texts)).filter(~bad), problems


_NOTHING: Final = pl.Series([""], dtype=pl.String)


def _figures_read(rows: pl.DataFrame, column: Column, reading: _Reading) -> tuple[pl.Series, pl.Series]:
    """`_column` of a column of figures or dates, also of one that the file does not have."""
    if column.name in rows.columns:
        return _column(rows[column.name], column, reading)
    return _nothing_read(column, len(rows))


def _said_read(said: pl.DataFrame, column: Column, reading: _Reading) -> tuple[pl.Series, pl.Series]:
    """`_column` of a column of texts; one that the file does not have is empty in every row."""
    cells = said[column.name]
    if column.name not in reading.mapping.columns and cells.max() == "":
        return _nothing_read(column, len(said))
    return _column(cells, column, reading)


def _nothing_read(column: Column, rows: int) -> tuple[pl.Series, pl.Series]:
    """What so many empty cells are."""
    value = pl.Series(column.name, [0 if column.summed else None], dtype=_TYPES.get(column.holds, pl.Float64))
    missing = "is missing" if column.required and not column.summed else None
    reason = pl.Series("reason", [missing], dtype=pl.String)
    return value.new_from_index(0, rows), reason.new_from_index(0, rows)


_TYPES: Final[Mapping[CellKind, pl.DataType | type[pl.DataType]]] = {
    CellKind.TEXT: pl.String, CellKind.CHOICE: pl.String, CellKind.COUNT: pl.Int64, CellKind.MONEY: pl.Int64, CellKind.DATE: pl.Date,
    CellKind.WEEK: pl.Date, CellKind.MONTH: pl.Date, CellKind.TIME: pl.Datetime("us"),
}  # fmt: skip
"""What the cells of a column become; figures otherwise."""


def _allowed_blank(
    said: pl.DataFrame, column: Column, kind: ReportKind, reading: _Reading, reason: pl.Series
) -> pl.Series:
    """A text that may be left open beside another, as the ad group of what holds for a whole campaign."""
    if column.blank_with is None:
        return reason
    beside, start = column.blank_with
    words = values.choices(said[beside], _words_of(kind.column(beside), reading.mapping))
    allowed = (said[column.name] == "") & words.str.starts_with(start).fill_null(False)
    return _when(~allowed, reason)


def _noted(
    frame: pl.DataFrame,
    name: str,
    cells: pl.Series,
    reason: pl.Series,
    bad: pl.Series,
    rejects: list[pl.DataFrame],
) -> pl.Series:
    """Adds the rows with a reason to the rejects; which rows are bad by now."""
    failed = reason.is_not_null()
    if not failed.any():
        return bad
    rejects.append(
        pl.DataFrame([frame[LINE].alias("line"), cells.alias("value"), reason.alias("reason")])
        .filter(failed)
        .select("line", pl.lit(name).alias("column"), pl.col("value").str.strip_chars(), "reason")
    )
    return bad | failed


def _no_reasons(rows: int) -> pl.Series:
    return pl.Series("reason", [None], dtype=pl.String).new_from_index(0, rows)


def _day_given(column: Column, reading: _Reading, rows: int) -> tuple[pl.Series, pl.Series] | None:
    """The day of settings whose file tells none: the last of those that somebody said."""
    mapping = reading.mapping
    if column.name != "date" or "date" in mapping.columns or mapping.days is None:
        return None
    return pl.Series("date", [mapping.days.last], dtype=pl.Date).new_from_index(0, rows), _no_reasons(rows)


def _spans(frame: pl.DataFrame, reading: _Reading) -> tuple[list[pl.Series], str, pl.Series, pl.Series]:
    """`first_day` and `date` of every row, and what is wrong with the cells that tell them."""
    mapping, rows = reading.mapping, len(frame)
    given = mapping.columns
    if "period" in given:
        name, cells = "period", frame["period"]
        first, last = values.periods(cells, mapping.date_order)
        wrong = "tells no days that can be read"
    elif "from" in given:
        name, cells = "from", pl.select(pl.concat_str(frame["from"], pl.lit(" – "), frame["to"])).to_series()
        first, last = (values.dates(frame[end], mapping.date_order) for end in ("from", "to"))
        backwards = (last < first).fill_null(False)
        last = _when(~backwards, last)
        wrong = "are not two days in order that can be read"
    elif "date" in given:
        name, cells, wrong = "date", frame["date"], "is not a date that can be read"
        first = last = values.dates(cells, mapping.date_order)
    else:
        assert mapping.days is not None, "asked for before parsing"
        days = mapping.days
        name, cells, wrong = "date", frame[LINE].cast(pl.String), ""
        first, last = (
            pl.Series([day], dtype=pl.Date).new_from_index(0, rows) for day in (days.first, days.last)
        )
    unread = first.is_null() | last.is_null()
    reason = _no_reasons(rows)
    if unread.any():
        missing = unread & values.empty(cells)
        reason = pl.select(
            pl.when(pl.lit(missing))
            .then(pl.lit("is missing"))
            .when(pl.lit(unread))
            .then(pl.lit(wrong))
            .alias("reason")
        ).to_series()
    return [last.alias("date"), first.alias("first_day")], name, cells, reason


def _whole_spans(told: Apart, kind: ReportKind, place: str) -> tuple[Apart, list[str]]:
    """
    Spans that overlap are one block: its sums are known only together.

    BadFile where rows of the same thing overlap, since its sums would count twice.
    """
    rows = told.rows
    spans = sorted(rows.select("first_day", "date").unique().rows())
    merged: list[tuple[date, date]] = []
    for first, last in spans:
        if merged and first <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(merged[-1][1], last))
        else:
            merged.append((first, last))
    if len(merged) == len(spans):
        return told, []
    starts, ends = (pl.Series([each[end] for each in merged], dtype=pl.Date) for end in (0, 1))
    which = starts.search_sorted(rows["first_day"], side="right") - 1
    key = [*kind.key, "account", "_block"]
    block = pl.DataFrame(
        [
            which.alias("_block"),
            rows["first_day"],
            rows["date"],
            rows[LINE],
            *(told.column(name) for name in key[:-1]),
        ]
    )
    several = block.group_by(key).agg(
        pl.struct("first_day", "date").n_unique().alias("spans"), pl.col(LINE).min().alias("line"),
        pl.col(LINE).max().alias("other"),
    ).filter(pl.col("spans") > 1)  # fmt: skip
    if len(several):
        line, other = several.sort("line").select("line", "other").row(0)
        raise BadFile(
            f"The same thing is told for days that overlap, first on lines {line} and {other}: its sums would count twice.",
            place=place,
            remedy="Keep either the parts or their sum.",
        )
    joined = rows.with_columns(first_day=starts.gather(which), date=ends.gather(which))
    return replace(told, rows=joined), [
        f"Rows tell days that overlap; they are kept as {len(merged)} block(s), "
        f"{', '.join(f'{a} to {b}' for a, b in merged[:3])}."
    ]


def _no_rejects() -> pl.DataFrame:
    return pl.DataFrame(
        schema={"line": pl.Int64, "column": pl.String, "value": pl.String, "reason": pl.String}
    )


def _column(cells: pl.Series, column: Column, reading: _Reading) -> tuple[pl.Series, pl.Series]:
    """The typed cells of one column, and for each cell that fails the reason."""
    match column.holds:
        case CellKind.TEXT:
            # A name may be a dash or “null”; only white space is nothing.
            value, wrong = _when(cells != "", cells), ""
        case CellKind.DATE | CellKind.WEEK | CellKind.MONTH | CellKind.TIME:
            value = dated(cells, column.holds, reading.mapping.date_order, reading.zone)
            wrong = f"is no {column.holds} that can be read"
        case CellKind.CHOICE:
            value = values.choices(cells, _words_of(column, reading.mapping))
            wrong = f"is none of {', '.join(sorted(set(column.aliases.values())))}"
        case _:
            style = reading.style_of(column)
            value = _number(cells, column, style)
            wrong = "is not a number that can be read"
            if column.name in reading.mapping.columns:
                wrong += f" with a decimal {'comma' if style is Style.COMMA else 'point'}"
    unread = value.is_null()
    reason = _no_reasons(len(cells))
    if unread.any():
        # What says nothing is nothing; only the cells that gave no value have to be looked at.
        blank = (cells == "") if column.holds is CellKind.TEXT else values.empty(values.trimmed(cells))
        missing = "is missing" if column.required and not column.summed else None
        reason = pl.select(
            pl.when(pl.lit(unread & blank)).then(pl.lit(missing, pl.String))
            .when(pl.lit(unread)).then(pl.lit(wrong)).otherwise(None).alias("reason")
        ).to_series()  # fmt: skip
        if column.summed:
            value = _when(~(unread & blank), value, 0)
    return _ranged(value, reason, column)


def dated(cells: pl.Series, holds: CellKind, order: values.DateOrder, zone: str) -> pl.Series:
    """Cells that place something in time, as dates; times as datetimes in the zone."""
    match holds:
        case CellKind.WEEK:
            return values.weeks(cells, order)
        case CellKind.MONTH:
            return values.months(cells, order)
        case CellKind.TIME:
            return values.times(cells, zone)
    return values.dates(cells, order)


def _when(condition: pl.Series, value: pl.Series, other: int | None = None) -> pl.Series:
    return pl.select(pl.when(pl.lit(condition)).then(pl.lit(value)).otherwise(other)).to_series()


def _number(cells: pl.Series, column: Column, style: Style) -> pl.Series:
    if column.holds is CellKind.COUNT and (counts := values.whole_numbers(cells)) is not None:
        return counts
    value = values.numbers(cells, style)
    if column.holds is CellKind.COUNT:
        whole = (value == value.floor()) & (value.abs() < 2**53)
        return _when(whole, value).cast(pl.Int64)
    if column.holds is CellKind.MONEY:
        # What is larger than any money is turned away by its size; it only has to fit till then.
        return (value.clip(-2.0 * MOST_UNITS, 2.0 * MOST_UNITS) * MICRO).round().cast(pl.Int64, strict=False)
    if column.holds is CellKind.SHARE:
        return _when(~values.percent_signs(values.trimmed(cells)), value).fill_null(value / 100)
    return value


def _ranged(value: pl.Series, reason: pl.Series, column: Column) -> tuple[pl.Series, pl.Series]:
    """Turns away figures and texts that no such column can hold."""
    if column.holds is CellKind.TEXT:
        length = value.str.len_chars()
        return value, _marked(
            length, 0, column.longest, f"is longer than {column.longest} characters", reason
        )
    if column.holds in (CellKind.COUNT, CellKind.MONEY, CellKind.RANK, CellKind.NUMBER):
        reason = _marked(value, 0, None, "is negative", reason)
        if column.most is not None:
            return value, _marked(value, 0, column.most, f"is not between 0 and {column.most:g}", reason)
        if column.holds is CellKind.MONEY:
            return value, _marked(value, None, MOST_UNITS * MICRO, f"is more than {MOST_UNITS:,}", reason)
        if column.holds is CellKind.COUNT:
            return value, _marked(value, None, MOST_COUNTED, f"is more than {MOST_COUNTED:,}", reason)
        return value, reason
    if column.holds is CellKind.SHARE:
        return value, _marked(value, 0, 1, "is not a share between 0 and 1 (or 0 % and 100 %)", reason)
    return value, reason


def _marked(
    value: pl.Series, least: float | None, most: float | None, why: str, reason: pl.Series
) -> pl.Series:
    """Reasons, with one more for what is below or above what there can be."""
    low, high = value.min(), value.max()
    below, above = (
        end is not None and limit is not None and further(end, limit)
        for end, limit, further in ((low, least, operator.lt), (high, most, operator.gt))
    )
    if not below and not above:
        return reason
    outside = (value < least) if below else (value > most)
    if below and above:
        outside = outside | (value > most)
    return pl.select(
        pl.when(pl.lit(outside.fill_null(False))).then(pl.lit(why)).otherwise(pl.lit(reason))
    ).to_series()


def _main_reasons(rejects: pl.DataFrame) -> str:
    counts = (
        rejects.group_by("column", "reason")
        .agg(pl.len(), pl.col("value").first(), pl.col("line").min())
        .sort("len", "column", descending=[True, False])
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
    said = []
    if more_clicks:
        said.append(f"{more_clicks} row(s) have more clicks than impressions.")
    if no_clicks:
        said.append(f"{no_clicks} row(s) have orders without a click (seen, not clicked).")
    return said
