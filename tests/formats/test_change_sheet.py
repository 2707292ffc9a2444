"""The change sheet: out as CSV and XLSX, edited, and back without loss; cells nobody runs."""

from dataclasses import replace

import openpyxl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import plan
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.errors import BadFile
from nimbus_reef.formats import change_sheet, edited_sheet, tables

CHANGES = [
    Change(
        row=1,
        action=Action.UPDATE,
        entity=Entity.TARGET,
        campaign="=C · a",
        ad_group="G, “x”",
        target="-led",
        match_type="broad",
        field="bid",
        old_value="1.05",
        new_value="0.70",
        reason="38 clicks, no order.",
    ),
    Change(
        row=2,
        action=Action.CREATE,
        entity=Entity.NEGATIVE,
        campaign="C",
        ad_group="G",
        target="'@gif",
        match_type="negative_exact",
        field="state",
        new_value="enabled",
    ),
]


@given(st.text())
def test_safe_cells_read_back_unchanged_and_never_start_a_formula(text):
    safe = tables.safe_cell(text)
    assert tables.plain_cell(safe) == text
    assert not safe.startswith(("=", "+", "-", "@", "\t", "\r"))


def written(tmp_path, ending):
    path = tmp_path / f"sheet.{ending}"
    if ending == "csv":
        path.write_text("".join(change_sheet.as_csv(CHANGES)), newline="")
    else:
        with path.open("wb") as file:
            change_sheet.as_xlsx(CHANGES, file)
    return path


@pytest.mark.parametrize("ending", ["csv", "xlsx"])
def test_an_unedited_sheet_reads_back_as_the_plan(tmp_path, ending):
    answer = plan.read_back(CHANGES, edited_sheet.edited_rows(written(tmp_path, ending), f"sheet.{ending}"))
    assert (answer.problems, answer.unchanged) == ((), 2)


def test_a_value_edited_in_a_spreadsheet_is_taken(tmp_path):
    """Numbers are numbers in the workbook; 0.8 comes back as 0.80."""
    path = written(tmp_path, "xlsx")
    book = openpyxl.load_workbook(path)
    sheet = book.active
    header = [cell.value for cell in sheet[1]]
    assert sheet.cell(2, header.index("new_value") + 1).value == 0.7
    assert sheet.cell(2, header.index("campaign") + 1).value == "'=C · a"
    sheet.cell(2, header.index("new_value") + 1).value = 0.8
    book.save(path)
    answer = plan.read_back(CHANGES, edited_sheet.edited_rows(path, "sheet.xlsx"))
    assert answer.edited == (replace(CHANGES[0], new_value="0.80"),)


def test_a_sheet_without_a_column_is_refused(tmp_path):
    path = tmp_path / "sheet.csv"
    path.write_text("row,field\n1,bid\n2,bid\n")
    with pytest.raises(BadFile, match="new_value"):
        edited_sheet.edited_rows(path, "sheet.csv")
