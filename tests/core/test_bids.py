"""Bids: what a click may cost, half of the way there, and every limit that holds a bid."""

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import bids
from nimbus_reef.core.bids import BidLimits, BidRule, Goal, Held, Pace
from nimbus_reef.core.response import ClickResponse

OWN = ClickResponse(e=0.75, spread=0.2, p=0.92)
FREE = BidRule(most_spend=9, least_gain=0)
"""No limit on what all bids together spend, and none too small."""
COLUMNS = {
    "clicks": pl.Int64,
    "orders": pl.Int64,
    "spend": pl.Float64,
    "a": pl.Float64,
    "b": pl.Float64,
    "aov": pl.Float64,
    "bid": pl.Float64,
    "window_bid": pl.Float64,
    "multiplier": pl.Float64,
    "target_acos": pl.Float64,
    "margin": pl.Float64,
    "goal": pl.String,
    "floor": pl.Float64,
    "ceiling": pl.Float64,
    "step_down": pl.Float64,
    "step_up": pl.Float64,
    "above_target": pl.Boolean,
    "own_brand": pl.Boolean,
    "out_of_budget": pl.Boolean,
    "page_broke": pl.Boolean,
    "live": pl.Boolean,
    "waits": pl.Boolean,
    "moved_days": pl.Int64,
    "quiet": pl.Boolean,
}
ROW = {
    **dict.fromkeys(("margin", "step_down", "step_up", "moved_days")),
    **dict.fromkeys(("above_target", "own_brand", "out_of_budget", "page_broke", "waits", "quiet"), False),
    "clicks": 60,
    "orders": 2,
    "spend": 48.0,
    "a": 4.0,
    "b": 96.0,
    "aov": 30.0,
    "bid": 1.0,
    "multiplier": 1.0,
    "target_acos": 0.28,
    "goal": Goal.SALES.value,
    "floor": 0.02,
    "ceiling": 10.0,
    "live": True,
}
"""60 clicks at 0.80 brought 2 orders; a click is worth 1.20."""
PROFIT = {"margin": 0.43, "goal": Goal.PROFIT.value}
RAISED = {"clicks": 110, "orders": 12, "spend": 49.5, "bid": 0.60, "a": 14.8, "b": 135.2}
THIN = {"clicks": 6, "orders": 0, "spend": 2.4, "bid": 0.50, "a": 1.95, "b": 34.05, "aov": 24.0}
UNCLICKED = {"clicks": 0, "orders": 0, "spend": 0.0, "bid": 0.50, "a": 1.95, "b": 28.05, "aov": 24.0}
ADJUSTED = {"clicks": 100, "spend": 42.0, "bid": 0.10, "multiplier": 4.5, "a": 5.0, "b": 95.0}
DEAR_BID = {"clicks": 100, "spend": 40.0, "bid": 2.0, "a": 5.0, "b": 95.0}
HOPELESS = {"clicks": 676, "orders": 1, "spend": 676 * 1.09, "bid": 1.21, "a": 3.0, "b": 713.0, "margin": 0.40}
BRAND = {"clicks": 400, "orders": 80, "spend": 96.0, "bid": 0.30, "a": 84.8, "b": 355.2, "own_brand": True}
LUCKY = {"clicks": 3, "orders": 3, "spend": 1.26, "bid": 0.50, "a": 5.0, "b": 38.0}
FAILED = {"clicks": 40, "orders": 0, "spend": 28.0, "bid": 0.80, "a": 4.8, "b": 95.2}
UNTESTED = {"clicks": 8, "orders": 0, "spend": 10.4, "bid": 1.60, "a": 2.0, "b": 46.0, "margin": 0.40}


def advised(*rows, rule=FREE, response=OWN):
    told = [{**ROW, **row} for row in rows]
    told = [{"window_bid": row["bid"], **row} for row in told]
    return bids.advised(pl.DataFrame(told, schema=COLUMNS), response, rule).to_dicts()


def one(rule=FREE, **row):
    return advised(row, rule=rule)[0]


def keys(advice):
    return [reason.key for reason in advice.reasons]


