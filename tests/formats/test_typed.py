"""Figures as people type them."""

from decimal import Decimal

import pytest

from nimbus_reef.formats import typed


@pytest.mark.parametrize(
    ("text", "locale", "value"),
    [
        ("28", "en_IE", "28"),
        ("28.5", "en_IE", "28.5"),
        ("28,5", "en_IE", "28.5"),
        ("28 %", "en_IE", "28"),
        ("1,250", "en_IE", "1250"),
        ("1,250", "de_DE", "1.25"),
        ("1.250", "de_DE", "1250"),
        ("28.5", "de_DE", "28.5"),
        ("1 250,5", "fr_FR", "1250.5"),
        ("1\u202f250,5", "fr_FR", "1250.5"),
        ("1'250.5", "de_CH", "1250.5"),
        ("1 250,5", "en_GB", "1250.5"),
        ("−3", "en_GB", "-3"),
        (".5", "de_DE", "0.5"),
        ("12,3456", "en_IE", "12.3456"),
    ],
)
def test_a_figure_is_read_as_the_locale_writes_it_else_in_any_common_way(text, locale, value):
    assert typed.number(text, locale) == Decimal(value)


@pytest.mark.parametrize(
    "text", ["", " ", "one", "nan", "inf", "1e5", "1.2.3", "½", "٣", "--3", "0x10", "1" * 60, "=1"]
)
def test_what_is_no_figure_is_none(text):
    assert typed.number(text) is None


@pytest.mark.parametrize(
    ("text", "written"),
    [("0,8", "0.80"), ("1,250", "1250.00"), ("0.855", "0.855"), ("paused", "paused"), (" 3 ", "3.00")],
)
def test_amounts_have_two_decimals_and_what_cannot_have_stays(text, written):
    assert typed.two_decimals(text) == written
