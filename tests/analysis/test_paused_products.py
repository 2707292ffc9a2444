"""After a product's pause its ad group is judged anew, and its targets and search terms wait until then."""

from dataclasses import replace
from datetime import timedelta

import polars as pl
import pytest
from tests.planned import BID, PROMISE

from nimbus_reef.analysis.judged import judged_targets, judged_terms
from nimbus_reef.analysis.judged_proposals import judged, propose
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.reasons import ReasonKey
from nimbus_reef.store.people import sendings
from nimbus_reef.store.people.sendings import CarriedOut

OVER = [Verdict.ABOVE.value, Verdict.LIKELY_ABOVE.value]


@pytest.fixture
def worst(facts, selection):
    """The ad group with most rows above target."""
    over = judged_terms(facts, selection).filter(pl.col("verdict").cast(pl.String).is_in(OVER))
    counts = over.group_by(pl.col("campaign", "ad_group").cast(pl.String)).len().sort("len", "campaign")
    return counts.row(-1)[:2]


@pytest.mark.parametrize(("ago", "waits"), [(5, True), (40, False)])
def test_rows_of_an_ad_group_wait_until_two_weeks_after_a_pause_are_mature(
    own, selection, worst, monkeypatch, ago, waits
):
    campaign, group = worst
    newest = own.newest_day(selection.account.id)
    pause = replace(
        BID,
        entity=Entity.PRODUCT_AD,
        field="state",
        old_value="enabled",
        new_value="paused",
        sku="A-1",
        campaign=campaign,
        ad_group=group,
        target="",
        match_type="",
    )
    done = CarriedOut(1, pause, PROMISE, 1, newest, newest - timedelta(days=ago))
    monkeypatch.setattr(sendings, "carried_out", lambda *_: [done])
    own.cache.clear()
    for judge in (judged_targets, judged_terms):
        rows = judge(own, selection).with_columns(pl.col("campaign", "ad_group", "verdict").cast(pl.String))
        here = (pl.col("campaign") == campaign) & (pl.col("ad_group") == group)
        assert rows.filter(~here)["verdict"].is_in(OVER).any()
        over = rows.filter(here)["verdict"].is_in(OVER).any()
        assert not over if waits else over or judge is judged_targets
    rows = judged(own, selection, Subject.TERM).filter(
        pl.col("campaign").cast(pl.String) == campaign, pl.col("ad_group").cast(pl.String) == group
    )
    keys = {reason.key for each in propose(own, selection, Subject.TERM, rows) for reason in each.reasons}
    assert (ReasonKey.WAITS in keys) is waits
