"""
What stands before keywords, against the demo worlds' truth, and what its proposals do when they are
carried out there.
"""

import pytest
from benchmarks import before_keywords as bench

from nimbus_reef.sim.vocabulary import BRANDS


@pytest.fixture(params=BRANDS, ids=lambda spec: spec.key)
def what(request, store, tmp_path):
    """One brand, simulated and loaded, over its newest mature month."""
    made = bench.brand.simulate(request.param, 43, bench.DAYS, bench.LAST)
    return bench.case(store, made, request.param.key, tmp_path)


def test_what_is_found_is_true_and_carried_out_it_earns(what):
    """One simulation a brand; each of what follows has its own sentence."""
    product_ads_are_paused_with_fewer_mistakes_than_by_the_rule(what)
    dry_hours_and_their_cost_are_found(what)
    off_site_waste_is_found_without_harming_what_pays(what)
    newer_skus_are_told_from_other_products_without_ads(what)
    all_proposals_together_lower_the_cost_of_sale_and_raise_profit_at_no_fewer_sales(what)


def product_ads_are_paused_with_fewer_mistakes_than_by_the_rule(what):
    ours, rule = bench.costly_ads(what)
    assert ours.precision >= max(0.9, rule.precision)
    assert ours.recall >= 0.7


def dry_hours_and_their_cost_are_found(what):
    ours, _ = bench.dry_hours(what)
    assert ours.precision >= 0.95
    assert ours.recall >= 0.75
    guess, true = bench.dry_cost(what)
    assert 0.5 <= guess / true <= 1.6


def off_site_waste_is_found_without_harming_what_pays(what):
    ours, rule = bench.off_site(what)
    if ours.flagged:
        assert ours.precision >= rule.precision
    if what.made.world.spec.key == "fernhollow-de":
        assert ours.recall >= 0.6


def newer_skus_are_told_from_other_products_without_ads(what):
    ours, _ = bench.replaced(what)
    assert (ours.precision, ours.recall) == (1, 1)


def all_proposals_together_lower_the_cost_of_sale_and_raise_profit_at_no_fewer_sales(what):
    done = bench.effects(what, seeds=1)
    before, after = done["all together"]
    assert after.acos < before.acos - 0.02
    assert after.profit > before.profit
    assert after.sales >= before.sales
    for kind in ("product ads paused", "placements solved", "budgets moved", "off-site limited"):
        before, after = done[kind]
        assert after.acos <= before.acos + 0.002, kind
        assert after.profit >= before.profit - 0.01 * abs(before.sales), kind
