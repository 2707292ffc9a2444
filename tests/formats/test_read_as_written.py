"""
What managers' files hold that is easily read as another number: currencies, blanks, per cents, spans of days, odd
figures.
"""

from dataclasses import replace
from datetime import date

import polars as pl
import pytest
import xlsxwriter

from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import currencies, files, mapping, reports, values
from nimbus_reef.formats.raw import RawTable
from nimbus_reef.formats.values import DateOrder, Style

HEAD = "Date,Campaign,Impressions,Clicks,{},Orders,Units,Sales"


def loaded(path, text, *, currency="EUR", rate=None, name="a.csv"):
    path.write_text(text)
    return parsed(path, name, currency=currency, rate=rate)


def parsed(path, name, *, currency="EUR", rate=None):
    table = files.read_table(path, name)
    columns = mapping.suggest_kind(table)[0].mapping
    return reports.parse(table, replace(columns, rate=rate), name, currency=currency)


def rows(*spends, sales="9.00"):
    return "".join(f"\n2026-10-{n:02d},C{n},90,5,{spend},1,1,{sales}" for n, spend in enumerate(spends, 1))


@pytest.mark.parametrize(
    ("heading", "spends", "foreign"),
    [
        ("Spend (USD)", ("12.50", "3.00"), "USD"),
        ("SPEND USD", ("12.50", "3.00"), "USD"),
        ("Spend", ("$12.50", "$3.00"), "$"),
        ("Spend", ("12.50 USD", "3.00 USD"), "USD"),
        ("Spend", ("£12.50", "£3.00"), "GBP"),
        ("Spend (EUR)", ("€12.50", "3.00"), ""),
        ("Spend", ("12.50", "3.00"), ""),
    ],
)
def test_money_in_another_currency_is_never_the_account_s(tmp_path, heading, spends, foreign):
    text = HEAD.format(heading) + rows(*spends)
    if not foreign:
        assert loaded(tmp_path / "f", text).sums["spend"] == 15_500_000
        return
    with pytest.raises(BadInput, match=f"is in {foreign.replace('$', '[$]')}; the account counts in EUR") as asked:
        loaded(tmp_path / "f", text)
    assert "--rate" in asked.value.remedy
    converted = loaded(tmp_path / "f", text, rate=0.5)
    assert converted.sums["spend"] == 7_750_000
    assert any("Money was converted" in warning for warning in converted.warnings)
    own = {"$": "USD", "£": "GBP"}.get(foreign, foreign)
    assert loaded(tmp_path / "f", text, currency=own).sums["spend"] == 15_500_000


def test_a_column_of_currencies_counts_and_two_of_them_are_refused(tmp_path):
    head = "Currency," + HEAD.format("Spend")
    told = head + "".join(f"\nUSD,2026-10-0{n},C{n},90,5,1.00,1,1,9.00" for n in range(1, 4))
    with pytest.raises(BadInput, match="is in USD"):
        loaded(tmp_path / "f", told)
    with pytest.raises(BadFile, match="in two currencies"):
        loaded(tmp_path / "f", told.replace("USD,2026-10-02", "EUR,2026-10-02"))
    with pytest.raises(BadFile, match=r"€.*[$]|[$].*€"):
        loaded(tmp_path / "f", HEAD.format("Spend") + rows("€1.00", "$2.00", "€3.00"))


@pytest.mark.parametrize("heading", ["SPEND ALL", "AD SPEND TOP", "Spend ALL"])
def test_a_word_in_capitals_is_no_currency(tmp_path, heading):
    assert loaded(tmp_path / "f", HEAD.format(heading) + rows("12.50", "3.00")).sums["spend"] == 15_500_000


def test_a_sign_means_every_currency_that_is_written_so():
    for own in ("USD", "CAD", "AUD", "MXN"):
        table = RawTable(pl.DataFrame({"Spend": ["$1.00"], "Campaign": ["A"], "__line": [2]}), ("Spend", "Campaign"))
        columns = mapping.ColumnMap("campaign_daily", {"spend": "Spend", "campaign": "Campaign"})
        assert currencies.foreign(table, columns, own, "") == ""


