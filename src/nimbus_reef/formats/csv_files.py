"""
CSV in: encoding, separator, title lines; every line that is not a row of the table told by its number.

Lines are first looked at as bytes, all at once: as many separators as the header has and no quote
out of place. Only the few that are odd are read one by one; the rest goes through Polars' reader.
"""

from __future__ import annotations

import codecs
import mmap
import re
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.errors import BadFile
from nimbus_reef.formats import headings
from nimbus_reef.formats.raw import (
    AS_FOUND,
    LINE,
    PROBE_RECORDS,
    SEPARATORS,
    Layout,
    Limits,
    RawTable,
    filled,
    first_lines,
    header_index,
    only_rows,
    problems,
    tidy_headers,
    title_of,
    told_above,
    told_notes,
    too_many,
)

_PROBE_BYTES: Final = 256 * 1024
_PIECE: Final = 32 << 20
_LONGEST_CELL_LINES: Final = 200
"""Lines that one cell may span before its quote is taken to have been left open."""
_NEWLINE, _RETURN, _QUOTE = 10, 13, 34
# Bytes that Windows-1252 has no letter for, or no text holds.
_NO_LETTERS: Final = frozenset(b"\x81\x8d\x8f\x90\x9d")

Problem = tuple[int, str, str]
"""Line, what stands there, and why it is no row."""


def read(path: Path, file_name: str, limits: Limits, rows: int | None, layout: Layout = AS_FOUND) -> RawTable:
    """
    A CSV as it stands, or only its first `rows` records.

    Rows with more or fewer cells than the header, with a quote left open or a byte that is no
    text are `problems`; they never shift or swallow another row.
    """
    _must_be_text(path, file_name)
    data, encoding = _content(path, None if rows is None else max(_PROBE_BYTES, rows * 2_000))
    head = data[:_PROBE_BYTES].decode("utf-8", "replace").lstrip("\ufeff")
    if layout.header_line > PROBE_RECORDS:
        raise BadFile(
            f"Line {layout.header_line} cannot be the header.",
            place=file_name,
            remedy=f"Choose one of the first {PROBE_RECORDS} lines, or delete the lines above the header.",
        )
    shape = _shape(head, layout)
    own_headers = () if layout == AS_FOUND else tidy_headers(_shape(head).header, file_name, limits)
    headers = tidy_headers(shape.header, file_name, limits)
    notes = []
    if encoding == "cp1252":
        notes.append("The file is not UTF-8; it was read as Windows-1252. Check accented letters.")
    if not shape.header_line:
        notes.append("The file is a list without a heading: each line is read as a phrase.")
    if shape.above:
        notes += told_above(shape.header_line - 1)
    begin = _after_lines(data, shape.header_line - 1 + shape.height)
    frame, found = _records(path, data, begin, shape, headers, file_name)
    if len(frame) > limits.max_rows:
        raise too_many(len(frame), limits.max_rows, file_name)
    frame, texts = only_rows(frame, headers)
    remarks = {line: text for line, text, reason in found if reason == _REMARK}
    last = int(frame[LINE].max() or 0) if len(frame) else 0  # type: ignore[arg-type]
    texts += [text for line, text in remarks.items() if line > last]
    turned_away = [
        (line, text, _ragged(1, len(headers)) if reason == _REMARK else reason)
        for line, text, reason in found
        if not (reason == _REMARK and line > last)
    ]
    if rows is not None:
        frame = frame.head(rows)
    return RawTable(
        frame,
        tuple(headers),
        (*notes, *told_notes(texts)),
        problems(turned_away),
        title_of(shape.above),
        layout=Layout(shape.delimiter, shape.header_line),
        chosen_layout=layout,
        own_headers=tuple(own_headers),
        first_lines=first_lines(head.splitlines()),
    )


# --- bytes ------------------------------------------------------------------------


