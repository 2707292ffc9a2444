"""The plan: what may be sent, and what an edited sheet asks for."""

from dataclasses import asdict, replace

import pytest
from tests import planned

from nimbus_reef.core import plan
from nimbus_reef.core.changes import Action, Entity, value_problem

BID = replace(planned.BID, row=3, old_value="1.05", new_value="0.74")
NEGATIVE = replace(
    BID,
    row=5,
    action=Action.CREATE,
    entity=Entity.NEGATIVE,
    match_type="negative_exact",
    field="state",
    old_value="",
    new_value="enabled",
)
PLAN = [BID, NEGATIVE]


def sheet(changes):
    return [{name: str(value) for name, value in asdict(change).items()} for change in changes]


def test_an_untouched_sheet_changes_nothing():
    answer = plan.read_back(PLAN, sheet(PLAN))
    assert (answer.edited, answer.unplanned, answer.unchanged, answer.problems) == ((), (), 2, ())


def test_a_changed_value_is_taken_and_a_removed_row_leaves_the_plan():
    rows = sheet([BID])
    rows[0]["new_value"] = "0.80"
    answer = plan.read_back(PLAN, rows)
    assert [(change.row, change.new_value) for change in answer.edited] == [(3, "0.80")]
    assert answer.unplanned == (NEGATIVE,)


@pytest.mark.parametrize(
    ("column", "value", "reason"),
    [
        ("row", "9", "is not a row of this plan"),
        ("row", "x", "is not a row of this plan"),
        ("old_value", "1.10", "by now"),
        ("campaign", "D", "only new_value may be edited"),
        ("new_value", "cheap", "is not a number"),
        ("new_value", "0", "must be above 0"),
        ("new_value", "0.745", "more than two decimals"),
        ("new_value", "", "is empty"),
        ("new_value", "1.05", "is what it already was"),
        ("new_value", "nan", "is not a number"),
    ],
)
def test_what_is_wrong_is_an_error_at_its_row(column, value, reason):
    rows = sheet(PLAN)
    rows[0][column] = value
    answer = plan.read_back(PLAN, rows)
    assert len(answer.problems) == 1
    assert answer.problems[0].column == column
    assert reason in answer.problems[0].reason


def test_a_row_twice_is_an_error():
    answer = plan.read_back(PLAN, sheet([BID, BID, NEGATIVE]))
    assert [problem.reason for problem in answer.problems] == ["stands in the sheet twice"]


def test_two_changes_of_one_field_contradict_each_other():
    found = plan.problems([BID, replace(BID, row=4, new_value="0.90"), NEGATIVE])
    assert [(problem.row, problem.reason) for problem in found] == [(4, "contradicts row 3 of the plan")]


def test_a_negative_needs_a_negative_match_type():
    assert "negative_exact" in value_problem(replace(NEGATIVE, match_type="exact"))


PAUSED_CAMPAIGN = replace(
    planned.BID, entity=Entity.CAMPAIGN, field="state", new_value="paused", ad_group="", target="", match_type="", row=0
)
PAUSED_GROUP = replace(PAUSED_CAMPAIGN, entity=Entity.AD_GROUP, ad_group=planned.BID.ad_group)
BUDGET = replace(PAUSED_CAMPAIGN, field="daily_budget", old_value="20.00", new_value="16.00")
ELSEWHERE = replace(BID, row=9, campaign="another", ad_group="there")


@pytest.mark.parametrize("pause", [PAUSED_CAMPAIGN, PAUSED_GROUP])
def test_the_pause_of_a_campaign_or_ad_group_takes_the_place_of_what_is_inside(pause):
    result = plan.taken([BID, NEGATIVE, ELSEWHERE], [[pause]])
    assert result.new == (0,)
    assert {change.row for change in result.replaced} == {BID.row, NEGATIVE.row}


@pytest.mark.parametrize("pause", [PAUSED_CAMPAIGN, PAUSED_GROUP])
def test_nothing_inside_what_the_plan_pauses_goes_into_it(pause):
    result = plan.taken([replace(pause, row=1)], [[replace(BID, row=0)], [replace(ELSEWHERE, row=0)]])
    assert (result.new, result.stopped) == ((1,), (0,))


def test_a_budget_is_inside_its_campaign_and_not_inside_its_ad_group():
    assert plan.taken([replace(BUDGET, row=1)], [[PAUSED_CAMPAIGN]]).replaced
    assert plan.taken([replace(PAUSED_CAMPAIGN, row=1)], [[BUDGET]]).stopped == (0,)
    assert plan.taken([replace(PAUSED_GROUP, row=1)], [[BUDGET]]).new == (0,)


def test_a_package_that_is_only_partly_inside_goes_in_whole():
    package = [replace(BID, row=0), replace(ELSEWHERE, row=0)]
    assert plan.taken([replace(PAUSED_CAMPAIGN, row=1)], [package]).new == (0,)


def test_what_starts_again_what_the_plan_pauses_replaces_the_pause():
    starts = replace(PAUSED_CAMPAIGN, new_value="enabled")
    result = plan.taken([replace(PAUSED_CAMPAIGN, row=1)], [[starts]])
    assert [change.row for change in result.replaced] == [1]
