"""Advice on every bid of an account, from what is loaded: what it rests on, what it comes to, and whom it spares."""

from dataclasses import replace
from datetime import timedelta

import polars as pl
import pytest

from nimbus_reef.analysis import bid_advice, bid_response, groups, judged_proposals, multipliers
from nimbus_reef.analysis.judged import judged_targets, judged_terms
from nimbus_reef.core.bids import Goal, Held, Pace
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.own_limits import Limit, OwnLimit, place_of
from nimbus_reef.core.projection import total
from nimbus_reef.core.settings import OwnBrand
from nimbus_reef.core.windows import Window


def having(selection, **changed):
    settings = replace(selection.account.settings, **changed)
    return replace(selection, account=replace(selection.account, settings=settings, bid_limits=settings.bid_limits))


def limited(selection, *own):
    return replace(selection, account=replace(selection.account, own_limits=own))


def test_every_target_has_advice_once_and_says_why_where_it_stays(facts, selection):
    found = bid_advice.advised(facts, selection)
    assert sorted(found["row_id"]) == sorted(judged_targets(facts, selection)["row_id"])
    stays = found.filter(pl.col("move") == "none")
    assert 0 < len(stays) < len(found)
    assert set(stays["held"]) <= set(Held)
    assert "" not in set(stays["held"])
    assert set(found.filter(pl.col("move") != "none")["held"]) == {""}


def test_advice_is_that_of_the_whole_account_whatever_part_is_looked_at(facts, selection):
    campaign = str(judged_targets(facts, selection)["campaign"][0])
    part = replace(selection, part=replace(selection.part, campaign=campaign))
    assert bid_advice.advised(facts, part).equals(bid_advice.advised(facts, selection))


def test_all_bids_together_keep_to_the_limit_on_spend(facts, selection):
    rows = bid_advice.with_advice(facts, selection, judged_targets(facts, selection))
    moved = rows.filter(pl.col("move") == "bid", pl.col("spend") > 0)
    response = bid_response.learned(facts, selection)
    x = pl.col("proposed") / (pl.col("bid") / 1e6)
    more = moved.select((pl.col("spend") * (x**response.of_spend - 1)).sum()).item()
    assert more <= 0.101 * rows["spend"].sum()


def test_most_profit_bids_less_than_most_sales_where_margins_are_known(facts, selection):
    sales = bid_advice.advised(facts, selection)
    profit = bid_advice.advised(facts, having(selection, goal=Goal.PROFIT.value))
    assert (profit["goal_acos"] <= sales["goal_acos"] + 1e-9).all()
    assert profit["proposed"].sum() < sales["proposed"].sum()


def test_the_nearest_goal_and_step_count(facts, selection):
    rows = judged_targets(facts, selection).with_columns(pl.col("campaign").cast(pl.String))
    name = rows["campaign"][0]
    own = (
        OwnLimit("campaign", name, Limit.GOAL, place_of(Goal.LEAVE)),
        OwnLimit("portfolio", "none such", Limit.STEP_DOWN, 0.1),
    )
    found = bid_advice.with_advice(facts, limited(selection, *own), rows)
    left = found.filter(pl.col("held") == Held.LEFT)
    assert set(left["campaign"]) == {name}
    assert set(found.filter(pl.col("campaign") == name)["held"]) <= {Held.LEFT, Held.NOT_LIVE}
    steps = (OwnLimit("campaign", name, Limit.STEP_DOWN, 0.1),)
    stepped = bid_advice.with_advice(facts, limited(selection, *steps), rows).filter(pl.col("campaign") == name)
    assert (stepped["proposed"] >= 0.9 * stepped["bid"] / 1e6 - 0.006).all()


