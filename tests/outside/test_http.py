"""The client of a marketplace: it waits, tries again, signs in anew, and does nothing twice."""

import time
from datetime import timedelta

import pytest

from nimbus_reef.errors import MarketplaceAway, MarketplaceRefused
from nimbus_reef.market.faults import Fault
from nimbus_reef.outside.http import HttpMarketplace
from nimbus_reef.outside.protocol import ReportState, RowState
from tests.marketplaces import LAST, QUICK, bid_row, running


@pytest.fixture(scope="module")
def service(tmp_path_factory):
    with running(tmp_path_factory.mktemp("market")) as made:
        yield made


@pytest.fixture
def there(service):
    client = service.asked()
    yield client
    service.faults.set({})
    client.close()


def sheet(service, *values):
    held = service.accounts.account(service.client).settings.things["target"]
    return [bid_row(place + 1, held, place, value) for place, value in enumerate(values)]


def test_an_account_tells_its_days(there):
    told = there.account()
    assert told.name == "fernhollow-de"
    assert told.today == LAST + timedelta(days=1)
    assert "target_daily" in told.kinds
    assert told.simulated


@pytest.mark.parametrize("fault", [Fault.THROTTLE, Fault.ERROR, Fault.DROP_BEFORE, Fault.DROP_AFTER])
def test_a_fault_on_the_way_changes_nothing_twice(service, there, fault):
    """Whether the answer or the request was lost, the key makes the second try harmless."""
    there.account()
    before = len(service.accounts.account(service.client).changes)
    rows = sheet(service, f"0.{41 + list(Fault).index(fault)}")
    service.faults.set({"script": [["/v1/change-sets", fault.value]] * 2})
    results = there.send(rows, f"once, whatever happens: {fault.value}")
    assert results.done
    assert [each.state for each in results.rows] == [RowState.APPLIED]
    assert len(service.accounts.account(service.client).changes) == before + 1
    assert not service.faults.script


def test_it_waits_as_long_as_it_is_told_to(service, there):
    there.account()
    service.faults.set({"script": [["/v1/account", "throttle"]]})
    began = time.monotonic()
    there.account()
    assert time.monotonic() - began >= 0.9


def test_a_token_that_is_too_old_is_renewed_by_itself(service, there):
    there.account()
    service.faults.skew = 10_000
    assert there.account().name == "fernhollow-de"


def test_a_wrong_secret_is_said_at_once(service):
    wrong = HttpMarketplace(service.url, service.client.key, "guessed", timeout=QUICK)
    with pytest.raises(MarketplaceRefused, match="does not know this client"):
        wrong.account()


def test_a_marketplace_that_stays_away_is_given_up(service):
    service.faults.set({"outage": 60})
    hurried = service.asked(seconds=1.5, tries=3)
    with pytest.raises(MarketplaceAway, match="does not answer"):
        hurried.account()
    service.faults.set({})
    nobody = HttpMarketplace("http://127.0.0.1:9", "x", "y", timeout=QUICK, tries=2, seconds=1.0)
    with pytest.raises(MarketplaceAway):
        nobody.account()


def test_a_report_is_ordered_and_written_to_a_file(there, tmp_path):
    handle = there.request("campaign_daily", LAST - timedelta(days=3), LAST, "a report of its own")
    assert there.report_state(handle) is ReportState.READY
    file = there.report(handle, tmp_path / "report.csv")
    assert file.as_of == LAST + timedelta(days=1)
    assert file.path.read_text().startswith("date,campaign")
    with pytest.raises(MarketplaceRefused, match="is none of"):
        there.request("moods", LAST, LAST, "another report")


def test_what_is_held_is_asked_in_pieces(service, there, monkeypatch):
    monkeypatch.setattr("nimbus_reef.outside.http._PIECE", 2)
    rows = sheet(service, *["0.50"] * 5)
    held = there.held(rows)
    assert held == {int(row["row"]): row["old_value"] for row in rows}
    assert there.changes_since("2999-01-01T00:00:00Z") == []
