"""Report files in: messy ones read right, bad ones told where and why."""

import codecs
from dataclasses import replace

import polars as pl
import pytest
import xlsxwriter
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import files, mapping, raw, reports
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.raw import Limits

HEADERS = [
    "Day",
    "Campaign name",
    "Ad group name",
    "Bid on",
    "Matching",
    "Shopper searched",
    "Times shown",
    "Clicks",
    "Cost (EUR)",
    "Purchases",
    "Revenue (EUR)",
]
ROWS = [
    ["2026-10-13", "C · a", "G", "grow light", "Exact match", "grow light", "1200", "12", "9.60", "1", "29.90"],
    ["2026-10-13", "C · a", "G", "grow light", "broad", "led “grow”, light", "900", "10", "8.00", "0", "0"],
    ["2026-10-14", "C · a", "G", "grow light", "broad", "led “grow”, light", "30", "1", "0.80", "0", "–"],
]


def csv_text(rows, delimiter=",", headers=HEADERS):
    def cell(text):
        return '"' + text.replace('"', '""') + '"' if any(c in text for c in f'{delimiter}"\n') else text

    return "\n".join(delimiter.join(cell(c) for c in row) for row in [headers, *rows]) + "\n"


def read(path, text, encoding="utf-8", name="report.csv"):
    path.write_bytes(text if isinstance(text, bytes) else text.encode(encoding))
    table = files.read_table(path, name)
    suggestion = mapping.suggest_kind(table)[0]
    return table, suggestion


def parse(path, text, encoding="utf-8", name="report.csv"):
    table, suggestion = read(path, text, encoding, name)
    return reports.parse(table, suggestion.mapping, name)


@pytest.fixture
def path(tmp_path):
    return tmp_path / "file"


SUMS = {"impressions": 2130, "clicks": 23, "spend": 18_400_000, "orders": 1, "units": 0, "sales": 29_900_000}


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
@pytest.mark.parametrize("delimiter", [",", ";", "\t"])
def test_any_encoding_and_separator(path, encoding, delimiter):
    """The strange headers are recognised and the money is exact."""
    parsed = parse(path, csv_text(ROWS, delimiter), encoding)
    assert parsed.kind.name == "search_term_daily"
    assert parsed.sums == SUMS
    assert parsed.rows["search_term"][1] == "led “grow”, light"


def test_utf_16_big_endian(path):
    text = codecs.BOM_UTF16_BE + csv_text(ROWS).encode("utf-16-be")
    assert parse(path, text).sums == SUMS


def test_title_line_totals_line_and_decimal_commas(path):
    """What spreadsheets add around the rows is left out and said."""
    rows = [[*row[:6], row[6], row[7], row[8].replace(".", ","), row[9], row[10].replace(".", ",")] for row in ROWS]
    rows[0][6] = "1.200"
    total = ["Total", "", "", "", "", "", "2.130", "23", "18,40", "1", "29,90"]
    text = "Search report, all brands\n\n" + csv_text([*rows, total], ";")
    parsed = parse(path, text)
    assert parsed.sums == SUMS
    assert any("totals line" in warning for warning in parsed.warnings)
    assert any("above the header" in warning for warning in parsed.warnings)


def test_a_product_called_total_is_no_total(path):
    rows = [[*ROWS[0][:1], "Total grow", *ROWS[0][2:]], ROWS[1]]
    assert len(parse(path, csv_text(rows)).rows) == 2


def test_a_column_of_dates_is_the_day_however_it_is_headed(path):
    _, suggestion = read(path, csv_text(ROWS, headers=["Tag", *HEADERS[1:]]))
    assert suggestion.mapping.columns["date"] == "Tag"
    assert suggestion.missing == ()


