"""What is proposed on every row of every view, accepted in any order, and taken back, without a page."""

from __future__ import annotations

import random

import polars as pl
import pytest
from tests.analysis.conftest import usual_look

from nimbus_reef.analysis import acceptance, taking_back
from nimbus_reef.analysis.delivery import plan_prices, solutions
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.proposals import PROPOSERS, all_keys, proposals
from nimbus_reef.analysis.sheet_rows import change as sheet_row
from nimbus_reef.analysis.wording import worded
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.conflicts import BLOCKS
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.plan import problems
from nimbus_reef.core.promises import typed
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs.demo_brands import BRANDS
from nimbus_reef.store.people import plan_steps, plans

VIEWS = sorted(set(PROPOSERS) - {"solutions", taking_back.VIEW})
"""A campaign's solution is asked for by its placements; nothing is taken back where nothing was carried out."""
FEW = 60


def offered(facts, selection, view, most=FEW):
    return proposals(facts, selection, view, all_keys(facts, selection, view)[:most])


@pytest.mark.parametrize("view", VIEWS)
def test_every_row_has_an_answer_in_words(facts, selection, view):
    figures = Figures(selection.account.locale, selection.account.currency)
    made = offered(facts, selection, view)
    assert made
    for each in made:
        said = worded(each, figures)
        assert said.headline
        assert said.name
        assert bool(each.package) or said.reasons, said.headline
        for change, promise in said.package:
            assert change.reason
            assert typed(change, promise)
        assert "{" not in " ".join((said.headline, said.reason, *said.reasons))


@pytest.mark.parametrize("view", VIEWS)
def test_a_row_proposes_the_same_alone_as_among_others(facts, selection, view):
    keys = all_keys(facts, selection, view)[:FEW]
    every = {each.row_id: each.changes for each in proposals(facts, selection, view, keys)}
    for key in keys[:: max(1, len(keys) // 5)]:
        for alone in proposals(facts, selection, view, [key]):
            assert alone.changes == every[alone.row_id]


@pytest.mark.parametrize("view", ["targets", "terms", "gaps", "families", "placements"])
def test_a_row_that_is_not_there_is_named(facts, selection, view):
    with pytest.raises(NotFound):
        proposals(facts, selection, view, ["nothing like this"])


@pytest.mark.parametrize("seed", range(2))
def test_whatever_is_accepted_in_whatever_order_leaves_a_plan_that_can_be_sent(own, seed):
    """Part by part from every view, the refused left out; then every step is taken back."""
    selection = usual_look(own, BRANDS[seed].key)
    order = VIEWS * 2
    random.Random(seed).shuffle(order)
    for part, view in enumerate(order):
        keys = all_keys(own, selection, view)
        told = acceptance.assess(own, selection, proposals(own, selection, view, keys[part % 3 : FEW : 3]))
        before = len(plans.planned(own.store, selection.account.id))
        acceptance.accept(own, selection, 1, told.going, told.replaced_rows)
        after = plans.planned(own.store, selection.account.id)
        assert len(after) == before + sum(len(each.package) for each in told.going) - len(told.replaced_rows), view
    planned = [each.change for each in plans.planned(own.store, selection.account.id)]
    assert len(planned) > 20
    assert problems(planned) == []
    assert [each for each in plan_prices.conflicts_of(own, selection, planned) if each.kind in BLOCKS] == []
    while steps := plan_steps.steps(own.store, selection.account.id):
        acceptance.undo(own, selection, 1, steps[0].id)
    assert plans.planned(own.store, selection.account.id) == []


def test_what_is_in_the_plan_is_not_proposed_again(own):
    selection = usual_look(own, BRANDS[0].key)
    made = [each for each in offered(own, selection, "targets") if each.package]
    acceptance.accept_one(own, selection, 1, made[0])
    planned = plans.planned(own.store, selection.account.id)
    assert acceptance.in_plan(planned, made[0]).left == 0
    assert len(acceptance.in_plan(planned, made[0]).own) == len(made[0].package)
    assert acceptance.in_plan(planned, made[1]).left == len(made[1].package)


def test_a_solution_beside_a_pause_counts_only_what_the_pause_leaves(facts, selection):
    """Whatever its dearest target is: paused in the plan, its money is no longer the solution's to save."""
    rows = judged_targets(facts, selection)
    days = selection.window.days
    looked_at = 0
    for campaign in sorted(set(rows["campaign"].cast(pl.String))):
        own = rows.filter(pl.col("campaign").cast(pl.String) == campaign, pl.col("state").cast(pl.String) == "enabled")
        try:
            alone = solutions.solved(facts, selection, campaign)
        except NotFound:
            continue
        if not alone.package or own.is_empty():
            continue
        dear = own.sort("spend", descending=True).to_dicts()[0]
        of = {name: str(dear[name]) for name in ("ad_group", "target", "match_type")}
        pause = sheet_row(Entity.TARGET, "state", campaign, "paused", "enabled", "costly-targets", **of)
        beside = solutions.solved(facts, selection, campaign, [pause])
        share = 1 - dear["spend"] / own["spend"].sum()
        left = alone.rows["spend"].sum() / MICRO / days * 30 * share
        assert beside.effect.spend.low >= -left * 1.05 - 1, campaign
        assert all(
            not (
                each.target == of["target"] and each.match_type == of["match_type"] and each.ad_group == of["ad_group"]
            )
            for each, _ in beside.package
        )
        looked_at += 1
    assert looked_at > 5