@pytest.mark.parametrize(
    ("row", "aim", "proposed"),
    [
        ({}, 0.42, 0.65),
        (PROFIT, 0.289671, 0.54),
        (RAISED, 1.105067, 0.81),
        (RAISED | PROFIT, 0.762156, 0.68),
        (THIN, 0.455, 0.48),
        (THIN | PROFIT, 0.313810, 0.40),
        (UNCLICKED, 0.52416, 0.51),
        (LUCKY, 1.162791, 0.76),
        (FAILED, 0.460800, 0.61),
        (UNTESTED, 0.430769, 0.83),
    ],
)
def test_a_bid_goes_half_of_the_way_to_what_a_click_may_cost(row, aim, proposed):
    found = one(**row)
    assert (found["aim"], found["proposed"]) == (pytest.approx(aim, abs=5e-7), proposed)
    assert (found["move"], found["held"]) == ("bid", "")


def test_profit_peaks_below_the_margin_and_never_above_the_target():
    found = one(**PROFIT)
    assert found["peak"] == pytest.approx(0.193114, abs=5e-7)
    assert found["goal_acos"] == found["peak"]
    assert one(**PROFIT | {"margin": 0.95})["goal_acos"] == 0.28
    assert one(goal=Goal.PROFIT.value)["goal_acos"] == 0.28, "without a margin the target stands in"


@pytest.mark.parametrize(
    ("row", "held"),
    [
        (ADJUSTED, Held.ON_AIM),
        (DEAR_BID, Held.PRICE),
        (BRAND, Held.OWN_BRAND),
        ({"live": False}, Held.NOT_LIVE),
        ({"goal": Goal.LEAVE.value}, Held.LEFT),
        ({"waits": True}, Held.YOUNG),
        ({"bid": None}, Held.NO_BID),
        ({"aov": None}, Held.NO_WORTH),
        ({"moved_days": 9}, Held.JUST_MOVED),
        (RAISED | {"above_target": True}, Held.ABOVE_TARGET),
        (RAISED | {"out_of_budget": True}, Held.OUT_OF_BUDGET),
        (RAISED | {"page_broke": True}, Held.PAGE),
        ({"bid": 0.02, "window_bid": 0.02, "spend": 1.2, "a": 0.1, "b": 99.9}, Held.FLOOR),
        (RAISED | {"bid": 10.0, "window_bid": 20.0, "spend": 1100.0, "aov": 900.0}, Held.CEILING),
        ({"bid": 0.05, "window_bid": 0.05, "spend": 2.4, "aov": 4.3}, Held.SMALL),
    ],
)
def test_why_a_bid_stays(row, held):
    found = one(**row)
    assert (found["held"], found["move"], found["proposed"]) == (held, "none", {**ROW, **row}["bid"])


def test_the_ratio_is_held_at_what_adjustments_in_force_allow():
    assert one(**ADJUSTED)["ratio"] == pytest.approx(0.2381, abs=5e-5)
    assert one(**ADJUSTED)["ratio_end"] == ""
    unknown = one(**ADJUSTED | {"multiplier": 1.0})
    assert (unknown["ratio"], unknown["ratio_end"]) == (0.5, "least")
    assert unknown["proposed"] == 0.10, "not raised against its price"
    assert one(**DEAR_BID)["ratio_end"] == "most"


def test_only_a_row_that_surely_loses_and_has_no_bid_left_is_paused():
    found = one(**HOPELESS)
    assert (found["move"], found["aim"], found["p_lose"]) == (
        "pause",
        pytest.approx(0.039070, abs=5e-7),
        pytest.approx(1.0, abs=5e-4),
    )
    untested = one(**UNTESTED)
    assert (untested["move"], untested["p_lose"]) == ("bid", pytest.approx(0.969, abs=5e-4))
    assert one(**FAILED)["move"] == "bid", "it is bid down half way like the rest"
    assert one(**HOPELESS | {"goal": Goal.LEAVE.value})["move"] == "none"
    unknown = one(**HOPELESS | {"bid": None, "window_bid": None})
    assert (unknown["move"], unknown["held"], unknown["gain"] > 0) == ("pause", "", True)
    assert one(**UNTESTED | {"bid": None, "window_bid": None})["held"] == Held.NO_BID
    assert one(**HOPELESS | {"moved_days": 2})["move"] == "pause"