@pytest.mark.parametrize(
    ("heads", "lacks"),
    [
        ("Kampagnenname;Anzeigengruppenname;Kunden-Suchbegriff;Targeting;Übereinstimmungstyp", ()),
        ("Nom de la campagne;Nom du groupe d'annonces;Terme de recherche client;Ciblage;Type de correspondance", ()),
        ("Campaign;Ad group;Search term;Target;Unheard of", ()),
        ("Campaign;Ad group;Search term;Target;Unheard of, words too", ("match_type",)),
    ],
)
def test_rows_that_a_coarser_report_cannot_tell_apart_are_not_read_as_one(path, heads, lacks):
    """A sum of search terms is no sum of campaigns, even where a column is not recognised."""
    match = "Schmal" if "words too" in heads else "Phrase"
    rows = "".join(f"K{n % 3};G;wort {n};ziel {n % 7};{match};90;5;1,50;1;9;01.10.2026;30.10.2026\n" for n in range(40))
    _, best = read(path, f"{heads};Impressions;Clicks;Spend;Orders;Sales;Start date;End date\n{rows}")
    assert (best.mapping.kind, best.missing) == ("search_term_daily", lacks)


def test_identical_lines_count_once_and_other_repeats_add_up(path):
    other = [*ROWS[0]]
    other[7], other[10] = "5", "10.10"
    parsed = parse(path, csv_text([ROWS[0], ROWS[0], other, ROWS[1]]))
    first = parsed.rows.filter(pl.col("match_type") == "exact").to_dicts()
    assert [(row["clicks"], row["sales"]) for row in first] == [(17, 40 * MICRO)]
    assert any("identical" in warning for warning in parsed.warnings)
    assert any("repeat the key" in warning for warning in parsed.warnings)


def test_repeats_combine_shares_and_ranks_by_impressions(path):
    headers = [*HEADERS, "Impression share", "Rank"]
    one = [*ROWS[0], "50%", "2"]
    two = [*ROWS[0], "10%", "8"]
    two[6] = "300"
    parsed = parse(path, csv_text([one, two], headers=headers))
    row = parsed.rows.to_dicts()[0]
    assert row["impression_share"] == pytest.approx(1500 / (1200 / 0.5 + 300 / 0.1))
    assert row["impression_rank"] == pytest.approx((1200 * 2 + 300 * 8) / 1500)


@pytest.mark.parametrize("blank", ["", " ", "  ", "\t", "\u00a0", "\u3000 "])
def test_a_row_that_says_nothing_is_no_row(path, blank):
    """Whatever white space its cells are, and wherever it stands."""
    nothing = [blank] * len(HEADERS)
    for rows in ([nothing, *ROWS], [ROWS[0], nothing, *ROWS[1:]], [*ROWS, nothing]):
        parsed = parse(path, csv_text(rows))
        assert (len(parsed.rows), len(parsed.rejects)) == (len(ROWS), 0)
        assert not any("totals" in each for each in parsed.warnings)


def bad(row, column, value):
    changed = [*row]
    changed[column] = value
    return changed


@pytest.mark.parametrize(
    ("column", "value", "name", "reason"),
    [
        (0, "soon", "date", "not a readable date"),
        (0, "", "date", "missing"),
        (1, "", "campaign", "missing"),
        (4, "nearly", "match_type", "none of"),
        (7, "many", "clicks", "not a readable number"),
        (7, "1.5", "clicks", "not a readable number"),
        (8, "-3", "spend", "negative"),
        (8, "3 apples", "spend", "not a readable number"),
    ],
)
def test_a_bad_cell_rejects_its_row_with_place_and_reason(path, column, value, name, reason):
    """One bad row of fifty goes to the rejects with its physical line; the others load."""
    good = [bad(ROWS[0], 5, f"term {number}") for number in range(49)]
    good[3] = bad(good[3], 5, "two\nlines")
    parsed = parse(path, csv_text([*good, bad(ROWS[0], column, value)]))
    assert len(parsed.rows) == 49
    found = parsed.rejects.to_dicts()
    assert [(row["line"], row["column"]) for row in found] == [(52, name)]
    assert reason in found[0]["reason"]


def test_above_five_percent_nothing_is_loaded(path):
    rows = [
        bad(bad(ROWS[0], 5, f"t{number}"), 8, "x") if number < 2 else bad(ROWS[0], 5, f"t{number}")
        for number in range(30)
    ]
    with pytest.raises(BadFile) as problem:
        parse(path, csv_text(rows))
    assert "spend is not a readable number" in problem.value.message
    assert "first on line 2" in problem.value.message


