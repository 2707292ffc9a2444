"""Figures as a locale writes them."""

import pytest
from babel.numbers import format_currency, format_decimal
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.formats.figures import Figures

LOCALES = ("en", "en_IE", "de", "de_CH", "fr", "sv", "pl", "pt_BR", "en_IN", "ja", "ar", "hi")


@given(
    st.sampled_from(LOCALES),
    st.sampled_from(["EUR", "USD", "INR", "JPY", "SEK"]),
    st.floats(-1e9, 1e9, allow_nan=False),
    st.sampled_from([0, 1, 2]),
)
def test_money_and_numbers_are_written_as_babel_writes_them(locale, currency, value, digits):
    """But for a minus that is one, which no line ends behind."""
    figures, rounded = Figures(locale, currency), round(value, digits) or 0
    decimals = "." + "0" * digits if digits else ""
    told = format_currency(rounded, currency, format=f"¤\u00a0#,##0{decimals}", locale=locale, currency_digits=False)
    assert figures.money(value, digits) == told.replace("-", "−\u2060")
    assert figures.number(value, digits) == format_decimal(rounded, f"#,##0{decimals}", locale=locale).replace("-", "−")


@pytest.mark.parametrize(("value", "written"), [(-0.4, "€\u00a00"), (-1.5, "−\u2060€\u00a02"), (None, "–")])
def test_what_rounds_to_nothing_has_no_sign(value, written):
    assert Figures("en_IE", "EUR").money(value) == written
