"""The strip counts the same money once: a negative under a paused target stops nothing more."""

from dataclasses import replace
from datetime import datetime

import polars as pl
import pytest
from tests.planned import PROMISE

from nimbus_reef.core import projection
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.promises import projected
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.kit import planned as pages
from nimbus_reef.web.plan.pages import campaigns, fitting, table

WRITE = Figures("en_IE", "EUR")
SHARES = pl.DataFrame(
    {"ad_group_id": [4, 4, 5], "normal_id": [9, 9, 9], "target_id": [1, 2, 3], "spend": [60, 20, 20]},
    schema_overrides={"ad_group_id": pl.UInt32, "normal_id": pl.UInt32, "target_id": pl.UInt32},
)


def planned(number, entity, field, row_id, spend):
    change = Change(
        row=number,
        action=Action.UPDATE,
        entity=entity,
        campaign="c",
        field=field,
        new_value="paused" if field == "state" else "9.00",
    )
    projected = {"spend": (-spend,) * 3, "sales": (0.0,) * 3}
    promise = replace(PROMISE, spend=spend, row_id=row_id, projected=projected)
    return Planned(number, change, promise, datetime(2026, 11, 1))


PAUSE = planned(1, Entity.TARGET, "state", "1", 100.0)
NEGATIVE = planned(2, Entity.NEGATIVE, "state", "4-9", 80.0)
ELSEWHERE = planned(3, Entity.NEGATIVE, "state", "5-9", 40.0)


def test_a_negative_counts_for_what_no_pause_stops_already():
    """Of the term's 80 in ad group 4 the paused target spent 60; ad group 5 has no pause."""
    assert pages.own_shares([PAUSE, NEGATIVE, ELSEWHERE], SHARES) == {2: pytest.approx(0.25)}
    assert pages.own_shares([NEGATIVE, ELSEWHERE], SHARES) == {}


def test_the_strip_adds_only_that_part():
    both = [PAUSE, NEGATIVE, ELSEWHERE]
    once = pages.strip(both, (1_000.0, 4_000.0), WRITE, pages.own_shares(both, SHARES))
    twice = pages.strip(both, (1_000.0, 4_000.0), WRITE, {})
    plain = [each.spend.replace("\xa0", " ").replace("\u2060", "") for each in (once, twice)]
    assert plain == ["−€ 160", "−€ 220"]


@pytest.mark.parametrize("adjusted", [20.0, -30.0])
def test_a_solution_adds_to_the_pauses_of_other_targets_what_it_promised(adjusted):
    """A pause of 100, a base bid that saves 40 on another target, an adjustment that costs 20 or saves 30 beyond it."""

    def of_solution(number, entity, field, view, spend):
        each = planned(number, entity, field, str(number), spend)
        change = replace(each.change, package=7, finding="costly-placements", new_value="0.50", old_value="1.00")
        return replace(each, change=change, promise=replace(each.promise, view=view))

    bid = of_solution(7, Entity.TARGET, "bid", "targets", 40.0)
    adjustment = of_solution(8, Entity.PLACEMENT, "adjustment", "placements", -adjusted)
    every = [PAUSE, bid, adjustment]
    told = pages.strip(every, (1_000.0, 4_000.0), WRITE, {})
    promised = projection.total(projected(each.change, each.promise) for each in every)
    assert promised.spend.middle < -100
    assert told.spend == WRITE.span(promised.spend)


def test_a_phrase_counts_for_terms_that_no_earlier_negative_keeps_away():
    phrase = planned(4, Entity.NEGATIVE, "state", "grow", 120.0)
    phrase = replace(phrase, promise=replace(phrase.promise, terms=("4-9", "5-9")))
    assert pages.overlaps([NEGATIVE, phrase])
    assert pages.own_shares([NEGATIVE, phrase], SHARES) == {4: pytest.approx(0.2)}
    assert pages.own_shares([phrase, NEGATIVE], SHARES) == {2: 0.0}
    assert pages.own_shares([PAUSE, phrase], SHARES) == {4: pytest.approx(0.4)}


def test_only_a_pause_and_a_negative_together_may_overlap():
    assert pages.overlaps([PAUSE, NEGATIVE])
    assert not pages.overlaps([PAUSE])
    assert not pages.overlaps([NEGATIVE, ELSEWHERE])


def test_the_plan_comes_in_pages_with_a_campaign_s_changes_together():
    def change(number, campaign):
        each = planned(number, Entity.NEGATIVE, "state", "4-9", 1.0)
        return replace(each, change=replace(each.change, campaign=campaign))

    waiting = [change(number, "ab"[number % 2]) for number in range(250)]
    first, last = (table(waiting, waiting, number, "/plan/", "", WRITE, picks=True) for number in (1, 9))
    assert (first.page, first.pages, campaigns(waiting), len(first.groups["a"])) == (1, 3, 2, 100)
    assert list(first.groups) == ["a"]
    assert (last.page, sum(map(len, last.groups.values()))) == (3, 50)
    some = fitting(waiting, "b", "new negative")
    assert {each.change.campaign for each in some} == {"b"}
    ordered = table(waiting, some, 1, "/plan/", "-row", WRITE, picks=True)
    rows = [line.row for line in ordered.groups[""]]
    assert rows == sorted(rows, reverse=True)
    assert (ordered.shown, ordered.of) == ("125", "250")
    with pytest.raises(BadInput):
        table(waiting, waiting, 1, "/plan/", "colour", WRITE, picks=True)


def test_the_strip_counts_an_ad_and_the_targets_of_its_ad_group_once():
    ad = planned(5, Entity.PRODUCT_AD, "state", "7", 70.0)
    budget = planned(6, Entity.CAMPAIGN, "daily_budget", "c", 10.0)
    told = pages.strip([PAUSE, ad, budget], (1_000.0, 4_000.0), WRITE, {})
    assert told.spend.replace("\xa0", " ").replace("\u2060", "") == "−€ 110", "a budget is not a view of spend"