def test_at_once_and_steps_are_choices(facts, selection):
    half, once, steps = (
        bid_advice.advised(facts, having(selection, pace=pace.value, spend_more=5.0)).filter(
            pl.col("aim").is_not_null()
        )
        for pace in (Pace.HALF, Pace.AT_ONCE, Pace.STEPS)
    )
    both = half.select("row_id", "aim", near="proposed", moved="move").join(
        once.select("row_id", far="proposed", also="move"), on="row_id"
    )
    moved = both.filter(pl.col("moved") == "bid", pl.col("also") == "bid")
    assert ((moved["far"] - moved["aim"]).abs() <= (moved["near"] - moved["aim"]).abs() + 0.011).all()
    bids = judged_targets(facts, selection).select("row_id", now=pl.col("bid") / 1e6)
    moved = steps.filter(pl.col("move") == "bid").join(bids, on="row_id")
    assert (moved["proposed"] <= 1.2 * moved["now"] + 0.006).all()
    assert (moved["proposed"] >= 0.7 * moved["now"] - 0.006).all()


def test_the_own_brand_is_never_raised_unless_it_is_asked_for(facts, selection):
    word = str(judged_targets(facts, selection)["target"].cast(pl.String)[0]).split()[0]
    own = having(selection, own_words=(word,))
    rows = bid_advice.with_advice(facts, own, judged_targets(facts, own)).filter(pl.col("own_brand"))
    assert len(rows)
    raised = pl.col("proposed") > pl.col("bid") / 1e6 + 0.001
    assert rows.filter(raised).is_empty()
    both = having(selection, own_words=(word,), own_brand=OwnBrand.BOTH.value)
    assert len(bid_advice.with_advice(facts, both, judged_targets(facts, both)).filter(pl.col("own_brand"), raised))


def test_what_multiplies_bids_is_told_by_campaign_from_its_first_day(facts, selection):
    found = multipliers.steps(facts, selection)
    assert found["multiplier"].min() >= 1
    assert found["multiplier"].max() > 1
    assert (found.group_by("campaign_id").agg(pl.col("day").min())["day"] <= selection.window.last).all()


def test_how_clicks_answer_is_learned_from_changes_that_stood_alone(facts, selection):
    last = selection.window.last
    found = bid_response.changes(facts, selection.at(Window(last - timedelta(days=364), last)))
    assert len(found) > 50
    assert (found["x"] != 1).all()
    assert (found["clicks_before"] + found["clicks_after"] >= 4).all()
    learned = bid_response.learned(facts, selection)
    assert learned.changes == len(found)
    assert learned.is_own
    assert learned.e == pytest.approx(0.6, abs=2.5 * learned.spread), "what the simulated clicks do"
    assert learned.p == pytest.approx(1.0, abs=0.1)


def test_bids_that_carry_the_gain_are_few_and_bring_nearly_all_of_it(facts, selection):
    every, few = (bid_advice.moving(facts, selection, every=each) for each in (True, False))
    assert len(few) < 0.8 * len(every)
    assert few["gain"].sum() >= 0.95 * every["gain"].sum() - 1e-6


@pytest.mark.parametrize("view", [groups.CAMPAIGNS, groups.AD_GROUPS])
def test_the_bids_in_campaigns_are_moved_as_proposed(facts, selection, view):
    rows = groups.with_bids(facts, selection, view, groups.rows(facts, selection, view))
    chosen = rows.sort("gain", descending=True).head(3)
    every, few = (
        groups.proposals(facts, selection, view, chosen, action, None, raises=False)
        for action in groups.AS_PROPOSED[::-1]
    )
    assert len(every) == chosen["moves"].sum()
    assert 0 < len(few) <= len(every)
    assert all(each.package for each in every)
    assert total(each.effect for each in every).spend.middle < 0


def test_a_term_is_blocked_when_it_surely_loses_also_with_an_order(facts, selection):
    terms = judged_terms(facts, selection)
    blocked = judged_proposals.propose(facts, selection, Subject.TERM, terms.filter("loses"))
    negatives = [each for each in blocked if each.kind == "negative"]
    assert negatives
    losing = set(terms.filter("loses")["row_id"])
    kept = judged_proposals.propose(facts, selection, Subject.TERM, terms.filter(~pl.col("loses")).head(300))
    assert not [each for each in kept if each.kind == "negative"]
    assert {each.row_id for each in negatives} <= losing
