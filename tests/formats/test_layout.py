"""Separator and header line: detected, or chosen by the user."""

import pytest
import xlsxwriter

from nimbus_reef.errors import BadFile
from nimbus_reef.formats import files, mapping
from nimbus_reef.formats.raw import AS_FOUND, LINE, Layout, header_index

GROUPS = ["", "", "Traffic", "Traffic", "Traffic", "Sales", "Sales"]
HEADER = ["Day", "Campaign", "Impr.", "Clicks", "Cost", "Orders", "Revenue"]
ROWS = [[f"2026-10-{n:02}", "C", "900", "30", "15.00", "2", "40.00"] for n in range(1, 9)]


def csv(tmp_path, rows, sign=",", name="report.csv"):
    path = tmp_path / name
    path.write_text("".join(sign.join(row) + "\n" for row in rows))
    return path


@pytest.mark.parametrize("groups", [GROUPS, ["Time", "Campaign", *GROUPS[2:]], ["All of it"] * 7])
def test_a_row_of_groups_as_wide_as_the_table_stands_above_the_header(tmp_path, groups):
    table = files.read_table(csv(tmp_path, [groups, HEADER, *ROWS]), "report.csv")
    assert table.headers == tuple(HEADER)
    assert table.layout == Layout(",", 2)
    assert len(table.frame) == 8


@pytest.mark.parametrize(
    "below",
    [
        [["C", "G", "lamp", "exact", "enabled"], ["C", "G", "desk", "exact", "paused"]],
        [["C", "–", "n/a", "–", "n/a"], ["C", "4", "5", "6", "7"], ["D", "4", "5", "6", "7"]],
        [["C", "4", "5", "6", "7"], ["D", "E", "F", "G", "H"]],
    ],
)
def test_a_first_row_in_words_is_no_header(below):
    header = ["campaign", "ad group", "target", "match type", "state"]
    assert header_index([header, *below]) == 0


def test_the_header_that_was_said_is_taken_and_what_stands_above_it_is_its_title(tmp_path):
    rows = [
        ["Campaign", "of", "October", "by", "day", "in", "euro"],
        ["Day", "1", "2", "3", "4", "5", "6"],
        HEADER,
        *ROWS,
    ]
    path = csv(tmp_path, rows)
    assert files.read_table(path, "report.csv").headers == tuple(rows[0])
    told = files.read_table(path, "report.csv", layout=Layout("", 3))
    assert told.headers == tuple(HEADER)
    assert told.source_headers == tuple(rows[0]), "the next file of this source is known by what is found in it"
    assert told.frame[LINE].to_list() == list(range(4, 12))
    assert told.title.startswith("Campaign of October by day")
    assert told.first_lines[2] == ",".join(HEADER)


def test_the_separator_that_was_said_is_taken(tmp_path):
    path = csv(tmp_path, [["a;b", "c", "d"], *[[f"x{n};y", "1;2", "3"] for n in range(5)]])
    assert files.read_table(path, "report.csv").layout.separator == ","
    told = files.read_table(path, "report.csv", layout=Layout(";"))
    assert told.headers == ("a", "b,c,d")
    assert told.chosen_layout == Layout(";")


@pytest.mark.parametrize("line", [9, 10, 11, 60])
def test_a_header_below_all_rows_is_a_table_without_rows(tmp_path, line):
    with pytest.raises(BadFile, match=r"header but no rows|header is empty"):
        files.read_table(csv(tmp_path, [HEADER, *ROWS]), "report.csv", layout=Layout("", line))


def test_a_header_line_far_below_is_refused_and_no_other_line_is_taken(tmp_path):
    path = csv(tmp_path, [HEADER, *ROWS * 20])
    with pytest.raises(BadFile, match="Line 61 cannot be the header"):
        files.read_table(path, "report.csv", layout=Layout("", 61))
    assert files.read_table(path, "report.csv", layout=Layout("", 60)).headers[0] == "2026-10-03"


def test_a_sheet_s_header_is_said_for_that_sheet_alone(tmp_path):
    path = tmp_path / "two.xlsx"
    with xlsxwriter.Workbook(path) as book:
        for name in ("one", "two"):
            sheet = book.add_worksheet(name)
            for place, row in enumerate(
                [["a", "b", "c", "d", "e", "f", "g"], ["1", "2", "3", "4", "5", "6", "7"], HEADER, *ROWS]
            ):
                sheet.write_row(place, 0, row)
    one, two = files.read_tables(path, "two.xlsx", layouts={"two": Layout("", 3)})
    assert (one.headers, two.headers) == (tuple("abcdefg"), tuple(HEADER))
    assert (one.chosen_layout, two.chosen_layout) == (AS_FOUND, Layout("", 3))


def test_a_mapping_keeps_what_was_said(tmp_path):
    table = files.read_table(csv(tmp_path, [HEADER, *ROWS]), "report.csv", layout=Layout(",", 1))
    assert mapping.suggest_kind(table)[0].mapping.layout == Layout(",", 1)
