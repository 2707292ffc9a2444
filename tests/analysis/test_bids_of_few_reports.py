"""Advice on bids where parts are missing: no settings, no placements, no hours, no products."""

from datetime import timedelta

import polars as pl
import pytest
from tests.conftest import LAST_DAY

from nimbus_reef.analysis import bid_advice, bid_response, groups, judged_proposals
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.selection import asked
from nimbus_reef.core.bids import Held
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.response import USUAL
from nimbus_reef.core.targeting import Aims
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.demo_brands import account_of
from nimbus_reef.sim import brand, reports
from nimbus_reef.sim.vocabulary import PELLWICK
from nimbus_reef.store.reading.facts import Facts

DAYS = 40


@pytest.fixture(scope="module")
def frames():
    return brand.simulate(PELLWICK, 4, DAYS, LAST_DAY).frames


def loaded(store, tmp_path, frames, kinds):
    account = account_of(store, PELLWICK)
    for path in reports.write({kind: frames[kind] for kind in kinds}, tmp_path / "reports").values():
        intake.take(store, account, path, path.name, path.stem, today=LAST_DAY + timedelta(days=1))
    facts = Facts(store)
    selection = asked(facts, account, Aims(account.target_acos))
    assert selection is not None
    return facts, selection


@pytest.mark.parametrize(
    ("kinds", "held"),
    [
        (("search_term_daily",), {Held.NO_BID}),
        (("target_daily",), {Held.NO_BID}),
        (("target_daily", "targets"), None),
        (("target_daily", "targets", "placement_daily"), None),
        (("search_term_daily", "targets", "campaigns", "hourly"), None),
    ],
)
def test_advice_is_given_as_far_as_reports_go(store, tmp_path, frames, kinds, held):
    facts, selection = loaded(store, tmp_path, frames, kinds)
    found = bid_advice.advised(facts, selection)
    rows = judged_targets(facts, selection)
    assert len(found) == len(rows) > 100
    if held is not None:
        assert set(found.filter(pl.col("move") != "pause")["held"]) == held
        assert set(found["move"]) <= {"none", "pause"}, "without a bid there is nothing to move"
        assert bid_response.learned(facts, selection) == USUAL
    else:
        assert set(found["move"]) >= {"bid", "none"}
        assert found["margin"].null_count() == len(found), "no catalog, no margin: the target stands in"
    made = judged_proposals.propose(facts, selection, Subject.TARGET, rows.head(50))
    assert all(each.reasons for each in made)
    for view in (groups.CAMPAIGNS, groups.AD_GROUPS):
        groups.with_bids(facts, selection, view, groups.rows(facts, selection, view))
