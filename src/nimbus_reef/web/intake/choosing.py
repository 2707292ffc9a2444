"""What a dropped file is read as: the choices of its mapping, and how they stand on the page."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any, Final, Protocol

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import cell_types, currencies, mixed, reports, sheet_summary, typed, values
from nimbus_reef.formats.cell_types import REJECTED
from nimbus_reef.formats.contract import SPAN_COLUMNS, CellKind, Column
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS, READ_KINDS
from nimbus_reef.formats.mapping import KIND_SURE, NAMED_BY_ID, ColumnMap, Suggestion
from nimbus_reef.formats.raw import AS_FOUND, LINE, SEPARATORS, Layout, RawTable
from nimbus_reef.formats.sheet_summary import SheetSummary
from nimbus_reef.formats.values import DateOrder, Style
from nimbus_reef.jobs.intake import Looked, usual_maps, with_settings
from nimbus_reef.store.record.loads import Batch

_SAMPLES: Final = 3
_MOST_WORDS: Final = 12
_BECOMES: Final[Mapping[CellKind, str]] = {
    CellKind.DATE: "day",
    CellKind.WEEK: "week",
    CellKind.MONTH: "month",
    CellKind.TIME: "time",
    CellKind.PERIOD: "days from and to",
    CellKind.TEXT: "text",
    CellKind.COUNT: "whole number",
    CellKind.HOUR: "hour of the day",
    CellKind.MONEY: "money",
    CellKind.NUMBER: "number",
    CellKind.SHARE: "share",
    CellKind.PERCENT: "percent",
    CellKind.RANK: "rank",
    CellKind.CHOICE: "one of our words",
}
WHOLE: Final = ""
"""Said instead of a telling column: all rows are of one kind."""


class Fields(Protocol):
    """The fields of a form or an address."""

    def get(self, key: str) -> str | None:
        """The first value of a field, None where there is none."""

    def getlist(self, key: str) -> list[str]:
        """All values of a field."""

    def __contains__(self, key: object) -> bool: ...

    def __iter__(self) -> Iterator[str]: ...


@dataclass(frozen=True, slots=True)
class WordChoice:
    """A word of a telling column: how many rows have it in the sample, and what they are read as."""

    field: str
    word: str
    rows: int
    feeds: str


@dataclass(frozen=True, slots=True)
class UnknownWord:
    """A word of a closed list that is not known: its fields, and what was said of it."""

    field: str
    column: str
    word: str
    value: str
    offered: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class MappedColumn:
    """
    One of our columns, the header that feeds it, what its first cells become, and how needed it is. why: what tells the
    column, in words;
    asked: headers between which somebody has to choose, each with its first cells.
    """

    name: str
    required: bool
    becomes: str
    header: str
    samples: tuple[tuple[str, str], ...]
    needed: str = ""
    why: str = ""
    asked: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class FileReading:
    """Some rows of one table as one kind. mark: what its choices belong to, so that stale ones fall away."""

    prefix: str
    mark: str
    title: str
    row_is: str
    rows: str
    columns: tuple[MappedColumn, ...]
    words: tuple[UnknownWord, ...]


@dataclass(frozen=True, slots=True)
class SheetChoice:
    """One table of the file: whether it is read, as what, and by which column its rows are told apart."""

    number: int
    name: str
    headers: tuple[str, ...]
    chosen: bool
    kind: str
    kinds: tuple[tuple[str, str, int], ...]
    told_by: str
    words: tuple[WordChoice, ...]
    readings: tuple[FileReading, ...]
    sample: tuple[tuple[str, ...], ...]
    notes: tuple[str, ...]
    layout: Layout
    chosen_layout: Layout
    first_lines: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Choices:
    """
    Everything that can be chosen of a file, and what is still open. open: our columns that somebody has to choose;
    or_else: the kind that it could be as well; unused: the file's columns that are not loaded; currency: that of the
    file's money where it is not the account's, which is own_currency; rate: what was typed for it; refused: why it
    cannot be loaded as it is chosen; bids: the columns of bids that are taken beside the figures.
    """

    maps: tuple[ColumnMap, ...]
    sheets: tuple[SheetChoice, ...]
    ask_dates: bool
    dates: str
    ask_decimal: bool
    decimal: str
    ask_days: bool
    ask_day: bool
    first: str
    last: str
    days_from: str
    has_campaign: bool
    open: tuple[str, ...]
    or_else: str
    unused: tuple[str, ...]
    currency: str
    own_currency: str
    rate: str
    refused: str
    bids: tuple[str, ...]


FEEDS: Final = {
    "+".join(kinds): READ_KINDS[kinds[0]].title.lower() + (", their figures where given" if kinds[1:] else "")
    for kinds in dict.fromkeys(mixed.ROW_WORDS.values())
}
"""What the rows of a word may be read as: kinds joined by +, and how that is called."""


def layouts(fields: Fields) -> dict[str, Layout] | None:
    """
    Separator and header line of each table as chosen in the form, by sheet; None when the form does not have these
    fields.
    """
    names = [name for name in fields if name.startswith("header-")]
    if not names:
        return None
    separator = fields.get("separator") or ""
    if separator and separator not in SEPARATORS:
        raise BadInput(f"“{separator[:9]}” is not a separator.", remedy=f"Choose {', '.join(SEPARATORS.values())}.")
    by_key = {}
    for name in names:
        sheet = fields.get(name.replace("header-", "named-")) or ""
        try:
            by_key[sheet] = Layout(separator, typed.whole(fields.get(name) or "0"))
        except ValueError:
            raise BadInput("The header line is not a number.", remedy="Choose one of the lines.") from None
    return by_key


def loaded_before(before: Batch | None, maps: Sequence[ColumnMap], figures: Figures) -> str:
    """What loading the same file again with the current choices does; empty when it was not loaded before."""
    if before is None:
        return ""
    text = (
        f"This file was already loaded on {before.loaded_at:%Y-%m-%d} as “{KINDS[before.kind].title}”"
        f" ({figures.counted(before.rows, 'row')})"
    )
    as_then = [each for each in maps if each.kind == before.kind]
    if not as_then:
        return f"{text}. That load stays. Undo it if it was wrong."
    if any(_read_alike(each, before.mapping) for each in as_then):
        return f"{text}. Loading it again changes only its date."
    return f"{text} with other choices."


def _read_alike(one: ColumnMap, other: ColumnMap) -> bool:
    return (one.columns, one.days, one.rate, one.only, one.layout) == (
        other.columns,
        other.days,
        other.rate,
        other.only,
        other.layout,
    )


def choices(looked: Looked, fields: Fields) -> Choices:
    """The choices of a form or address over what the file suggests."""
    sheets: list[SheetChoice] = []
    maps: list[ColumnMap] = []
    known = {each.sheet: [one for one in looked.known if one.sheet == each.sheet] for each in looked.known}
    usual = {each.sheet for each in _fitting(looked)}
    asked_for = fields.getlist("sheet")
    for number, sheet in enumerate(looked.sheets):
        name = sheet.table.sheet
        chosen = len(looked.sheets) == 1 or (name in asked_for if asked_for else name in usual)
        own = _maps_of(number, sheet, known.get(name, []), fields) if chosen else []
        offset = len(maps)
        own = [
            _with_choices(each, _prefix(offset + step), fields, sheet.table.headers) for step, each in enumerate(own)
        ]
        maps += own
        sheets.append(_sheet(number, sheet, own, offset, chosen, fields))
    maps += with_settings(looked, maps)
    return _file_choices(looked, tuple(maps), tuple(sheets), fields)


def _fitting(looked: Looked) -> Sequence[ColumnMap]:
    try:
        return usual_maps(looked)
    except BadFile:
        # Nothing fits yet: the person chooses the columns, beginning with the nearest kind.
        return [looked.suggestions[0].mapping]


def _prefix(number: int) -> str:
    return f"r{number}-" if number else ""


def _maps_of(number: int, sheet: SheetSummary, known: Sequence[ColumnMap], fields: Fields) -> list[ColumnMap]:
    """The mappings of one table before its columns were changed by hand."""
    kind = fields.get("kind" if number == 0 else f"kind-{number}")
    told_by = fields.get(f"told-{number}")
    if told_by and told_by not in sheet.table.headers and sheet.table.chosen_layout != AS_FOUND:
        told_by = None  # it was chosen among the headers of another line
    if kind is None and told_by is None and known:
        return list(known)
    if told_by is None:
        told_by = sheet.told_by if kind is None else WHOLE
    if told_by:
        words = _word_kinds(number, sheet, told_by, fields)
        return [_sure(each) for each in mixed.suggest(sheet.table, told_by, words)]
    found = next((each for each in sheet.suggestions if each.mapping.kind == kind), None) if kind else None
    if kind and found is None:
        raise BadInput(f"“{kind}” is not a kind of report.", remedy=f"Use one of {', '.join(KINDS)}.")
    return [_sure(found or sheet.suggestions[0])]


def _sure(suggested: Suggestion) -> ColumnMap:
    """The mapping without its uncertain columns, which the user chooses."""
    columns = suggested.mapping.columns
    return replace(
        suggested.mapping, columns={name: header for name, header in columns.items() if name not in suggested.asked}
    )


def _word_kinds(number: int, sheet: SheetSummary, told_by: str, fields: Fields) -> dict[str, tuple[str, ...]]:
    if told_by not in sheet.table.headers:
        raise BadInput(f"“{told_by}” is not a column of the file.", remedy="Choose one of its own.")
    found = mixed.row_words(sheet.table, told_by)
    for place, word in enumerate(found):
        text = fields.get(f"word-{number}-{place}")
        if text is not None and (text in FEEDS or text == ""):
            found[word] = tuple(text.split("+")) if text else ()
    return found


_DATE_ORDERS: Final = {order.value: order for order in DateOrder}


def _mark(columns: ColumnMap) -> str:
    where = (columns.layout.separator, str(columns.layout.header_line))
    return "|".join((columns.sheet, columns.kind, columns.told_by, *columns.only, *where))


def _with_choices(suggested: ColumnMap, prefix: str, fields: Fields, headers: Sequence[str]) -> ColumnMap:
    """The mapping with the columns and words that the form says, where they are said of this one."""
    order = fields.get("dates")
    column_map = replace(
        suggested,
        date_order=_DATE_ORDERS.get(order or "", suggested.date_order),
        decimal=_decimal(fields.get("decimal") or "") or suggested.decimal,
        rate=_rate(fields.get("rate") or "") or suggested.rate,
    )
    mark = fields.get(f"{prefix}mark")
    if "mapped" not in fields or (mark is not None and mark != _mark(column_map)):
        return column_map
    names = [column.name for column in READ_KINDS[column_map.kind].columns]
    columns = {name: header for name in names if (header := fields.get(f"{prefix}column-{name}"))}
    if wrong := sorted(set(columns.values()).difference(headers)):
        raise BadInput(f"“{wrong[0]}” is not a column of the file.", remedy="Choose one of its own.")
    column_map = replace(column_map, columns=columns)
    by_key: dict[str, dict[str, str]] = {name: dict(words) for name, words in column_map.values.items()}
    for name in names:
        for place in range(_MOST_WORDS):
            word, meaning = (fields.get(f"{prefix}{what}-{name}-{place}") for what in ("word", "value"))
            if word and meaning:
                by_key.setdefault(name, {})[word] = meaning
    return replace(column_map, values=by_key)


def _rate(text: str) -> float | None:
    if not text.strip():
        return None
    rate = typed.number(text)
    if rate is None or not 0 < rate <= _MOST_RATE:
        raise BadInput(f"“{text}” is not a rate.", remedy="Write it like 0.92.")
    return float(rate)


_MOST_RATE: Final = 1_000_000


def _decimal(text: str) -> Style | None:
    return {"dot": Style.DOT, "comma": Style.COMMA}.get(text)


def _days(fields: Fields) -> Window | None:
    first, last = fields.get("first") or "", fields.get("last") or ""
    if not last:
        return None
    try:
        return Window(date.fromisoformat(first or last), date.fromisoformat(last))
    except ValueError:
        raise BadInput(f"“{first} – {last}” are not days.", remedy="Write them like 2026-10-01.") from None


def _file_choices(
    looked: Looked, maps: tuple[ColumnMap, ...], sheets: tuple[SheetChoice, ...], fields: Fields
) -> Choices:
    tables = {each.table.sheet: each for each in looked.sheets}
    undated = [each for each in maps if not each.dated]
    window = next((tables[each.sheet].days for each in undated if tables[each.sheet].days), None)
    days = _days(fields) or next((each.days for each in undated if each.days), None) or window
    whole = tuple(replace(each, days=None if each.dated else days) for each in maps)
    ask_dates = any(
        sheet_summary.date_doubt(tables[each.sheet].table, replace(each, date_order=DateOrder.UNKNOWN)) for each in maps
    )
    ask_decimal = any(_decimal_in_doubt(tables[each.sheet].table, each) for each in maps)
    sums = any(READ_KINDS[each.kind].takes_blocks for each in undated)
    currency, refused = _foreign(looked, maps)
    orders = [each.date_order.value for each in maps if each.date_order is not DateOrder.UNKNOWN]
    return Choices(
        whole,
        sheets,
        ask_dates,
        (orders or ["unknown"])[0],
        ask_decimal,
        fields.get("decimal") or "",
        bool(undated) and sums,
        bool(undated) and not sums,
        days.first.isoformat() if days else "",
        days.last.isoformat() if days else "",
        "from its name or title" if window and days == window else "",
        any(READ_KINDS[each.kind].has_campaign for each in maps),
        tuple(
            column.name.replace("_", " ")
            for sheet in sheets
            if sheet.chosen
            for reading in sheet.readings
            for column in reading.columns
            if not column.header and (column.asked or column.required)
        ),
        "" if looked.known or "mapped" in fields else _or_else(looked),
        _unused(maps, sheets),
        currency,
        looked.currency,
        fields.get("rate") or "",
        refused,
        tuple(each.columns["bid"] for each in maps if each.beside and "bid" in each.columns),
    )


def _foreign(looked: Looked, maps: Sequence[ColumnMap]) -> tuple[str, str]:
    """
    The currency of the file's money where it is not the account's, and why it cannot be loaded
    where it is in two.
    """
    try:
        names = (currencies.foreign(looked.sheet(each.sheet).table, each, looked.currency, "") for each in maps)
        return next((each for each in names if each), ""), ""
    except BadFile as problem:
        return "", str(problem)


def _or_else(looked: Looked) -> str:
    """The title of the kind that the first table could be as well; empty where its cells tell it."""
    best, *others = looked.suggestions
    if best.kind_share > KIND_SURE or not others or looked.sheets[0].told_by:
        return ""
    return KINDS[others[0].mapping.kind].title


def _unused(maps: Sequence[ColumnMap], sheets: Sequence[SheetChoice]) -> tuple[str, ...]:
    """The columns of the chosen sheets that feed nothing."""
    used = {(each.sheet, header) for each in maps for header in (*each.columns.values(), each.told_by)}
    used |= {
        (sheet.name, header)
        for sheet in sheets
        for reading in sheet.readings
        for column in reading.columns
        if not column.header
        for header, _ in column.asked
    }
    return tuple(
        header for sheet in sheets if sheet.chosen for header in sheet.headers if (sheet.name, header) not in used
    )


def _decimal_in_doubt(table: RawTable, columns: ColumnMap) -> bool:
    try:
        reports.settled_style(table, replace(columns, decimal=None), "")
    except BadInput:
        return True
    return False


def _sheet(
    number: int, sheet: SheetSummary, own: Sequence[ColumnMap], offset: int, chosen: bool, fields: Fields
) -> SheetChoice:
    table = sheet.table
    told_by = own[0].told_by if own else (fields.get(f"told-{number}") or "")
    words: list[WordChoice] = []
    if told_by:
        kinds = _word_kinds(number, sheet, told_by, fields)
        if "mapped" not in fields and own and f"word-{number}-0" not in fields:
            kinds |= _as_known(own, kinds)
        counts = dict(values.trimmed(table.frame[told_by]).value_counts().rows())
        words = [
            WordChoice(f"word-{number}-{place}", word, counts.get(word, 0), "+".join(feeds))
            for place, (word, feeds) in enumerate(kinds.items())
        ]
    return SheetChoice(
        number,
        table.sheet,
        table.headers,
        chosen,
        own[0].kind if own else sheet.suggestions[0].mapping.kind,
        tuple(kinds_by_fit(sheet.suggestions)),
        told_by,
        tuple(words),
        tuple(_reading(sheet, each, _prefix(offset + step)) for step, each in enumerate(own)),
        tuple(sample_rows(table)),
        table.notes,
        table.layout,
        table.chosen_layout,
        table.first_lines,
    )


def _as_known(own: Sequence[ColumnMap], kinds: Mapping[str, tuple[str, ...]]) -> dict[str, tuple[str, ...]]:
    """What the words feed by the mappings in force: the choice on offer that has all of it."""
    found = {}
    for word in kinds:
        fed = {each.kind for each in own if word in each.only}
        offered = sorted((tuple(feeds.split("+")) for feeds in FEEDS), key=len)
        found[word] = next((feeds for feeds in offered if fed and fed <= set(feeds)), ())
    return found


def _reading(sheet: SheetSummary, columns: ColumnMap, prefix: str) -> FileReading:
    kind, table = READ_KINDS[columns.kind], sheet.table
    suggested = sheet.suggestion_of(columns)
    part = mixed.rows_of(table, columns.told_by, columns.only) if columns.told_by else table
    return FileReading(
        prefix,
        _mark(columns),
        kind.title,
        columns.row_is,
        ", ".join(columns.only),
        tuple(mapped(part, columns, suggested)),
        tuple(_unknown(table, columns, prefix)),
    )


def _unknown(table: RawTable, columns: ColumnMap, prefix: str) -> list[UnknownWord]:
    found = []
    kind = READ_KINDS[columns.kind]
    asked = reports.unknown_words(table, replace(columns, values=_kept(columns)))
    for name, words in asked.items():
        offered = (*sorted(set(kind.column(name).aliases.values())), REJECTED)
        by_key = columns.values.get(name, {})
        found += [
            UnknownWord(f"{prefix}{{}}-{name}-{place}", name.replace("_", " "), word, by_key.get(word, ""), offered)
            for place, word in enumerate(words[:_MOST_WORDS])
        ]
    return found


def _kept(columns: ColumnMap) -> dict[str, dict[str, str]]:
    """What goes without asking, of the words that a mapping explains: those of negatives."""
    known = {"exact", "phrase", "item"}
    return {
        name: {word: meaning for word, meaning in words.items() if word in known}
        for name, words in columns.values.items()
    }


def kinds_by_fit(suggestions: Sequence[Suggestion]) -> list[tuple[str, str, int]]:
    """Kinds to choose from: name, title, how well they fit in percent, best first."""
    return [(s.mapping.kind, KINDS[s.mapping.kind].title, round(100 * s.fit)) for s in suggestions]


def _become(cells: Any, column: Column, chosen: ColumnMap, style: Style) -> list[str]:
    text = values.trimmed(cells)
    order = chosen.date_order if chosen.date_order is not DateOrder.UNKNOWN else DateOrder.DAY_FIRST
    if column.holds is CellKind.PERIOD:
        spans = zip(*values.periods(text, order), strict=True)
        return [f"{first} to {last}" if first and last else "" for first, last in spans]
    if column.holds.dated:
        days = cell_types.dated(text, column, replace(chosen, date_order=order), "UTC")
        return [day.isoformat() if day else "" for day in days]
    if column.holds is CellKind.CHOICE:
        words = {**column.aliases, **chosen.values.get(column.name, {})}
        return [word or "" for word in values.choices(text, words)]
    if column.holds is CellKind.TEXT:
        return text.to_list()
    if column.holds is CellKind.HOUR:
        return ["" if hour != hour else f"{hour:g}" for hour in values.hours(text.to_list())]
    return ["" if number is None else f"{number:g}" for number in values.numbers(text, style)]


def _with_nothing(cells: pl.Series, column: Column, read: Sequence[str]) -> list[str]:
    """What cells that say nothing become, as loading has it: 0 in a sum, else nothing where that may be."""
    if column.holds is CellKind.TEXT:
        return list(read)
    blank = "0" if column.summed else "" if column.required else "nothing"
    trimmed = values.trimmed(cells)
    nothing = values.empty(trimmed) & ((trimmed != "") | column.summed)
    return [blank if empty and not result else result for result, empty in zip(read, nothing.to_list(), strict=True)]


def _telling_rows(table: RawTable) -> pl.DataFrame:
    """The few rows that say most: rows of zeros show nothing about how figures are read."""
    says = [~pl.col(header).fill_null("").str.contains(r"^[\s0.,–-]*$") for header in table.headers]
    return table.frame.sort(pl.sum_horizontal(says), descending=True, maintain_order=True).head(_SAMPLES)


def mapped(table: RawTable, chosen: ColumnMap, suggested: Suggestion | None = None) -> list[MappedColumn]:
    """
    Our columns beside the file's, with sample cells: as they stand → what they become. suggested:
    what tells them.
    """
    telling = _telling_rows(table)
    try:
        style = reports.settled_style(table, chosen, "")
    except BadInput:
        style = Style.DOT
    rows = []
    for column in READ_KINDS[chosen.kind].columns:
        header = chosen.columns.get(column.name, "")
        samples: tuple[tuple[str, str], ...] = ()
        if header in table.headers:
            cells = telling[header]
            read = _become(cells, column, chosen, Style.DOT if header in table.numeric else style)
            become = _with_nothing(cells, column, read)
            samples = tuple(zip([cell or "" for cell in cells.to_list()], become, strict=True))
        by_id = NAMED_BY_ID.get(column.name) in chosen.columns
        required = (
            column.required
            and not by_id
            and column.name not in chosen.assumes()
            and column.name not in ("date", *SPAN_COLUMNS)
        )
        tells_days = READ_KINDS[chosen.kind].takes_blocks and column.name in ("date", *SPAN_COLUMNS)
        needed = "one way to tell the days" if tells_days else "" if required else "optional"
        asked = suggested.asked.get(column.name, ()) if suggested else ()
        as_suggested = suggested is not None and suggested.mapping.columns.get(column.name) == header
        rows.append(
            MappedColumn(
                column.name,
                required,
                _BECOMES[column.holds],
                header,
                samples,
                needed,
                suggested.why.get(column.name, "") if suggested and as_suggested and not asked else "",
                tuple((each, ", ".join(cell or "–" for cell in telling[each].to_list())) for each in asked),
            )
        )
    return rows


def sample_rows(table: RawTable, most: int = 5) -> list[tuple[str, ...]]:
    """The first rows of the file as they stand."""
    return table.frame.drop(LINE).head(most).fill_null("").rows()
