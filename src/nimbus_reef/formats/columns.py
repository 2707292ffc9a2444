"""
What the cells of a column are, whatever its heading says: days, spans, numbers or text, with what tells them apart.

Works on a sample of a table's rows; the cells are the first witness of what a column is (`figure_columns`,
`text_columns`).
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.formats import values
from nimbus_reef.formats.raw import RawTable
from nimbus_reef.formats.values import DateOrder, Style

SAMPLE: Final = 200
_ENOUGH_TO_CHOOSE: Final = 50
_FULL_SHARE: Final = 0.6
"""Part of the sample that is taken from the rows with the most non-zero cells; the others are the first of the rest."""
_DAYS_FROM, _SPANS_FROM, _NUMBERS_FROM = 0.8, 0.6, 0.85
_SIGNS: Final = re.compile(r"[^\W\d_]*\$|[€£¥₹₺₽]|\b[A-Z]{3}\b|\b(?:kr|zł|Kč|Ft|lei)\b")
_ID_LIKE: Final = re.compile(r"[A-Za-z]*(?:[-_./]?[A-Za-z0-9])*[0-9][A-Za-z0-9._/\-]*")
_DATE_LIKE: Final = re.compile(
    r"\d{1,4}[-/. ]{1,2}[\w]{1,12}\.?[-/., ]{1,2}\d{1,4}|[^\W\d_]{3,12}\.? \d{1,2},? \d{4}|(?:19|20)\d{6}"
)


class Are(StrEnum):
    """What most cells of a column are."""

    DAYS = "days"
    SPANS = "spans"
    NUMBERS = "numbers"
    TEXT = "text"
    NOTHING = "nothing"


@dataclass(frozen=True, slots=True)
class NumberCells:
    """
    Shares of the cells that say something: whole (no fraction), coins (two places), few (one or two), many (more than
    two), percent (a % behind it), signed (a currency beside it).
    """

    whole: float
    coins: float
    few: float
    many: float
    percent: float
    signed: float


class ColumnCells:
    """
    A column of the sample. header, texts: as they stand, outer white space off; are: what most of its cells are;
    not_known: cells that hold an error in place of a figure.
    """

    def __init__(self, header: str, cells: pl.Series, style: Style) -> None:
        self.header = header
        self._cells = values.trimmed(cells)
        self._style = style
        not_known = self._cells.str.contains(values.NOT_KNOWN)
        self.not_known = not_known.to_numpy()
        self.filled = ~(values.empty(self._cells) | not_known).to_numpy()
        self.texts = self._cells.to_list()
        self.distinct = self._cells.filter(pl.Series(self.filled)).n_unique() if self.filled.any() else 0

    @property
    def blank(self) -> float:
        """The share of cells that say nothing."""
        return 1.0 - float(self.filled.mean()) if len(self.filled) else 1.0

    @cached_property
    def written(self) -> list[str]:
        """The cells that say something."""
        return [text for text, words in zip(self.texts, self.filled, strict=True) if words]

    @cached_property
    def figures(self) -> np.ndarray:
        """The cells as numbers; NaN where a cell says nothing or is none."""
        read = values.numbers(self._cells, self._style).to_numpy().astype(float)
        read[~self.filled] = np.nan
        return read

    @cached_property
    def places(self) -> np.ndarray:
        """Digits behind the decimal sign of each cell; 0 where there are none."""
        sign = r"\." if self._style is Style.DOT else ","
        found = self._cells.str.extract(sign + r"(\d+)\D*$", 1).str.len_chars()
        return found.fill_null(0).to_numpy().astype(int)

    @cached_property
    def are(self) -> Are:
        """What most of the cells are."""
        if not self.written:
            return Are.NOTHING
        if self._share_of(_is_day) > _DAYS_FROM:
            return Are.DAYS
        if self._share_of(_is_span) > _SPANS_FROM:
            return Are.SPANS
        if float(np.isfinite(self.figures[self.filled]).mean()) > _NUMBERS_FROM:
            return Are.NUMBERS
        return Are.TEXT

    def _share_of(self, test: Callable[[str], bool]) -> float:
        by_key = {text: test(text) for text in set(self.written)}
        return sum(by_key[text] for text in self.written) / len(self.written)

    @cached_property
    def number_cells(self) -> NumberCells:
        """How its numbers are written."""
        words = self.filled & np.isfinite(self.figures)
        figures, places = self.figures[words], self.places[words]
        if not len(figures):
            return NumberCells(0, 0, 0, 0, 0, 0)
        nonzero = figures != 0
        percent = np.array([text.endswith("%") for text in self.texts])[words]
        signed = np.array([bool(_SIGNS.search(text)) for text in self.texts])[words]
        return NumberCells(
            whole=float((figures == np.floor(figures)).mean()),
            coins=float((places == 2).mean()),
            few=float(((places == 1) | (places == 2)).mean()),
            many=float((places > 2).mean()),
            percent=float(percent[nonzero].mean()) if nonzero.any() else float(percent.mean()),
            signed=float(signed.mean()),
        )

    @cached_property
    def is_constant(self) -> bool:
        """Whether all its cells say the same."""
        return self.distinct <= 1

    @cached_property
    def are_ids(self) -> bool:
        """Whether its numbers are whole, long, and all of one length: no measure, but somebody's numbering."""
        lengths = {len(text) for text in self.written}
        return len(lengths) == 1 and lengths.pop() >= _LONG_ID and all(text.isdigit() for text in self.written)

    @cached_property
    def never_measure(self) -> bool:
        """Whether the cells can be no count and no money: percentages, long fractions, ids."""
        how = self.number_cells
        return how.percent > 0.5 or how.many > 0.3 or self.are_ids

    @cached_property
    def by_letters(self) -> list[str]:
        """The cells that say something, by their letters alone."""
        return values.letters(pl.Series(self.written, dtype=pl.String)).to_list()

    def share_in(self, words: frozenset[str]) -> float:
        """The share of cells whose letters are one of the words."""
        return sum(each in words for each in self.by_letters) / len(self.written) if self.written else 0.0

    @cached_property
    def id_like(self) -> float:
        """The share of cells that look like an id: one run of letters, digits and joining signs, a digit among them."""
        if not self.written:
            return 0.0
        return sum(bool(_ID_LIKE.fullmatch(text)) for text in self.written) / len(self.written)

    @cached_property
    def words_per_cell(self) -> float:
        """Words in a cell, on average."""
        return float(np.mean([len(text.split()) for text in self.written])) if self.written else 0.0

    def share_with(self, pattern: re.Pattern[str]) -> float:
        """The share of cells in which a pattern is found."""
        return float(np.mean([bool(pattern.search(text)) for text in self.written])) if self.written else 0.0


