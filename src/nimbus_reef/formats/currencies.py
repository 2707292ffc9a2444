"""In which currency a file's money is: what its headings, its cells and a column of currencies say."""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Final

import polars as pl

from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import headings, values
from nimbus_reef.formats.contract import CellKind
from nimbus_reef.formats.kinds import READ_KINDS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.raw import RawTable

_DOLLARS: Final = frozenset({"USD", "CAD", "AUD", "NZD", "SGD", "HKD", "MXN", "CLP", "COP", "ARS", "TWD"})
_SIGNS: Final = {
    "€": frozenset({"EUR"}),
    "£": frozenset({"GBP"}),
    "$": _DOLLARS,
    "US$": frozenset({"USD"}),
    "C$": frozenset({"CAD"}),
    "CA$": frozenset({"CAD"}),
    "A$": frozenset({"AUD"}),
    "AU$": frozenset({"AUD"}),
    "NZ$": frozenset({"NZD"}),
    "S$": frozenset({"SGD"}),
    "HK$": frozenset({"HKD"}),
    "MX$": frozenset({"MXN"}),
    "R$": frozenset({"BRL"}),
    "¥": frozenset({"JPY", "CNY"}),
    "₹": frozenset({"INR"}),
    "₺": frozenset({"TRY"}),
    "₽": frozenset({"RUB"}),
    "₩": frozenset({"KRW"}),
    "kr": frozenset({"SEK", "NOK", "DKK", "ISK"}),
    "kr.": frozenset({"DKK", "NOK", "SEK"}),
    "zł": frozenset({"PLN"}),
    "Kč": frozenset({"CZK"}),
    "Ft": frozenset({"HUF"}),
    "lei": frozenset({"RON"}),
    "Fr": frozenset({"CHF"}),
    "Fr.": frozenset({"CHF"}),
}
_SAID: Final = "([A-Z]{1,2}\\$|" + "|".join(sorted(map(re.escape, _SIGNS), key=len, reverse=True)) + "|\\b[A-Z]{3}\\b)"
_COLUMN: Final = (
    "currency",
    "currency code",
    "wahrung",
    "devise",
    "moneda",
    "divisa",
    "valuta",
    "moeda",
    "waluta",
    "para birimi",
)


def _codes(text: str) -> frozenset[str]:
    """The currencies that a sign or a code can mean; empty for what means none."""
    if text in _SIGNS:
        return _SIGNS[text]
    return frozenset({text}) if text in values.CODES else frozenset()


def said_in(table: RawTable, columns: ColumnMap) -> dict[str, str]:
    """The signs and codes beside a table's money, each with the header where it stands."""
    kind = READ_KINDS[columns.kind]
    money = [
        columns.columns[column.name]
        for column in kind.columns
        if column.holds is CellKind.MONEY and column.name in columns.columns
    ]
    found: dict[str, str] = {}
    for header in money:
        for text in _in_heading(header):
            found.setdefault(text, header)
        if header not in table.numeric:
            for text in _beside_figures(table.frame[header]):
                found.setdefault(text, header)
    if money:
        for header in table.headers:
            if headings.normal(header) in _COLUMN:
                for text in values.trimmed(table.frame[header]).unique().to_list():
                    if _codes(text.upper()):
                        found.setdefault(text.upper(), header)
    return found


def _in_heading(header: str) -> list[str]:
    """
    Signs anywhere and codes in brackets; bare codes but those that are words (ALL, TOP), in capitals only well-known
    ones.
    """
    bracketed = re.findall(r"[(\[]\s*" + _SAID + r"\s*[)\]]", header)
    bare = [
        each
        for each in re.findall(_SAID, header)
        if each not in _WORDS and (header != header.upper() or each in _SIGNS or each in _WELL_KNOWN)
    ]
    return [each for each in dict.fromkeys([*bracketed, *bare]) if _codes(each)]


_WELL_KNOWN: Final = frozenset[str]().union(*_SIGNS.values())
_WORDS: Final = frozenset({"ALL", "TOP", "PEN", "CUP", "MAD", "SOS"})
"""Codes of currencies that are words in capitals."""


def _beside_figures(cells: pl.Series) -> Iterable[str]:
    odd = cells.filter(cells.cast(pl.Float64, strict=False).is_null()).drop_nulls().unique()
    entries = odd.str.extract(_SAID, 1).drop_nulls().unique().to_list()
    return sorted(each for each in entries if _codes(each))


def foreign(table: RawTable, columns: ColumnMap, own: str, place: str) -> str:
    """
    The currency of a file's money where it is not the account's; empty where it is, or nothing says. own: the
    account's.

    Raises BadFile where the file holds two currencies.
    """
    by_key = said_in(table, columns)
    possible = [(sign, header, _codes(sign)) for sign, header in by_key.items()]
    if not own or all(own in codes for _, _, codes in possible):
        return ""
    common = frozenset.intersection(*(codes for _, _, codes in possible))
    if not common:
        (first, where, _), (second, there, _) = (
            possible[0],
            next(each for each in possible if not each[2] & possible[0][2]),
        )
        raise BadFile(
            f"The file holds money in two currencies: {first} in “{where}” and {second} in “{there}”; nothing was"
            " loaded.",
            place=place,
            remedy="Download it for one marketplace at a time, or split it by currency.",
        )
    signs = [sign for sign, _, codes in possible if own not in codes]
    return next(iter(common)) if len(common) == 1 else signs[0]


def must_be_own(table: RawTable, columns: ColumnMap, own: str, place: str) -> str:
    """
    What to say of the load where amounts are converted; BadInput where they are in another currency and no rate was
    given.
    """
    other = foreign(table, columns, own, place)
    if not other:
        return ""
    if columns.rate is None:
        raise BadInput(
            f"The file's money is in {other}; the account counts in {own}.",
            place=place,
            remedy=(
                f"Load it into an account in {other}, or give a rate of your own: how many {own} one {other} is (--rate"
                " 0.92)."
            ),
        )
    return f"Money was converted from {other}: one {other} is {columns.rate:g} {own}."
