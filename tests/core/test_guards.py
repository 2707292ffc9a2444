"""What asks for a second look before changes are sent, and what takes a change back."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.planned import BID, PROMISE

from nimbus_reef.core import promises
from nimbus_reef.core.changes import Action, Entity, inverse, value_problem
from nimbus_reef.core.guards import GuardKind, beyond, needs_second

MONTH, LIMITS = (1_000.0, 4_000.0), (0.25, 0.5)
LIVE = replace(PROMISE, clicks=300, orders=9, spend=300.0, sales=900.0, a=10, b=290, aov=100.0)


def test_a_sending_that_moves_much_says_so():
    cut = replace(BID, old_value="1.00", new_value="0.30")
    found = beyond([(cut, LIVE)], MONTH, LIMITS)
    assert [each.kind for each in found] == [GuardKind.SPEND]
    assert 0.25 < found[0].share < 0.3
    assert beyond([(replace(cut, new_value="0.90"), LIVE)], MONTH, LIMITS) == []


def test_a_thing_is_touched_once_however_many_changes_it_has():
    pair = [(replace(BID, new_value="0.99"), LIVE), (replace(BID, field="state", new_value="paused"), LIVE)]
    touched = beyond(pair, (1e9, 1_500.0), LIMITS)
    assert [(each.kind, round(each.share, 2)) for each in touched] == [(GuardKind.SALES, 0.6)]


def test_somebody_else_at_work_is_named_once():
    (found,) = beyond([], MONTH, LIMITS, ["Ann", "Bob", "Ann"])
    assert found.others == ("Ann", "Bob")


def test_more_than_one_may_send_alone_needs_another_person():
    assert not needs_second(10_000, 1e6, 0, 0.0)
    assert needs_second(11, 0.0, 10, 0.0)
    assert needs_second(1, 101.0, 0, 100.0)
    assert not needs_second(10, 100.0, 10, 100.0)


@pytest.mark.parametrize(
    ("change", "field", "old", "new"),
    [
        (BID, "bid", "0.70", "1.00"),
        (replace(BID, action=Action.CREATE, old_value=""), "state", "enabled", "paused"),
        (
            replace(
                BID, action=Action.CREATE, entity=Entity.NEGATIVE, field="state", old_value="", new_value="enabled"
            ),
            "state",
            "enabled",
            "archived",
        ),
        (
            replace(BID, action=Action.CREATE, entity=Entity.BID_BOOST, field="percent", old_value="", new_value="40"),
            "percent",
            "40",
            "0",
        ),
    ],
)
def test_what_takes_a_change_back(change, field, old, new):
    back = inverse(change)
    assert back is not None
    assert (back.action, back.field, back.old_value, back.new_value) == (Action.UPDATE, field, old, new)
    assert back.row == back.package == 0


def test_a_campaign_is_stopped_by_one_of_its_rows_and_what_had_no_value_by_none():
    made = replace(BID, action=Action.CREATE, entity=Entity.CAMPAIGN, field="daily_budget", new_value="20.00")
    assert inverse(made).new_value == "paused"
    assert inverse(replace(made, field="targeting", new_value="auto")) is None
    assert inverse(replace(BID, old_value="")) is None


@given(st.sampled_from(["0.10", "1.00", "7.35"]), st.sampled_from(["0.11", "2.00"]))
def test_taken_back_twice_is_as_it_was(old, new):
    change = replace(BID, old_value=old, new_value=new)
    assert inverse(inverse(change)) == replace(change, row=0)
    assert value_problem(inverse(change)) is None


def test_a_promise_of_profit_is_kept_with_the_change():
    kept = promises.with_profit(replace(BID, old_value="1.00", new_value="0.50"), LIVE, 0.4)
    assert kept.margin == 0.4
    worth, paid = 10 / 300 * 100 * 0.4, 1.0
    e, _, p = kept.response
    assert kept.profit == pytest.approx(10 * (0.5**e * (worth - paid * 0.5**p) - (worth - paid)))
    assert promises.with_profit(replace(BID, field="state", new_value="paused"), LIVE, None).profit is None
    placement = replace(BID, entity=Entity.PLACEMENT, field="adjustment", old_value="50", new_value="20")
    assert promises.price_ratio(placement) == pytest.approx(1.2 / 1.5)