def test_what_surely_loses_needs_a_test_of_its_own():
    told = pl.DataFrame({"n": [676, 8, 8, 0], "spend": [676 * 1.09, 10.4, 12.0, 0.0], "needed": [12.0] * 4})
    found = bids.loses(*told.get_columns(), pl.Series([3.0, 2.0, 2.0, 2.0]), pl.Series([713.0, 46.0, 46.0, 38.0]))
    assert found["loses"].to_list() == [True, False, True, False]
    assert found["p_lose"][3] is None


def test_a_bid_at_most_doubles_and_steps_are_a_choice():
    far = {"aov": 600.0}
    found = one(**far)
    assert (found["proposed"], found["doubled"]) == (2.0, True)
    steps = {"step_down": 0.30, "step_up": 0.20}
    rule = BidRule(Pace.STEPS, 9, least_gain=0)
    up, down = one(rule, **far, **steps), one(rule, **steps)
    assert (up["proposed"], up["stepped"]) == (1.20, True)
    assert (down["proposed"], down["stepped"]) == (0.70, True)
    assert one(BidRule(Pace.AT_ONCE, 9, least_gain=0))["proposed"] == 0.42
    assert one(BidRule(Pace.AT_ONCE, 9, least_gain=0), moved_days=1)["proposed"] == 0.42
    assert one(BidRule(raises_brand=True, most_spend=9, least_gain=0), **BRAND)["proposed"] == 0.60


def test_floor_and_ceiling_have_the_last_word():
    low, high = one(**THIN, floor=0.49), one(**RAISED, ceiling=0.75)
    assert (low["proposed"], low["at_floor"]) == (0.49, True)
    assert one(floor=0.70)["move"] == "pause", "it surely loses, and no bid above the floor would pay"
    assert (high["proposed"], high["at_ceiling"]) == (0.75, True)


def test_all_raises_together_add_a_tenth_of_spend_at_most():
    rows = [RAISED] * 6 + [{"bid": 1.0, "spend": 60.0}]
    free, held = advised(*rows), advised(*rows, rule=BidRule())
    assert {each["share_of_raise"] for each in free} == {1.0}
    share = held[0]["share_of_raise"]
    assert 0 < share < 1
    before = sum({**ROW, **row}["spend"] for row in rows)

    def cost(found):
        return sum(
            {**ROW, **row}["spend"] * (each["proposed"] / {**ROW, **row}["bid"]) ** OWN.of_spend
            for row, each in zip(rows, found, strict=True)
        )

    assert cost(free) > 1.1 * before
    assert cost(held) == pytest.approx(1.1 * before, rel=0.01)
    assert held[-1]["proposed"] == free[-1]["proposed"], "cuts are not held"
    nothing = advised(*rows[:-1], rule=BidRule(most_spend=1.0))
    assert {each["held"] for each in nothing} == {Held.SPEND}


def test_rows_without_clicks_count_as_rows_with_one():
    """A hundred raises of what nobody clicked are not free."""
    once = {"clicks": 1, "spend": 0.4, "bid": 0.5, "a": 1.0, "b": 20.0, "live": True}
    few = advised(*[once] * 30, *[UNCLICKED | {"aov": 90.0}] * 100, rule=BidRule())
    assert few[-1]["share_of_raise"] < 1


def test_what_gains_next_to_nothing_stays_and_few_changes_carry_most_of_the_gain():
    found = advised(
        {},
        FAILED,
        {"clicks": 1, "orders": 0, "spend": 0.06, "bid": 0.10, "aov": 2.0, "a": 1.0, "b": 20.0},
        rule=BidRule(most_spend=9),
    )
    assert [each["held"] for each in found] == ["", "", Held.TINY]
    gains = [each["gain"] for each in found]
    assert gains[0] > 0.05
    assert gains[2] == 0
    margin, x = 0.28 * OWN.of_spend / OWN.e, 0.65
    assert gains[0] == pytest.approx(margin * 1.2 * 60 * (x**OWN.e - 1) - 48 * (x**OWN.of_spend - 1))
    pause = one(**HOPELESS)
    assert pause["gain"] == pytest.approx(676 * 1.09 - margin * pause["worth"] * 676)
    assert bids.carries(pl.Series([1.0, 94.0, 0.0, 3.0, 2.0])).to_list() == [False, True, False, True, False]