_LONG_ID: Final = 8


def _is_day(text: str) -> bool:
    if not _DATE_LIKE.fullmatch(text.partition(" ")[0]) and not _DATE_LIKE.fullmatch(text):
        return bool(re.match(r"\d{4}-\d{2}-\d{2}[T ]", text))
    return any(values.one_date(text, order) for order in (DateOrder.DAY_FIRST, DateOrder.MONTH_FIRST))


def _is_span(text: str) -> bool:
    if len(re.findall(r"\d", text)) < 6 and not values.MONTH_ALONE.fullmatch(text):
        return False
    for order in (DateOrder.DAY_FIRST, DateOrder.MONTH_FIRST):
        span = values.one_period(text, order)
        if span and span[0] < span[1]:
            return True
    return False


def sampled(table: RawTable) -> pl.DataFrame:
    """
    The rows that are looked at: of many, 60 % are those with the most cells other than 0, the others the first of the
    rest (their noughts are evidence too).
    """
    frame = table.frame.select(table.headers)
    # A line that sums up the others is no evidence: it is a total of another kind in every column.
    total = pl.coalesce(pl.when(pl.col(name).fill_null("") != "").then(pl.col(name)) for name in table.headers)
    rows = frame.filter(~total.str.contains(values.TOTAL_LINE).fill_null(False))
    frame = rows if len(rows) else frame
    if len(frame) <= max(_ENOUGH_TO_CHOOSE, SAMPLE):
        return frame.head(SAMPLE)
    expression = pl.sum_horizontal(
        (pl.col(name).fill_null("").str.contains("[1-9]")).cast(pl.Int32) for name in table.headers
    )
    order = frame.select(expression.alias("told")).to_series()
    full = order.arg_sort(descending=True).head(int(SAMPLE * _FULL_SHARE)).sort()
    others = np.setdiff1d(np.arange(len(frame)), full.to_numpy())[: SAMPLE - len(full)]
    return frame.select(pl.all().gather(np.sort(np.concatenate([full.to_numpy(), others]))))


def columns_of(table: RawTable) -> list[ColumnCells]:
    """The columns of a table's sample, in their order, read with the decimal sign that most of their cells prove."""
    frame = sampled(table)
    trimmed = {name: values.trimmed(frame[name]) for name in table.headers}
    votes = values.style_votes([(trimmed[name], False) for name in table.headers if name not in table.numeric])
    style = Style.COMMA if votes.comma > votes.dot else Style.DOT
    return [ColumnCells(name, cells, Style.DOT if name in table.numeric else style) for name, cells in trimmed.items()]