def _content(path: Path, most: int | None) -> tuple[bytes | mmap.mmap, str]:
    """The file in UTF-8 (or its first bytes, to the end of a line), and what it was written in."""
    with path.open("rb") as handle:
        start = handle.read(_START)
        handle.seek(0)
        if wide := _wide_encoding(start):
            # A piece may end within a character; what is left of it says nothing.
            size = 4 if wide.startswith("utf-32") else 2
            text = handle.read(-1 if most is None else size * most).decode(
                wide, "replace" if most is None else "ignore"
            )
            return _with_newlines(text.encode()), wide[:6]
        if most is None:
            data: bytes | mmap.mmap = mmap.mmap(handle.fileno(), 0, access=mmap.ACCESS_READ)
        else:
            data = handle.read(most)
            if len(data) == most:
                data = data[: data.rfind(b"\n") + 1] or data
    if start.startswith(codecs.BOM_UTF8):
        return _with_newlines(data), "utf-8"
    if _other_encoding(data):
        return _with_newlines(bytes(data).decode("cp1252", "replace").encode()), "cp1252"
    return _with_newlines(data), "utf-8"


def _must_be_text(path: Path, file_name: str) -> None:
    """BadFile for what is no text at all: a picture, an archive, bytes of whatever kind."""
    with path.open("rb") as handle:
        start = handle.read(_START)
    what = next((what for sign, what in _SIGNS.items() if start.startswith(sign)), "")
    strange = sum(byte in _NO_TEXT for byte in start)
    if not what and strange > _STRANGE * len(start) and not _wide_encoding(start):
        what = "bytes that are not text"
    if _WEB_PAGE.match(start):
        raise BadFile(
            "This file is a web page, perhaps a sign-in page, not a report.",
            place=file_name,
            remedy="Sign in at the source and download the report again.",
        )
    if _JSON.match(start):
        what = "JSON"
    if what:
        raise BadFile(
            f"This file is {what}, despite its name.",
            place=file_name,
            remedy="Rename it to .xlsx if it is a workbook. Otherwise download the report as CSV, XLSX or Parquet.",
        )


_START: Final = 1024
_SIGNS: Final = {
    b"\x89PNG": "a picture (PNG)",
    b"\xff\xd8\xff": "a picture (JPEG)",
    b"GIF8": "a picture (GIF)",
    b"%PDF": "a document (PDF)",
    b"PK\x03\x04": "a workbook or an archive (ZIP)",
    b"\xd0\xcf\x11\xe0": "a workbook of an old kind (XLS)",
    b"\x1f\x8b": "packed (GZIP)",
    b"PAR1": "a table in Parquet",
}
_WEB_PAGE: Final = re.compile(rb"(?:\xef\xbb\xbf)?\s*<(?:!doctype\s+html|html|head|body)\b", re.IGNORECASE)
_JSON: Final = re.compile(rb'(?:\xef\xbb\xbf)?\s*(?:\{\s*"|\[\s*[\[{])')
_BLANKS_BEFORE_QUOTES: Final = re.compile(rb'^"[^"\n]*"([,;]) +"')
_MOSTLY: Final = 0.4
_NO_TEXT: Final = frozenset(range(32)) - frozenset(b"\t\n\r\f\x1b")
_STRANGE: Final = 0.05
"""One odd byte is a fault of its row; so many of them are another kind of file."""


def _wide_encoding(start: bytes) -> str:
    """
    UTF-32 or UTF-16, by the mark at its start, or without one by where the zeros of plain letters
    stand; else empty.
    """
    if start.startswith((codecs.BOM_UTF32_LE, codecs.BOM_UTF32_BE)):
        return "utf-32"
    if start.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16"
    zeros = [start[at::4].count(0) / max(1, len(start[at::4])) for at in range(4)]
    entries = [share > _MOSTLY for share in zeros]
    return {
        (False, True, True, True): "utf-32-le",
        (True, True, True, False): "utf-32-be",
        (False, True, False, True): "utf-16-le",
        (True, False, True, False): "utf-16-be",
    }.get((entries[0], entries[1], entries[2], entries[3]), "")


def _with_newlines(data: bytes | mmap.mmap) -> bytes | mmap.mmap:
    """
    Lines that end as they did on old machines, in a return alone, end in a newline. Where quoted cells are written with
    blanks after the separator ("a", "b"), the blanks go: they would make the quote a part of the cell.
    """
    if data.find(b"\n") < 0 and data.find(b"\r") >= 0:
        data = bytes(data).replace(b"\r", b"\n")
    if found := _BLANKS_BEFORE_QUOTES.match(data[:_START]):
        data = re.sub(b'"' + found[1] + b' +"', b'"' + found[1] + b'"', bytes(data))
    return data


