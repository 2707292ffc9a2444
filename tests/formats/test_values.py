"""Values: numbers of either style, dates of any order, words for choices."""

from datetime import date

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.formats import values
from nimbus_reef.formats.values import DateOrder, Style


@pytest.mark.parametrize(
    ("text", "style", "number"),
    [
        ("1.234,56", Style.COMMA, 1234.56),
        ("1,234.56", Style.DOT, 1234.56),
        ("€ 12", Style.DOT, 12),
        ("12 EUR", Style.DOT, 12),
        ("£3.50", Style.DOT, 3.5),
        ("(3.50)", Style.DOT, -3.5),
        ("-4", Style.DOT, -4),
        ("−4,5", Style.COMMA, -4.5),
        ("12.5%", Style.DOT, 12.5),
        ("12,5 %", Style.COMMA, 12.5),
        ("1 234", Style.DOT, 1234),
        ("1\u202f234,5", Style.COMMA, 1234.5),
        ("1'234.5", Style.DOT, 1234.5),
        ("abc", Style.DOT, None),
        ("", Style.DOT, None),
        ("12 apples", Style.DOT, None),
        ("1e999", Style.DOT, None),
        ("nan", Style.DOT, None),
        ("3 x 4", Style.DOT, None),
        ("12,50", Style.DOT, None),
        ("12.50", Style.COMMA, None),
        ("1,250", Style.DOT, 1250),
        ("1,250", Style.COMMA, 1.25),
        ("12 50", Style.DOT, None),
        ("0,500", Style.DOT, None),
        ("1,234,5", Style.DOT, None),
        ("12,34,567", Style.DOT, 1234567),
        ("9" * 60_000, Style.DOT, None),
    ],
)
def test_numbers(text, style, number):
    assert values.numbers(pl.Series([text]), style).to_list() == [number]


@given(st.floats(0, 1e7), st.sampled_from([("{:,.2f}", Style.DOT), ("{:.2f}", Style.DOT), ("{}", Style.COMMA)]))
def test_a_written_number_reads_back(number, form):
    pattern, style = form
    text = f"{number:,.2f}".translate(str.maketrans(",.", ".,")) if style is Style.COMMA else pattern.format(number)
    read = values.numbers(pl.Series([text]), style)[0]
    assert read == pytest.approx(round(number, 2), abs=1e-9)


def test_a_column_proves_its_style():
    assert values.style_votes([(pl.Series(["1.234,50", "3,20", "7"]), False)]).comma == 2
    assert values.style_votes([(pl.Series(["1,234.50", "3.20", "7"]), False)]).dot == 2
    assert values.style_votes([(pl.Series(["1,250", "3"]), False)]) == values.Votes(either=1)
    assert values.style_votes([(pl.Series(["1.234", "12", "10.000"]), True)]) == values.Votes(comma=2)
    assert values.style_votes([(pl.Series(["1.0", "12"]), True)]) == values.Votes(dot=1)


@pytest.mark.parametrize(
    ("text", "order", "day"),
    [
        ("2026-10-03", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("2026-10-03 00:00:00", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("20261003", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("03.10.2026", DateOrder.MONTH_FIRST, date(2026, 10, 3)),
        ("03/10/2026", DateOrder.DAY_FIRST, date(2026, 10, 3)),
        ("03/10/2026", DateOrder.MONTH_FIRST, date(2026, 3, 10)),
        ("3/10/26", DateOrder.DAY_FIRST, date(2026, 10, 3)),
        ("3 Oct 2026", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("Oct 3, 2026", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("46298", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("13/10/2026", DateOrder.MONTH_FIRST, None),
        ("10/13/2026", DateOrder.DAY_FIRST, None),
        ("Total", DateOrder.DAY_FIRST, None),
        ("10", DateOrder.DAY_FIRST, None),
        ("2026-02-30", DateOrder.UNKNOWN, None),
        ("2026-11", DateOrder.UNKNOWN, None),
        ("Nov 2026", DateOrder.UNKNOWN, None),
        ("9" * 60_000, DateOrder.UNKNOWN, None),
        ("10 November", DateOrder.UNKNOWN, None),
        ("3. Okt. 2026", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("3 de octubre de 2026", DateOrder.UNKNOWN, date(2026, 10, 3)),
        ("3 août 2026", DateOrder.UNKNOWN, date(2026, 8, 3)),
    ],
)
def test_dates(text, order, day):
    assert values.dates(pl.Series([text]), order).to_list() == [day]


@pytest.mark.parametrize(
    ("cells", "order"),
    [
        (["01/02/2026", "13/02/2026"], DateOrder.DAY_FIRST),
        (["01/02/2026", "02/13/2026"], DateOrder.MONTH_FIRST),
        (["01/02/2026", "03/04/2026"], DateOrder.UNKNOWN),
        (["13/02/2026", "02/13/2026"], DateOrder.UNKNOWN),
        (["2026-01-02"], None),
    ],
)
def test_the_order_of_day_and_month_is_proved_or_asked_for(cells, order):
    assert values.date_order(pl.Series(cells)) is order


@pytest.mark.parametrize(
    ("text", "first", "last"),
    [
        ("Suchbegriffe Oktober 2026", date(2026, 10, 1), date(2026, 10, 31)),
        ("Search terms, Feb. 2028", date(2028, 2, 1), date(2028, 2, 29)),
        ("terms_october_2026.csv", date(2026, 10, 1), date(2026, 10, 31)),
        ("search-terms-2026-10.csv", date(2026, 10, 1), date(2026, 10, 31)),
        ("terms_2026-10-17.csv", None, None),
        ("made on 1. Oktober 2026", None, None),
        ("3-Oct-2026", None, None),
        ("budget 2026", None, None),
        ("2026-13", None, None),
    ],
)
def test_a_month_in_a_title_is_all_of_its_days(text, first, last):
    """A month with a day before it is that day, and no month."""
    assert values.month_in(text) == ((first, last) if first else None)


def test_choices_go_by_their_letters():
    aliases = {"exact": "exact", "exact match": "exact", "negative exact": "negative_exact"}
    cells = pl.Series(["Exact match", "EXACT", "Negative_Exact", "near"])
    assert values.choices(cells, aliases).to_list() == ["exact", "exact", "negative_exact", None]
