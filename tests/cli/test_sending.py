"""The plan sent from the command line, and what came of what was sent."""

import json
from datetime import timedelta

import pytest
from click.testing import CliRunner
from tests.marketplaces import LAST, plan_bids, running

from nimbus_reef import config
from nimbus_reef.cli.main import cli
from nimbus_reef.jobs import intake, marketplaces
from nimbus_reef.sim import reports
from nimbus_reef.store.people import marketplace_links, people, plans


@pytest.fixture
def reef(database, store, account, tmp_path):
    environment = {"REEF_VAR": str(tmp_path), "REEF_DATABASE_URL": database.app_url, "REEF_LOG_LEVEL": "ERROR"}
    return lambda *arguments: CliRunner().invoke(cli, list(arguments), env=environment)


@pytest.fixture
def ann(store):
    return people.add(store, email="ann@example.com", name="Ann", password="a long password", role=people.Role.ANALYST)


@pytest.fixture
def linked(store, account, tmp_path):
    """The account with its marketplace and a month of one report."""
    with running(tmp_path / "market") as service:
        own = service.accounts.account(service.client)
        frame = own.report("target_daily", LAST - timedelta(days=29), LAST)
        (path,) = reports.write({"target_daily": frame}, tmp_path / "reports").values()
        intake.take(store, account, path, path.name, "target_daily", today=LAST + timedelta(days=1))
        key = marketplaces.credentials_key(config.load({"REEF_VAR": str(tmp_path)}))
        who = {"client_id": service.client.key, "secret": service.client.secret}
        marketplace_links.save(store, account.id, None, url=service.url, key=key, **who)
        yield service


def test_a_plan_is_sent_answered_and_its_outcome_shown(reef, store, account, ann, linked):
    send = ("send", "--account", "fern-de", "--by", ann.email)
    people.set_rights(store, None, ann.id, people.Role.ANALYST, [account.brand_id], sends=False)
    assert "not send" in reef(*send).output
    people.set_rights(store, None, ann.id, people.Role.ANALYST, [account.brand_id], sends=True)
    assert "Nothing is left to send" in reef(*send).output
    plan_bids(store, account.id, ann.id, linked, "0.31", "0.05")
    done = reef(*send, "--reason", "the first one")
    assert done.exit_code == 0, done.output
    assert "1 done, 1 failed, 0 without an answer yet." in done.output
    assert "The lowest bid is 0.10." in done.output
    (shown,) = json.loads(reef("outcome", "--account", "fern-de", "--format", "json").output)
    assert (shown["new"], shown["verdict"]) == ("0.31", "too early")
    (total, _) = json.loads(reef("outcome", "--account", "fern-de", "--what", "sheets", "--format", "json").output)
    assert total["changes"] == 1
    assert reef("outcome", "--account", "fern-de", "--what", "by-hand").stderr == "No rows.\n"


def test_what_others_changed_stays_in_the_plan_unless_it_is_said(reef, store, account, ann, linked):
    people.set_rights(store, None, ann.id, people.Role.ANALYST, [account.brand_id], sends=True)
    plan_bids(store, account.id, ann.id, linked, "0.31", "0.32")
    held = linked.accounts.account(linked.client).settings.things["target"]
    next(iter(held.values()))["bid"] = "7.77"
    send = ("send", "--account", "fern-de", "--by", ann.email, "--reason", "x")
    done = reef(*send)
    assert "1 done" in done.output
    assert "1 change stayed in the plan" in done.output
    assert "1 done" in reef(*send, "--over").output
    assert plans.planned(store, account.id) == []