@pytest.mark.parametrize("unknown", ["#DIV/0!", "NaN", "#N/A", "#NAME?", "inf"])
def test_what_is_not_known_is_not_nothing(tmp_path, unknown):
    told = loaded(tmp_path / "f", HEAD.format("Spend") + rows(*["1.00"] * 27, unknown))
    assert told.rejects["reason"].to_list() == ["is an error of the report, not a value"]
    assert told.sums["spend"] == 27_000_000
    with pytest.raises(BadFile, match="“Spend” is blank in every row"):
        loaded(tmp_path / "f", HEAD.format("Spend") + rows(unknown, unknown))


def test_a_dash_is_nought_where_other_rows_say_something_and_a_blank_column_is_refused(tmp_path):
    assert loaded(tmp_path / "f", HEAD.format("Spend") + rows("1.00", "–", "")).sums["spend"] == 1_000_000
    with pytest.raises(BadFile, match="not known"):
        loaded(tmp_path / "f", HEAD.format("Spend") + rows("", "–", ""))


def workbook(path, *, hidden=False):
    book = xlsxwriter.Workbook(str(path))
    shown = book.add_format({"num_format": "0.0%"})
    sheet = book.add_worksheet("Report")
    head = ["SKU", "Item id", "Title", "Margin", "Price"]
    for place, name in enumerate(head):
        sheet.write(0, place, name)
    for line in range(1, 40):
        sheet.write_row(line, 0, [f"A-{line}", f"i{line}", "Lamp"])
        sheet.write(line, 3, 0.411, shown)
        sheet.write(line, 4, 12.5)
    sheet.write_formula(40, 4, "=E2*2", None, "")
    sheet.write_row(40, 0, ["A-40", "i40", "Lamp", 0.2])
    if hidden:
        other = book.add_worksheet("Old")
        other.hide()
        for line in range(200):
            other.write_row(line, 0, ["SKU", "Item id", "Title"] if not line else [f"B-{line}", "i", "x"])
    book.close()


def test_cells_shown_as_per_cent_are_read_as_they_are_shown(tmp_path):
    workbook(tmp_path / "a.xlsx")
    told = parsed(tmp_path / "a.xlsx", "a.xlsx")
    assert told.rows.filter(pl.col("sku") == "A-1")["margin"].to_list() == [41.1]


def test_a_formula_without_a_value_is_a_reject_with_its_line(tmp_path):
    workbook(tmp_path / "a.xlsx")
    told = parsed(tmp_path / "a.xlsx", "a.xlsx")
    assert told.rejects.select("line", "column").rows() == [(41, "price")]


def test_a_hidden_sheet_is_not_read_however_long_it_is(tmp_path):
    workbook(tmp_path / "a.xlsx", hidden=True)
    assert [table.sheet for table in files.read_tables(tmp_path / "a.xlsx", "a.xlsx")] == ["Report"]


@pytest.mark.parametrize(
    ("text", "number"),
    [
        ("12 TSD", None),
        ("2 MIO", None),
        ("EUR  -5", -5.0),
        ("US$  -5.00", -5.0),
        ("5)", None),
        ("(5)", -5.0),
        ("EUR 5 USD", None),
        ("1’234.50", 1234.5),
        ("1'234.50", 1234.5),
        ("€ 12", 12.0),
        ("12 €", 12.0),
        ("−5", -5.0),
        ("12K", None),
        ("1.2.3", None),
        ("R$ 12.00", 12.0),
        ("CHF 1'000.00", 1000.0),
    ],
)
def test_a_figure_is_itself_or_none(text, number):
    assert values.numbers(pl.Series([text]), Style.DOT).to_list() == [number]


def test_a_per_cent_is_no_money_and_a_grouped_count_no_one(tmp_path):
    told = loaded(tmp_path / "f", HEAD.format("Spend") + rows(*["1.00"] * 30, "5%"))
    assert told.rejects["column"].to_list() == ["spend"]
    text = HEAD.format("Spend") + rows(*["1.00"] * 30)
    told = loaded(tmp_path / "f", text + "\n2026-10-31,D,1.000,5,1.00,1,1,9.00")
    assert told.rejects.select("column", "value").rows() == [("impressions", "1.000")]


def test_sums_are_bounded_by_what_can_be_held_and_not_below(tmp_path):
    assert (
        loaded(tmp_path / "f", HEAD.format("Spend") + rows("1000000000000.00", "1.00")).sums["spend"] == 10**18 + 10**6
    )


