"""Every check reads rows that say where they stand, and counts no money twice, without a page."""

from __future__ import annotations

import polars as pl
import pytest
from tests.analysis.conftest import usual_look
from tests.conftest import LAST_DAY

from nimbus_reef.analysis.findings import findings, written_down
from nimbus_reef.analysis.readings import reading
from nimbus_reef.analysis.readings.register import READERS
from nimbus_reef.analysis.recurring import since_last
from nimbus_reef.core.checks import CHECKS, Money, Reading
from nimbus_reef.jobs.demo_brands import BRANDS
from nimbus_reef.store.people import closed_audits


@pytest.mark.parametrize("asked", list(READERS), ids=lambda asked: asked.rows)
def test_a_reading_s_rows_have_what_the_list_needs(facts, selection, asked):
    rows = reading(facts, selection, asked)
    assert {"row_id", "stake"} <= set(rows.columns)
    assert rows["row_id"].n_unique() == len(rows)
    assert rows["stake"].null_count() == 0
    assert (rows["stake"] >= 0).all()


def test_the_headline_is_no_more_than_its_checks_and_no_less_than_the_largest(facts, selection):
    found = findings(facts, selection, [], LAST_DAY)
    above = [group.stake for group in found.groups if group.check.money is Money.OVERSPEND]
    assert max(above) <= found.overspend <= sum(above)
    missed = [group.stake for group in found.groups if group.check.money is Money.MISSED]
    assert max(missed, default=0) <= found.missed <= sum(missed)


def test_what_is_found_is_of_its_check_and_once(facts, selection):
    found = findings(facts, selection, [], LAST_DAY)
    assert {group.check.key for group in found.groups} <= set(CHECKS)
    for group in found.groups:
        assert len(group.rows)
        assert group.rows["row_id"].n_unique() == len(group.rows), group.check.key
    assert found.count() == sum(len(group.rows) for group in found.groups)


def test_a_part_of_the_account_holds_only_its_own_findings(facts, selection):
    """A campaign alone finds no more than the account, and the same verdicts on the same rows."""
    from dataclasses import replace

    rows = reading(facts, selection, Reading.TARGETS)
    campaign = rows.sort("stake", descending=True)["campaign"][0]
    alone = reading(facts, replace(selection, part=replace(selection.part, campaign=campaign)), Reading.TARGETS)
    both = alone.join(rows, on="row_id", suffix="_whole")
    assert len(both) == len(alone) < len(rows)
    assert (both["verdict"] == both["verdict_whole"]).all()
    assert alone.filter(pl.col("campaign") != campaign).is_empty()


def test_an_audit_closed_and_looked_at_again_has_no_news(own):
    selection = usual_look(own, BRANDS[0].key)
    found = findings(own, selection, [], LAST_DAY)
    address = "looked_at=14"
    closed_audits.close(
        own.store,
        selection.account.id,
        1,
        part="",
        overspend=found.overspend,
        address=address,
        found=written_down(found),
        after=None,
    )
    recurring = since_last(own, selection.account, found, "")
    assert recurring.last is not None
    assert not recurring.since.news
    assert not recurring.since.gone