def _other_encoding(data: bytes | mmap.mmap) -> bool:
    """
    True for Windows-1252: bytes that are no UTF-8, all of them letters there, and not one character
    of several bytes. One odd byte in a file of UTF-8 is a fault of its row, not another encoding.
    """
    odd, several, unfit = 0, 0, 0
    if all(_is_utf8(data, begin, end) for begin, end in _pieces(data, 0)):
        return False
    for begin, end in _pieces(data, 0):
        if _is_ascii(data, begin, end):
            continue
        for line in data[begin:end].split(b"\n"):
            if line.isascii():
                continue
            try:
                line.decode()
                several += 1
            except UnicodeDecodeError:
                odd += 1
                unfit += any(byte in _NO_LETTERS for byte in line)
    return odd > several and unfit < odd


def _is_ascii(data: bytes | mmap.mmap, begin: int, end: int) -> bool:
    return begin == end or int(np.frombuffer(data, np.uint8, end - begin, begin).max()) < 128


def _is_utf8(data: bytes | mmap.mmap, begin: int, end: int) -> bool:
    if _is_ascii(data, begin, end):
        return True
    try:
        data[begin:end].decode()
    except UnicodeDecodeError:
        return False
    return True


def _pieces(data: bytes | mmap.mmap, begin: int) -> Iterator[tuple[int, int]]:
    """Stretches of whole lines, each of a few MB."""
    size = len(data)
    while begin < size:
        end = min(size, begin + _PIECE)
        if end < size:
            cut = data.rfind(b"\n", begin, end)
            cut = cut if cut >= 0 else data.find(b"\n", end)
            end = cut + 1 if cut >= 0 else size
        yield begin, end
        begin = end


def _after_lines(data: bytes | mmap.mmap, lines: int) -> int:
    """Where the line after so many begins."""
    place = 0
    for _ in range(lines):
        cut = data.find(b"\n", place)
        if cut < 0:
            return len(data)
        place = cut + 1
    return place


# --- separator and header -----------------------------------------------------------


@dataclass(frozen=True, slots=True)
class _Shape:
    delimiter: str
    header: tuple[str, ...]
    header_line: int
    height: int = 1
    above: tuple[tuple[str, ...], ...] = ()


def _shape(head: str, layout: Layout = AS_FOUND) -> _Shape:
    """Separator and header of a CSV: from `layout` where given, else detected in its first lines."""
    best: tuple[tuple[bool, int], _Shape] | None = None
    lines = head.replace("\r\n", "\n").split("\n")[: 2 * PROBE_RECORDS]
    for delimiter in layout.separator or SEPARATORS:
        records, starts = _first_records(lines, delimiter)
        widths = Counter(len(record) for record in records if len(record) > 1)
        if not widths and not layout.separator:
            continue
        width = max(widths, key=lambda each: (widths[each], each), default=1)
        # The given line, or the first record below it.
        index = (
            bisect_left(starts, layout.header_line - 1, hi=len(records) - 1)
            if layout.header_line
            else header_index(records)
        )
        header = _without_empty_end(records[index])
        shape = _Shape(
            delimiter,
            tuple(header),
            starts[index] + 1,
            starts[index + 1] - starts[index],
            tuple(map(tuple, records[:index])),
        )
        # A decimal comma divides every row alike too; it does not divide the header.
        score = (len(header) == width, widths[width] * (width - 1))
        if best is None or score > best[0]:
            best = (score, shape)
    if best is None:
        first = lines[0] if lines else ""
        if layout == AS_FOUND and first.strip() and not headings.is_known(first):
            return _Shape(",", (headings.OF_A_BARE_LIST,), 0)
        return _Shape(",", (first,), 1)
    return best[1]


_TALLEST_HEADER: Final = 6