@pytest.mark.parametrize(
    ("content", "name", "words"),
    [
        (b"", "a.csv", "empty"),
        (b"x", "a.doc", "cannot be read"),
        (b"a,b,c\n", "a.csv", "no rows"),
        (b"not a zip", "a.xlsx", "not a workbook"),
        (b"PAR1nonsense", "a.parquet", "not a readable Parquet file"),
    ],
)
def test_what_is_no_report_is_refused_with_a_remedy(path, content, name, words):
    path.write_bytes(content)
    with pytest.raises(BadFile) as problem:
        files.read_table(path, name)
    assert words in str(problem.value)
    assert problem.value.remedy
    assert problem.value.place == name


def test_limits_are_told(path):
    path.write_text(csv_text(ROWS))
    with pytest.raises(BadFile, match="3 rows; at most 2"):
        files.read_table(path, "a.csv", limits=Limits(max_rows=2))
    with pytest.raises(BadFile, match="GB"):
        files.read_table(path, "a.csv", limits=Limits(max_bytes=10))


def workbook(path, rows, top=0):
    book = xlsxwriter.Workbook(str(path))
    book.add_worksheet("notes").write(0, 0, "hello")
    sheet = book.add_worksheet("data")
    for number, row in enumerate([HEADERS, *rows]):
        for index, cell in enumerate(row):
            plain = cell.replace(".", "", 1)
            sheet.write(number + top, index, float(cell) if plain.isdigit() and index > 5 else cell)
    book.close()


def test_xlsx_takes_the_longest_sheet_and_keeps_line_numbers(path):
    workbook(path, ROWS, top=3)
    table = files.read_table(path, "a.xlsx")
    assert table.frame[raw.LINE].to_list() == [5, 6, 7]
    parsed = reports.parse(table, mapping.suggest_kind(table)[0].mapping, "a.xlsx")
    assert parsed.sums == SUMS


def test_a_workbook_bomb_is_refused(path):
    workbook(path, [bad(ROWS[0], 5, "a" * 30_000)] * 40)
    with pytest.raises(BadFile, match="unpacks to"):
        files.read_table(path, "a.xlsx", limits=Limits(max_xlsx_ratio=3))


def test_parquet_is_read_too(path):
    pl.DataFrame(ROWS, schema=HEADERS, orient="row").write_parquet(path)
    table = files.read_table(path, "a.parquet")
    assert reports.parse(table, mapping.suggest_kind(table)[0].mapping, "a.parquet").sums == SUMS


MESSY = st.lists(
    st.tuples(
        st.integers(1, 28),
        st.sampled_from(["C1", "C2 · x"]),
        st.text("abß'\" ,;", min_size=1, max_size=6),
        st.integers(0, 9999),
        st.integers(0, 99),
        st.integers(0, 10**7),
        st.integers(0, 9),
        st.integers(0, 10**7),
    ).filter(lambda row: row[2].strip()),
    min_size=2,
    max_size=25,
    unique_by=lambda row: (row[0], row[1], row[2].strip()),
)


@settings(max_examples=40)
@given(MESSY, st.integers(1, 24), st.sampled_from([",", ";", "\t"]))
def test_a_file_split_in_two_is_the_file_whole(tmp_path_factory, cells, cut, delimiter):
    """Both halves together hold exactly the rows and sums of the whole, in any format."""
    rows = [
        [f"2026-09-{d:02}", c, "G", "t", "broad", term, str(i), str(k), f"{s / 100:.2f}", str(o), f"{v / 100:.2f}"]
        for d, c, term, i, k, s, o, v in cells
    ]
    path = tmp_path_factory.mktemp("split") / "f"
    columns = dict(
        zip(
            [
                "date",
                "campaign",
                "ad_group",
                "target",
                "match_type",
                "search_term",
                "impressions",
                "clicks",
                "spend",
                "orders",
                "sales",
            ],
            HEADERS,
            strict=True,
        )
    )
    chosen = ColumnMap("search_term_daily", columns)

    def parsed(part):
        path.write_text(csv_text(part, delimiter))
        return reports.parse(files.read_table(path, "f.csv"), chosen, "f.csv").rows

    whole = parsed(rows)
    halves = pl.concat([parsed(part) for part in (rows[:cut], rows[cut:]) if part])
    key = ["date", "campaign", "search_term"]
    assert halves.sort(key).equals(whole.sort(key))
    for name, position in (("spend", 5), ("sales", 7)):
        assert whole[name].sum() == sum(row[position] * 10_000 for row in cells)


