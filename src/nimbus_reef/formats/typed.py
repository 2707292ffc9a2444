"""Figures that a person types into a field, a sheet or an address."""

from __future__ import annotations

import re
from decimal import Decimal
from typing import Final

from babel.numbers import NumberFormatError, get_group_symbol, parse_decimal

_FIGURE: Final = re.compile(r"[-+]?[\d.,'’ ]*\d[.,]?", re.ASCII)
_SPACES: Final = re.compile(r"[\s\u00a0\u202f\u2009]+")
_OTHERS: Final = ("en", "de", "de_CH", "fr")
"""Tried where the account's own way of writing does not give a figure: a point, a comma, ', a space."""
_LONGEST: Final = 40
_MOST_DIGITS: Final = 18
"""More than any figure here has, and few enough for exact arithmetic."""
_WHOLE: Final = re.compile(r"[0-9]{1,9}")


def number(text: str, locale: str = "en") -> Decimal | None:
    """
    The figure that a text says, None where it says none; a percent sign after it is the caller's to mean.

    Read as the locale writes figures, else in any other common way: `28,5` is 28.5 where nobody could mean more,
    `1,250` is 1250 in Ireland and 1.25 in Germany.
    """
    plain = _SPACES.sub(" ", text.strip().removesuffix("%").strip()).replace("−", "-")
    if len(plain) > _LONGEST or not _FIGURE.fullmatch(plain) or sum(map(str.isdigit, plain)) > _MOST_DIGITS:
        return None
    for each in (locale, *_OTHERS):
        try:
            return parse_decimal(_grouped(plain, get_group_symbol(each)), locale=each, strict=True)
        except NumberFormatError:
            continue
    return None


def whole(text: str) -> int:
    """A row, an id or a page, as an address or a form gives it: up to nine digits; ValueError for anything else."""
    if not _WHOLE.fullmatch(text):
        raise ValueError(text[:_LONGEST])
    return int(text)


def _grouped(plain: str, sign: str) -> str:
    """Any space or apostrophe as the one that the locale groups digits with."""
    if sign.isspace():
        return plain.replace(" ", sign)
    return plain.replace("'", sign).replace("’", sign) if sign in "'’" else plain


def two_decimals(text: str, locale: str = "en") -> str:
    """An amount as the change sheet writes it; what is not an amount, or is finer than that, stays as it was typed."""
    amount = number(text, locale)
    if amount is None or amount != round(amount, 2):
        return text.strip()
    return f"{amount:.2f}"