def test_a_bid_without_traffic_rises_however_little_that_gains_and_what_a_change_adds_is_signed():
    idle, quiet = advised(
        UNCLICKED | {"bid": 0.30}, UNCLICKED | {"bid": 0.30, "quiet": True}, rule=BidRule(most_spend=9)
    )
    assert (idle["held"], idle["more_spend"]) == (Held.TINY, 0)
    assert (quiet["move"], quiet["proposed"]) == ("bid", 0.40)
    assert one(BidRule(most_spend=9), **UNCLICKED | {"bid": 0.60, "quiet": True})["held"] == Held.TINY, "no cut"
    assert one(BidRule(most_spend=9), **UNCLICKED, quiet=True, ceiling=0.5)["held"] == Held.CEILING
    cut, stop = one(), one(**HOPELESS)
    assert cut["more_clicks"] == pytest.approx(60 * (0.65**OWN.e - 1))
    assert cut["more_sales"] == pytest.approx(72 * (0.65**OWN.e - 1))
    assert cut["more_spend"] == pytest.approx(48 * (0.65**OWN.of_spend - 1))
    assert (stop["more_clicks"], stop["more_spend"]) == (-676, pytest.approx(-676 * 1.09))


@given(
    st.floats(0.02, 10), st.integers(0, 400), st.floats(0.01, 5), st.floats(0.1, 40), st.floats(1, 300), st.booleans()
)
def test_a_bid_never_leaves_its_limits_and_never_passes_its_aim(bid, clicks, price, a, b, own_brand):
    bid = round(bid, 2)
    found = one(BidRule(), bid=bid, clicks=clicks, orders=0, spend=clicks * price, a=a, b=b, own_brand=own_brand)
    if found["move"] == "bid":
        assert 0.02 <= found["proposed"] <= min(10, 2 * bid + 0.005)
        assert min(bid, found["aim"], 10) - 0.011 <= found["proposed"] <= max(bid, found["aim"], 0.02) + 0.011
        assert not own_brand or found["proposed"] < bid
    else:
        assert found["proposed"] == bid


def test_a_promoted_term_opens_near_what_its_clicks_cost_whatever_they_were_worth():
    """3 clicks, 3 orders, 0.99 paid, 0.33 a click: not at the 5.19 that three lucky clicks are worth."""
    lucky = bids.opening(value=18.5, target_acos=0.28, cpc=0.33, ratio=1.0)
    assert lucky.aim == pytest.approx(5.18)
    assert (lucky.proposed, keys(lucky)) == (pytest.approx(0.495, abs=0.006), ["opening_bid", "opening_near"])
    poor = bids.opening(value=0.5, target_acos=0.28, cpc=1.0, ratio=1.0)
    assert poor.proposed == pytest.approx(0.50)
    worth_it = bids.opening(value=4.0, target_acos=0.25, cpc=0.9, ratio=1.0)
    assert (worth_it.proposed, keys(worth_it)) == (1.0, ["opening_bid"])
    own = BidLimits(opening_most=3.0)
    assert bids.opening(value=18.5, target_acos=0.28, cpc=0.33, ratio=1.0, limits=own).proposed == 0.99


@given(st.floats(0, 100), st.floats(0.02, 5), st.floats(0.5, 2))
def test_an_opening_bid_never_leaves_the_neighbourhood_of_todays_price(value, cpc, ratio):
    bid = bids.opening(value=value, target_acos=0.28, cpc=cpc, ratio=ratio).proposed
    assert 0.5 * cpc * ratio - 0.006 <= bid <= 1.5 * cpc * ratio + 0.006 or bid in (0.02, 10.0)