@pytest.mark.slow
def test_every_kind_s_own_column_names_are_recognised(path):
    """A file in the contract's own names maps to its kind without a question."""
    from nimbus_reef.formats.contract import SPAN_COLUMNS, CellKind
    from nimbus_reef.formats.kinds import KINDS

    example = {
        CellKind.DATE: "2026-10-13",
        CellKind.TEXT: "word",
        CellKind.COUNT: "3",
        CellKind.MONEY: "2.50",
        CellKind.SHARE: "0.5",
        CellKind.PERCENT: "12",
        CellKind.RANK: "2",
        CellKind.NUMBER: "2",
        CellKind.HOUR: "3",
        CellKind.WEEK: "2026-10-12",
        CellKind.MONTH: "2026-10",
        CellKind.TIME: "2026-10-13T09:30",
    }
    for kind in KINDS.values():
        columns = [column for column in kind.columns if not kind.takes_blocks or column.name not in SPAN_COLUMNS]
        cells = [
            next(iter(column.aliases)) if column.holds is CellKind.CHOICE else example[column.holds]
            for column in columns
        ]
        header = [column.name for column in columns]
        _, best = read(path, csv_text([cells, cells], headers=header))
        assert best.mapping.kind == kind.name
        assert dict(best.mapping.columns) == dict(zip(header, header, strict=True))


@pytest.mark.parametrize("old_new", [("0.63", "0.70"), ("enabled", "paused"), ("2026-10-01", "2026-10-09")])
def test_what_a_setting_was_and_became_is_read_whatever_it_is(path, old_new):
    header = ["at", "campaign", "ad_group", "target", "match_type", "field", "old", "new", "by"]
    row = ["2026-10-13T08:00:00Z", "own · exact", "lamps", "grow light", "exact", "bid", *old_new, "ann"]
    parsed = parse(path, csv_text([row, [*row[:3], "led", *row[4:]]], headers=header))
    assert parsed.kind.name == "changes"
    assert parsed.rows.select("old", "new").row(0) == old_new
    assert parsed.warnings == ()


def test_columns_that_nothing_is_read_from_are_named(path):
    told = parse(path, csv_text([[*row, "x", "y"] for row in ROWS], headers=[*HEADERS, "My note", "Colour"]))
    assert told.warnings == ("Columns of the file that are not used: My note, Colour.",)
    many = [f"extra {n}" for n in range(9)]
    told = parse(path, csv_text([[*row, *many] for row in ROWS], headers=[*HEADERS, *many]))
    assert told.warnings[0].endswith("extra 5 and 3 more.")


def test_what_one_row_is_follows_from_the_days_it_covers(path):
    _, suggestion = read(path, csv_text(ROWS))
    daily = suggestion.mapping
    assert daily.row_is.endswith("× day")
    columns = {k: v for k, v in daily.columns.items() if k != "date"}
    assert replace(daily, columns=columns).row_is.endswith("× the days that it is the sum of")


def test_a_mapping_must_be_whole(path):
    table, suggestion = read(path, csv_text(ROWS))
    columns = dict(suggestion.mapping.columns)
    with pytest.raises(BadInput, match="chosen for sales"):
        mapping.checked(
            replace(suggestion.mapping, columns={k: v for k, v in columns.items() if k != "sales"}), table.headers
        )
    with pytest.raises(BadInput, match="both"):
        mapping.checked(replace(suggestion.mapping, columns=columns | {"sales": columns["spend"]}), table.headers)
    with pytest.raises(BadInput, match="cannot feed"):
        mapping.checked(replace(suggestion.mapping, columns=columns | {"sales": "nowhere"}), table.headers)


def test_measures_are_all_counted():
    assert set(SUMS) == set(MEASURES)
