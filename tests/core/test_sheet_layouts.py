"""The change sheet in a layout of one's own: what stands in a cell, which ids are missing, what cannot stand."""

import pytest

from nimbus_reef.core import sheet_layouts
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.sheet_layouts import FIXED, OURS, LayoutColumn, SheetLayout

BID = Change(1, Action.UPDATE, Entity.TARGET, "C", "bid", "0.64", "0.80", "G", "grow light", "exact")
BUDGET = Change(2, Action.UPDATE, Entity.CAMPAIGN, "C", "daily_budget", "12.00", "15.00")
NEW_CAMPAIGN = Change(3, Action.CREATE, Entity.CAMPAIGN, "N", "state", "enabled")
NEW_GROUP = Change(4, Action.CREATE, Entity.AD_GROUP, "N", "state", "enabled", ad_group="H", parent=3)
NEW_TARGET = Change(
    5, Action.CREATE, Entity.TARGET, "C", "bid", "0.50", ad_group="G", target="lamp", match_type="exact"
)
AD = Change(6, Action.UPDATE, Entity.PRODUCT_AD, "C", "state", "paused", "enabled", "G", sku="GL-1")
LAYOUT = SheetLayout(
    "Theirs",
    (
        LayoutColumn("Operation", FIXED, "Update"),
        LayoutColumn("Campaign", "campaign"),
        LayoutColumn("Target Id", "target_id"),
        LayoutColumn("Match", "match_type"),
        LayoutColumn("Bid", "new bid"),
        LayoutColumn("Budget", "new daily_budget"),
    ),
    {"exact": "Exact match"},
)


def test_a_cell_holds_a_text_a_name_an_id_a_word_or_the_value_of_its_field_alone():
    assert sheet_layouts.cells(BID, {"target_id": "77"}, LAYOUT) == ["Update", "C", "77", "Exact match", "0.64", ""]
    assert sheet_layouts.cells(BUDGET, {}, LAYOUT) == ["Update", "C", "", "", "", "12.00"]


def test_our_own_layout_is_our_own_sheet():
    assert sheet_layouts.cells(BID, {}, OURS)[:4] == ["1", "update", "target", "C"]
    assert [each.header for each in OURS.columns] == list(sheet_layouts.SHEET_COLUMNS)


def test_files_go_apart_by_what_is_changed():
    every = [BID, BUDGET, AD]
    assert list(sheet_layouts.files(every, LAYOUT)) == ["changes"]
    apart = sheet_layouts.files(every, SheetLayout("x", LAYOUT.columns, apart=True))
    assert {name: [each.row for each in part] for name, part in apart.items()} == {
        "target": [1],
        "campaign": [2],
        "product_ad": [6],
    }


def test_an_id_is_missed_where_the_thing_is_there_and_not_where_the_plan_creates_it():
    ids = ("campaign_id", "ad_group_id", "target_id", "ad_id")
    layout = SheetLayout("x", tuple(LayoutColumn(each, each) for each in ids))
    every = [BID, BUDGET, NEW_CAMPAIGN, NEW_GROUP, NEW_TARGET, AD]
    assert sheet_layouts.lacking(every, {}, layout) == {
        "campaign_id": [1, 2, 5, 6],
        "ad_group_id": [1, 5, 6],
        "target_id": [1],
        "ad_id": [6],
    }
    known = {row: {"campaign_id": "1", "ad_group_id": "2", "target_id": "3", "ad_id": "4"} for row in range(1, 7)}
    assert sheet_layouts.lacking(every, known, layout) == {}


@pytest.mark.parametrize(
    ("changed", "words"),
    [
        ({"name": ""}, "needs a name"),
        ({"columns": ()}, "needs a column"),
        ({"columns": (LayoutColumn("A", "row"), LayoutColumn("A", "campaign"))}, "Two columns are called"),
        ({"columns": (LayoutColumn("A", "mood"),)}, "cannot stand"),
        ({"columns": (LayoutColumn("", "row"),)}, "needs a header"),
        ({"columns": tuple(LayoutColumn(str(i), "row") for i in range(61))}, "up to 60"),
        ({"words": {"maybe": "x"}}, "none of ours"),
    ],
)
def test_what_cannot_stand_says_why(changed, words):
    values = {"name": "Theirs", "columns": LAYOUT.columns} | changed
    assert words in sheet_layouts.problem(SheetLayout(**values))


def test_what_can_stand_has_no_problem():
    assert sheet_layouts.problem(LAYOUT) is None