def _first_records(lines: Sequence[str], delimiter: str) -> tuple[list[list[str]], list[int]]:
    """
    The first records by their lines, and where each starts (with the end of the last). A quote left
    open takes in a few lines at most: in a row it is a fault, in a header a line break.
    """
    records: list[list[str]] = []
    starts = [0]
    place = 0
    while place < len(lines) and len(records) < PROBE_RECORDS:
        taken, cells = 1, _cells(lines[place], delimiter)
        while cells is None and taken < _TALLEST_HEADER and place + taken < len(lines):
            taken += 1
            cells = _cells("\n".join(lines[place : place + taken]), delimiter)
        if not isinstance(cells, list) or (taken > 1 and _whole_line(lines[place : place + taken], delimiter)):
            taken, cells = 1, lines[place].split(delimiter)
        records.append(cells if lines[place].strip() else [])
        place += taken
        starts.append(place)
    return records, starts


def _whole_line(lines: Sequence[str], delimiter: str) -> bool:
    """True where the first of several joined lines has as many cells as the last: each is a row of its own."""
    return lines[0].count(delimiter) == lines[-1].count(delimiter) > 0


def _without_empty_end(cells: Sequence[str]) -> list[str]:
    """Cells without the empty ones at the end, which some programs write and others leave out."""
    kept = list(cells)
    while len(kept) > 1 and not kept[-1].strip():
        kept.pop()
    return kept


# --- rows -----------------------------------------------------------------------------


@dataclass(slots=True)
class _Lines:
    """How many lines there are below the header, and those that have to be looked at one by one."""

    count: int
    odd: dict[int, tuple[int, int]]


def _scan(data: bytes | mmap.mmap, begin: int, delimiter: str, width: int, *, each: bool) -> _Lines:
    """
    Finds the lines that are odd, without reading them: number → where they begin and end.

    Odd is another number of separators outside quotes, a quote within a cell or left open, a byte
    that is not text. each: every line is counted by itself; else a line with too many separators may go
    unseen where others lack as many, and the reader stops at it.
    """
    found = _Lines(0, {})
    for start, end in _pieces(data, begin):
        buffer = np.frombuffer(data, np.uint8, end - start, start)
        regular = 0 if each else _regular(data, start, end, buffer, ord(delimiter), width)
        if regular:
            found.count += regular
            continue
        breaks = np.flatnonzero(buffer == _NEWLINE)
        if not len(breaks) or breaks[-1] != len(buffer) - 1:
            breaks = np.append(breaks, len(buffer))
        starts = np.concatenate(([0], breaks[:-1] + 1))
        odd = _odd(buffer, breaks, starts, ord(delimiter), width)
        odd |= _no_text(data[start:end], buffer, breaks, starts)
        for index in np.flatnonzero(odd):
            found.odd[found.count + int(index)] = (start + int(starts[index]), start + int(breaks[index]))
        found.count += len(breaks)
    return found


def _regular(data: bytes | mmap.mmap, start: int, end: int, buffer: np.ndarray, delimiter: int, width: int) -> int:
    """
    How many lines a stretch has, where together they have as many separators as they should and nothing in them is odd;
    else 0.
    """
    if data[end - 1] != _NEWLINE or any(data.find(byte, start, end) >= 0 for byte in (b'"', b"\r", b"\0")):
        return 0
    if not _is_utf8(data, start, end):
        return 0
    lines = int(np.count_nonzero(buffer == _NEWLINE))
    return lines if np.count_nonzero(buffer == delimiter) == lines * (width - 1) else 0


def _odd(buffer: np.ndarray, breaks: np.ndarray, starts: np.ndarray, delimiter: int, width: int) -> np.ndarray:
    separators = np.flatnonzero(buffer == delimiter)
    quotes = np.flatnonzero(buffer == _QUOTE)
    if not len(quotes):
        counts = np.diff(np.searchsorted(separators, np.concatenate((starts[:1], breaks))))
        return np.asarray(counts != width - 1)
    first_quote = np.searchsorted(quotes, starts)
    line_of = np.searchsorted(breaks, separators)
    quoted = (np.searchsorted(quotes, separators) - first_quote[line_of]) % 2 == 1
    counts = np.bincount(line_of[~quoted], minlength=len(breaks))
    odd = counts != width - 1
    line_of_quote = np.searchsorted(breaks, quotes)
    odd |= np.bincount(line_of_quote, minlength=len(breaks)) % 2 == 1
    around = (delimiter, _NEWLINE, _RETURN, _QUOTE)
    before = buffer[np.maximum(quotes - 1, 0)]
    after = buffer[np.minimum(quotes + 1, len(buffer) - 1)]
    at_edge = np.isin(before, around) | np.isin(after, around) | (quotes == 0) | (quotes == len(buffer) - 1)
    odd[line_of_quote[~at_edge]] = True
    return np.asarray(odd)


