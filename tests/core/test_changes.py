"""One table says of every field of every kind of thing how its values are checked and what the change is called."""

import pytest

from nimbus_reef.core.changes import KINDS, Action, Change, Entity, ValueKind, named, sound, value_problem
from nimbus_reef.core.promises import Promise, guarded, projected


def change(entity, field, new, **other):
    base = {"row": 1, "action": Action.UPDATE, "entity": entity, "campaign": "C", "field": field, "new_value": new}
    return Change(**(base | other))


GOOD = {
    ValueKind.AMOUNT: "12.50",
    ValueKind.PERCENT: "40",
    ValueKind.STATE: "paused",
    ValueKind.BIDDING: "down_only",
    ValueKind.YES_NO: "yes",
    ValueKind.TEXT: "Another name",
    ValueKind.TARGETING: "auto",
}
WRONG = {
    ValueKind.AMOUNT: ("0", "must be above 0"),
    ValueKind.PERCENT: ("12.5", "whole number of per cent"),
    ValueKind.STATE: ("stopped", "none of enabled, paused, archived"),
    ValueKind.BIDDING: ("up", "none of fixed"),
    ValueKind.YES_NO: ("maybe", "none of yes, no"),
    ValueKind.TEXT: ("", "is empty"),
    ValueKind.TARGETING: ("broad", "none of auto, manual"),
}


@pytest.mark.parametrize(("entity", "field"), KINDS)
def test_every_field_takes_its_values_and_no_others(entity, field):
    match_type = "negative_exact" if entity is Entity.NEGATIVE else "exact"
    holds = KINDS[entity, field].holds
    assert value_problem(change(entity, field, GOOD[holds], match_type=match_type)) is None
    value, why = WRONG[holds]
    assert why in value_problem(change(entity, field, value, match_type=match_type))


@pytest.mark.parametrize(
    "value", ["9" * 30, "1e300", "1E-1", "inf", "nan", "1000000001", "0.001", "٣", "0x1", "1_0", " 1"]
)
@pytest.mark.parametrize(("entity", "field"), [key for key, kind in KINDS.items() if kind.holds.is_number])
def test_a_number_is_written_as_the_sheet_writes_it_and_has_bounds(entity, field, value):
    asked = change(entity, field, value)
    assert value_problem(asked) is not None
    assert not sound(asked)


def test_a_field_that_things_of_a_kind_do_not_have_is_refused():
    assert "a product ad does not have" in value_problem(change(Entity.PRODUCT_AD, "bid", "1.00"))


@pytest.mark.parametrize(
    ("planned", "what", "where"),
    [
        (change(Entity.TARGET, "bid", "1.00", target="lamp", match_type="exact", ad_group="A"), "lamp", "exact · A"),
        (change(Entity.NEGATIVE, "state", "enabled", target="diy", ad_group="A"), "diy", "A"),
        (change(Entity.PRODUCT_AD, "state", "paused", sku="GL-1", ad_group="A"), "GL-1", "A"),
        (change(Entity.PLACEMENT, "adjustment", "40", placement="top_of_search"), "top of search", ""),
        (change(Entity.CAMPAIGN, "daily_budget", "9.00"), "C", ""),
        (change(Entity.BID_BOOST, "percent", "20", days="1 2", from_hour="18", to_hour="22"), "C", "1 2 · 18 · 22"),
    ],
)
def test_a_change_is_named_in_full(planned, what, where):
    assert named(planned) == (what, where)


PROMISE = Promise(
    window=("2026-10-01", "2026-10-30"),
    clicks=60,
    orders=2,
    spend=40.0,
    sales=50.0,
    a=3.0,
    b=97.0,
    aov=25.0,
    target_acos=0.3,
    view="targets",
    row_id="7",
    projected={"spend": (-9.0, -8.0, -7.0), "sales": (-3.0, -2.0, -1.0)},
)


def test_a_promise_tells_how_many_days_it_rests_on():
    assert PROMISE.days == 30


def test_an_edited_bid_is_projected_anew_and_a_pause_as_it_was_accepted():
    paused = projected(change(Entity.TARGET, "state", "paused"), PROMISE)
    assert (paused.spend.low, paused.spend.middle, paused.sales.high) == (-9.0, -8.0, -1.0)
    cut = [
        projected(change(Entity.TARGET, "bid", new, old_value="1.00"), PROMISE).spend.middle for new in ("0.90", "0.70")
    ]
    assert cut[1] < cut[0] < 0


@pytest.mark.parametrize(
    ("field", "old", "new", "asked"),
    [
        ("bid", "0.87", "9.00", True),
        ("bid", "1.00", "2.00", False),
        ("bid", "1.00", "2.01", True),
        ("bid", "2.00", "0.50", False),
        ("state", "enabled", "paused", False),
        ("bid", "1.00", "1.50", True),
    ],
)
def test_a_rise_beyond_the_settings_is_asked_about(field, old, new, asked):
    """By more than it was, or where it may spend more than is let pass: the last one spends 900 in 30 days."""
    wanted = Change(1, Action.UPDATE, Entity.TARGET, "C", field, new, old, "G", "t", "exact")
    spend = 900.0 if (old, new) == ("1.00", "1.50") else 10.0
    promise = Promise(
        ("2026-10-01", "2026-10-30"),
        300,
        20,
        spend,
        900.0,
        10.0,
        90.0,
        30.0,
        0.3,
        {"spend": (0, 0, 0), "sales": (0, 0, 0)},
    )
    assert guarded(wanted, promise, 1.0, 500.0) is asked


def test_a_placement_is_called_as_everywhere():
    made = Change(1, Action.UPDATE, Entity.PLACEMENT, "C", "adjustment", "20", "0", placement="elsewhere_in_search")
    assert "rest of search" in " ".join(named(made))
