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
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.demo_brands import account_of
from nimbus_reef.sim import brand, reports
from nimbus_reef.sim.vocabulary import PELLWICK
from nimbus_reef.store.reading import target_frames
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


def test_a_bid_whose_searches_a_new_negative_took_says_nothing_of_clicks(store, tmp_path, frames):
    key = ["campaign", "ad_group", "target", "match_type"]
    settings = frames["targets"]
    moved = settings.sort("date").filter(pl.col("bid") != pl.col("bid").shift().over(key))
    middle = moved.filter(pl.col("date").is_between(LAST_DAY - timedelta(days=24), LAST_DAY - timedelta(days=16)))
    home = middle.group_by("campaign", "ad_group").len().sort("len", "campaign").row(-1, named=True)
    day = middle.filter(campaign=home["campaign"], ad_group=home["ad_group"])["date"].max()
    negative = (
        settings.filter(pl.col("date") >= day)
        .unique("date")
        .with_columns(
            campaign=pl.lit(home["campaign"]),
            ad_group=pl.lit(home["ad_group"]),
            target=pl.lit("word"),
            match_type=pl.lit("negative_phrase"),
        )
    )
    blocked = {**frames, "targets": pl.concat([settings, negative])}
    facts, selection = loaded(store, tmp_path, blocked, ("target_daily", "search_term_daily", "targets"))
    found = bid_response.changes(facts, selection.at(Window(LAST_DAY - timedelta(days=60), LAST_DAY)))
    names = target_frames.targets(facts, selection.account.id).with_columns(pl.col("target_id").cast(pl.Int64))
    homes = found.select(pl.col("target_id").cast(pl.Int64)).join(names, on="target_id")
    told = set(homes.select(pl.col("campaign", "ad_group").cast(pl.String)).rows())
    assert len(told) > 5
    assert (home["campaign"], home["ad_group"]) not in told