@pytest.mark.parametrize(
    "text",
    [
        "2026-10-01 - 2026-10-30",
        "1 Oct 2026 – 30 Oct 2026",
        "du 01/10/2026 au 30/10/2026",
        "vom 1. Oktober 2026 bis 30. Oktober 2026",
        "from 1 Oct 2026 to 30 Oct 2026",
        "dal 1 ottobre 2026 al 30 ottobre 2026",
        "desde el 1 de octubre de 2026 hasta el 30 de octubre de 2026",
        "od 2026-10-01 do 2026-10-30",
        "2026-10-01/2026-10-30",
    ],
)
def test_a_range_of_days_is_a_period_and_never_its_first_day(text):
    assert values.one_period(text, DateOrder.DAY_FIRST) == (date(2026, 10, 1), date(2026, 10, 30))
    assert values.one_date(text, DateOrder.DAY_FIRST) is None


def test_a_row_with_a_range_among_days_is_a_reject(tmp_path):
    text = HEAD.format("Spend") + rows(*["1.00"] * 30)
    told = loaded(tmp_path / "f", text + "\n2026-10-01 - 2026-10-30,D,90,5,1.00,1,1,9.00")
    assert told.rejects["column"].to_list() == ["date"]


@pytest.mark.parametrize(
    ("text", "hour"),
    [
        ("14", 14),
        ("14:00", 14),
        ("00:00 - 01:00", 0),
        ("3 PM", 15),
        ("12 AM", 0),
        ("12 pm", 12),
        ("14 Uhr", 14),
        ("14h", 14),
        ("3-4 PM", 15),
        ("25", None),
        ("noon", None),
        ("13 PM", None),
    ],
)
def test_an_hour_is_read_however_the_clock_is_written(text, hour):
    assert values.one_hour(text) == hour


def test_hours_with_their_minutes_load_hour_by_hour(tmp_path):
    head = "Dag,Stunde,Campaign,Impressions,Clicks,Spend,Orders,Sales"
    told = loaded(
        tmp_path / "f",
        head
        + "".join(
            f"\n2026-10-0{day},{hour:02d}:00 - {(hour + 1) % 24:02d}:00,C,90,5,1.00,1,9.00"
            for day in (1, 2)
            for hour in range(24)
        ),
    )
    assert told.kind.name == "hourly"
    assert told.rows["hour"].to_list() == [*range(24)] * 2


def test_headers_are_each_their_own_whatever_they_say(tmp_path):
    (tmp_path / "f").write_text("a,a,a (2),__line,,b\n1,2,3,4,5,6\n")
    table = files.read_table(tmp_path / "f", "a.csv")
    assert table.headers == ("a", "a (2)", "a (2) (2)", "__line (2)", "column 5", "b")
    pl.DataFrame({"__line": ["x"], "Clicks": [1]}).write_parquet(tmp_path / "p")
    assert files.read_table(tmp_path / "p", "a.parquet").headers == ("__line (2)", "Clicks")


def test_a_settings_report_without_states_is_read_as_running_and_says_so(tmp_path):
    head = "Date,Campaign,Ad group,Keyword,Match type,Bid"
    told = loaded(tmp_path / "f", head + "".join(f"\n2026-10-01,C,G,t{n},exact,0.{n}5" for n in range(1, 9)))
    assert told.kind.name == "targets"
    assert set(told.rows["state"]) == {"enabled"}
    assert any("The file has no state: all its rows are read as enabled." in warning for warning in told.warnings)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("<!DOCTYPE html><html><body>Sign in</body></html>", "a web page"),
        ('{"rows": [1]}', "JSON"),
        ('[{"a": 1}]', "JSON"),
    ],
)
def test_a_file_that_is_no_report_is_called_what_it_is(tmp_path, text, said):
    (tmp_path / "f").write_text(text)
    with pytest.raises(BadFile, match=said):
        files.read_table(tmp_path / "f", "a.csv")


@pytest.mark.parametrize("text", ['"a", "b", "c"\n"1", "x, y", "3"\n', "a~b~c\n1~x, y~3\n"])
def test_blanks_after_commas_and_tildes_divide_cells(tmp_path, text):
    (tmp_path / "f").write_text(text)
    assert files.read_table(tmp_path / "f", "a.csv").frame.select("a", "b", "c").rows() == [("1", "x, y", "3")]