def _no_text(piece: bytes, buffer: np.ndarray, breaks: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """Lines with a byte that no text has, a return in their middle, or what is no UTF-8."""
    odd = np.zeros(len(breaks), dtype=bool)
    strange = np.flatnonzero(buffer == 0)
    returns = np.flatnonzero(buffer == _RETURN)
    alone = returns[(returns == len(buffer) - 1) | (buffer[np.minimum(returns + 1, len(buffer) - 1)] != _NEWLINE)]
    for places in (strange, alone):
        odd[np.minimum(np.searchsorted(breaks, places), len(breaks) - 1)] = True
    if piece.isascii():
        return odd
    try:
        piece.decode()
    except UnicodeDecodeError:
        for line in np.unique(np.searchsorted(breaks, np.flatnonzero(buffer >= 128))):
            try:
                piece[starts[line] : breaks[line]].decode()
            except UnicodeDecodeError:
                odd[line] = True
    return odd


def _records(
    path: Path, data: bytes | mmap.mmap, begin: int, shape: _Shape, headers: Sequence[str], file_name: str
) -> tuple[pl.DataFrame, list[Problem]]:
    """All rows with the line each starts on, and the lines that are none."""
    try:
        return _records_of(path, data, begin, shape, headers, file_name, each=False)
    except BadFile:
        return _records_of(path, data, begin, shape, headers, file_name, each=True)


def _records_of(
    path: Path,
    data: bytes | mmap.mmap,
    begin: int,
    shape: _Shape,
    headers: Sequence[str],
    file_name: str,
    *,
    each: bool,
) -> tuple[pl.DataFrame, list[Problem]]:
    """`_records`. each: as `_scan` has it; BadFile also where only a look at each line tells which is odd."""
    first_line = shape.header_line + shape.height
    lines = _scan(data, begin, shape.delimiter, len(headers), each=each)
    read_alone, found, left_out = _odd_ones(data, lines, shape.delimiter, len(headers))
    if isinstance(data, mmap.mmap) and not left_out:
        frame = _plain(path, first_line - 1, shape.delimiter, headers, file_name)
    else:
        frame = _plain(_without(data, begin, left_out), 0, shape.delimiter, headers, file_name)
    numbers = np.arange(lines.count, dtype=np.int64)
    if left_out:
        numbers = np.delete(numbers, sorted(left_out))
    # The reader makes no row of what follows the last newline when nothing does.
    if len(numbers) != len(frame):
        raise BadFile(
            f"The file is cut off: {len(numbers):,} lines, but {len(frame):,} rows could be read.",
            place=file_name,
            remedy="Download it again, or open it and save it as CSV once more.",
        )
    frame = frame.with_columns(pl.Series(LINE, numbers + first_line))
    if read_alone:
        alone = pl.DataFrame(
            [cells for _, cells in read_alone], schema=dict.fromkeys(headers, pl.String), orient="row"
        ).with_columns(pl.Series(LINE, [line + first_line for line, _ in read_alone], dtype=pl.Int64))
        frame = pl.concat([frame, alone]).sort(LINE)
    return frame, [(line + first_line, text, reason) for line, text, reason in found]


def _without(data: bytes | mmap.mmap, begin: int, left_out: dict[int, tuple[int, int]]) -> bytes:
    """The lines that are rows beyond doubt."""
    pieces, place = [], begin
    for start, end in sorted(left_out.values()):
        pieces.append(data[place:start])
        place = min(len(data), end + 1)
    return b"".join([*pieces, data[place:]])


def _plain(content: bytes | Path, skipped: int, delimiter: str, headers: Sequence[str], file_name: str) -> pl.DataFrame:
    """Rows by Polars' reader. skipped: lines of the file that come before them."""
    try:
        return pl.read_csv(
            content,
            separator=delimiter,
            has_header=False,
            infer_schema=False,
            skip_lines=skipped,
            schema=dict.fromkeys(headers, pl.String),
            raise_if_empty=False,
        )
    except pl.exceptions.PolarsError as problem:
        raise BadFile(
            "The file is cut off or is not a table.",
            place=file_name,
            remedy="Download it again, or open it and save it as CSV once more.",
        ) from problem


_REMARK: Final = "one cell"


def _ragged(cells: int, wanted: int) -> str:
    return f"has {cells} cell{'s' if cells != 1 else ''} where the header has {wanted}"


def _odd_ones(
    data: bytes | mmap.mmap, lines: _Lines, delimiter: str, width: int
) -> tuple[list[tuple[int, list[str]]], list[Problem], dict[int, tuple[int, int]]]:
    """
    The odd lines one by one: those that are rows after all, those that are not, and all lines that
    the quick reader must not see (number → begin and end), lines inside a cell included.
    """
    rows: list[tuple[int, list[str]]] = []
    found: list[Problem] = []
    gone = dict(lines.odd)
    passed = -1
    for number, (start, end) in sorted(lines.odd.items()):
        if number <= passed:
            continue
        raw = data[start:end].rstrip(b"\r")
        try:
            text = raw.decode()
        except UnicodeDecodeError as problem:
            shown = raw.decode("utf-8", "replace")
            found.append((number, shown, f"holds a byte that is not text (0x{raw[problem.start]:02X})"))
            continue
        if "\0" in text:
            found.append((number, text.replace("\0", "�"), "holds a byte that is not text (0x00)"))
            continue
        if not text.strip():
            continue
        cells = _cells(text, delimiter)
        if cells is None:
            whole = _several_lines(data, start, end, delimiter, width)
            if whole is None:
                found.append((number, text, "a quote opens in it and does not close in this row"))
                continue
            cells, inside = whole
            for step, place in enumerate(inside, 1):
                gone[number + step] = place
            passed = number + len(inside)
        if isinstance(cells, str):
            found.append((number, text, cells))
            continue
        kept = cells if len(cells) <= width else _without_empty_end(cells)
        if len(kept) != width and not (len(kept) < width <= len(cells)):
            found.append((number, text, _REMARK if filled(cells) <= 1 else _ragged(len(kept), width)))
            continue
        rows.append((number, [*kept, *[""] * (width - len(kept))]))
    return rows, found, gone


def _cells(text: str, delimiter: str) -> list[str] | str | None:
    """The cells of one line; a reason where a quote closes within a cell; None where one stays open."""
    cells, place, size = [], 0, len(text)
    while True:
        if text[place : place + 1] != '"':
            cut = text.find(delimiter, place)
            cells.append(text[place : cut if cut >= 0 else size])
        else:
            part, cut = [], place + 1
            while True:
                close = text.find('"', cut)
                if close < 0:
                    return None
                part.append(text[cut:close])
                if text[close + 1 : close + 2] != '"':
                    break
                part.append('"')
                cut = close + 2
            cells.append("".join(part))
            after = text[close + 1 : close + 2]
            if after not in ("", delimiter):
                return f"the quotes of cell {len(cells)} close before the cell ends"
            cut = close + 1 if after else -1
        if cut < 0 or cut >= size:
            return cells
        place = cut + 1


def _several_lines(
    data: bytes | mmap.mmap, start: int, end: int, delimiter: str, width: int
) -> tuple[list[str], list[tuple[int, int]]] | None:
    """
    The row of a cell that runs over line ends, and where its further lines lie; None where the
    quote was left open: the lines it would swallow are rows of their own.
    """
    text = data[start:end].decode()
    inside: list[tuple[int, int]] = []
    wanted = width - 1
    first_whole = text.count(delimiter) >= wanted
    while len(inside) < _LONGEST_CELL_LINES and end < len(data) - 1:
        begin = end + 1
        cut = data.find(b"\n", begin)
        end = cut if cut >= 0 else len(data)
        raw = data[begin:end]
        try:
            line = raw.decode()
        except UnicodeDecodeError:
            return None
        inside.append((begin, end))
        text = f"{text}\n{line}"
        if b'"' in raw:
            cells = _cells(text.rstrip("\r"), delimiter)
            if cells is not None:
                swallowed = first_whole and line.count(delimiter) >= wanted
                return None if swallowed or isinstance(cells, str) else (cells, inside)
        if line.count(delimiter) >= wanted:
            return None
    return None
