"""Changes are sent and reports are fetched, whatever happens in between: nothing is lost and nothing done twice."""

from datetime import timedelta

import pytest
from tests.marketplaces import AT_ONCE, LAST, plan_bids, running

from nimbus_reef import config
from nimbus_reef.core.changes import ChangeState
from nimbus_reef.errors import Conflict, MarketplaceAway, NotAllowed
from nimbus_reef.jobs import fetching, intake, marketplaces, sending
from nimbus_reef.jobs.queue import MARKET, make_queue, sweep_marketplaces
from nimbus_reef.market.app import ServicePace
from nimbus_reef.store.loading import report_orders
from nimbus_reef.store.loading.report_orders import OrderState
from nimbus_reef.store.people import marketplace_links, people, plans, sendings
from nimbus_reef.store.people.sendings import RowAnswer, SendingState
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.clock import utc_now


def quiet(part, message):
    """Nobody watches."""


@pytest.fixture
def conf(tmp_path):
    return config.load({"REEF_VAR": str(tmp_path / "var")})


@pytest.fixture
def ann(store):
    return people.add(store, email="a@example.com", name="Ann", password="a long password", role=people.Role.OWNER)


@pytest.fixture
def bob(store):
    return people.add(store, email="b@example.com", name="Bob", password="a long password", role=people.Role.OWNER)


@pytest.fixture
def service(tmp_path):
    with running(tmp_path / "market", AT_ONCE) as made:
        yield made


@pytest.fixture
def linked(store, account, conf, service):
    marketplace_links.save(
        store,
        account.id,
        None,
        url=service.url,
        client_id=service.client.key,
        secret=service.client.secret,
        key=marketplaces.credentials_key(conf),
    )
    return account


def planned(store, account, who, service, *bids):
    return plan_bids(store, account.id, who.id, service, *bids)


def handed_over(store, account, who, changes, **more):
    number = sendings.hand_over(store, account.id, who.id, changes, "a key of sixteen characters", **more)
    return sendings.one(store, account.id, number)


def results(store, entry):
    return {each.change.row: each.result for each in sendings.changes_of(store, entry.id)}


def test_each_row_gets_its_own_answer(store, linked, ann, service):
    changes = planned(store, linked, ann, service, "0.31", "0.05", "0.44")
    entry = handed_over(store, linked, ann, changes)
    sending.deliver(store, service.asked(), entry, quiet)
    assert list(results(store, entry).values()) == [ChangeState.DONE, ChangeState.FAILED, ChangeState.DONE]
    after = sendings.one(store, linked.id, entry.id)
    assert (after.state, after.day) == (SendingState.ANSWERED, LAST + timedelta(days=1))
    (left,) = plans.planned(store, linked.id)
    assert (left.state, left.change.new_value) == (ChangeState.FAILED, "0.05")
    failed = next(each for each in sendings.changes_of(store, entry.id) if each.result is ChangeState.FAILED)
    assert (failed.code, failed.said) == ("below_minimum", "The lowest bid is 0.10.")
    assert [each.change.new_value for each in sendings.carried_out(store, linked.id)] == ["0.31", "0.44"]


def test_a_worker_that_died_anywhere_is_followed_by_one_that_goes_on(store, linked, ann, service, monkeypatch):
    """Killed before it was sent, after it was sent and before that was noted, and among the answers."""
    changes = planned(store, linked, ann, service, "0.31", "0.32")
    entry = handed_over(store, linked, ann, changes)

    class Killed(BaseException):
        pass

    def dies(*_args, **_kwargs):
        raise Killed

    for step in ("leave", "note_receipt", "note_answers"):
        with monkeypatch.context() as there:
            there.setattr(sendings, step, dies)
            with pytest.raises(Killed):
                sending.deliver(store, service.asked(), sendings.one(store, linked.id, entry.id), quiet)
    sending.deliver(store, service.asked(), sendings.one(store, linked.id, entry.id), quiet)
    assert set(results(store, entry).values()) == {ChangeState.DONE}
    assert len(service.accounts.account(service.client).changes) == 2
    assert len(service.record.events([service.client.key])) == 1


def test_answers_come_while_the_marketplace_still_works(store, linked, ann, service, monkeypatch):
    monkeypatch.setattr(sending, "_PATIENCE", 0.0)
    changes = planned(store, linked, ann, service, "0.31", "0.32")
    entry = handed_over(store, linked, ann, changes)
    with running(service.record.file.parent, ServicePace(row=30.0, change_set=60.0)) as slow:
        sending.deliver(store, slow.asked(), entry, quiet)
        assert set(results(store, entry).values()) == {ChangeState.SENT}
        slow.faults.skew = 45
        sending.deliver(store, slow.asked(), sendings.one(store, linked.id, entry.id), quiet)
        assert sorted(results(store, entry).values()) == [ChangeState.DONE, ChangeState.SENT]
        slow.faults.skew = 100
        sending.deliver(store, slow.asked(), sendings.one(store, linked.id, entry.id), quiet)
    assert set(results(store, entry).values()) == {ChangeState.DONE}


def test_what_is_on_its_way_is_not_changed(store, linked, ann, service):
    changes = planned(store, linked, ann, service, "0.31")
    entry = handed_over(store, linked, ann, changes)
    with pytest.raises(Conflict, match="on its way"):
        plans.remove(store, linked.id, ann.id, changes[0].id)
    with pytest.raises(Conflict, match="on its way"):
        sendings.hand_over(store, linked.id, ann.id, changes, "another key, same changes")
    assert sendings.hand_over(store, linked.id, ann.id, changes, entry.key) == entry.id, "the same form sent twice"
    assert sendings.cancel(store, linked.id, ann.id, entry.id) == 1
    assert plans.planned(store, linked.id)[0].state is ChangeState.PLANNED
    sending.deliver(store, service.asked(), entry, quiet)
    assert not service.accounts.account(service.client).changes, "what was cancelled never leaves"
    with pytest.raises(Conflict):
        sendings.cancel(store, linked.id, ann.id, entry.id)
    plans.remove(store, linked.id, ann.id, changes[0].id)


def test_a_large_sending_needs_another_person(store, linked, ann, bob, service):
    entry = handed_over(store, linked, ann, planned(store, linked, ann, service, "0.31"), needs_approval=True)
    assert sendings.left_open(store) == []
    with pytest.raises(NotAllowed, match="yourself"):
        sendings.approve(store, linked.id, ann.id, entry.id)
    sendings.approve(store, linked.id, bob.id, entry.id)
    assert [each.id for each in sendings.left_open(store)] == [entry.id]
    assert sendings.one(store, linked.id, entry.id).approved_by == bob.id


def test_a_marketplace_that_is_away_is_told_and_asked_again(store, linked, ann, service):
    entry = handed_over(store, linked, ann, planned(store, linked, ann, service, "0.31"))
    service.faults.set({"outage": 60})
    with pytest.raises(MarketplaceAway):
        sending.deliver(store, service.asked(seconds=0.5, tries=2), entry, quiet)
    assert "does not answer" in sendings.one(store, linked.id, entry.id).said
    service.faults.set({})
    sending.deliver(store, service.asked(), sendings.one(store, linked.id, entry.id), quiet)
    assert sendings.one(store, linked.id, entry.id).said == ""
    assert set(results(store, entry).values()) == {ChangeState.DONE}


def test_the_results_of_a_sheet_that_was_uploaded_by_hand_are_read_the_same_way(store, linked, ann, service):
    changes = planned(store, linked, ann, service, "0.31", "0.32")
    number = sendings.send(store, linked.id, ann.id, "csv", changes)
    rows = [each.change.row for each in changes]
    answers = [RowAnswer(rows[0], True), RowAnswer(rows[1], False, "E12", "Too low.")]
    assert sendings.note_answers(store, linked.id, ann.id, number, answers, last=True) == 1
    assert [each.said for each in sendings.changes_of(store, number)] == ["", "Too low."]
    assert [each.change.row for each in plans.planned(store, linked.id)] == [rows[1]]


@pytest.fixture
def few_kinds(monkeypatch):
    """A few small reports are enough to see how they come."""
    monkeypatch.setattr("nimbus_reef.sim.account.KINDS", ("campaigns", "campaign_daily", "catalog", "changes"))


def fetched(conf, store, account, service, **given):
    there = service.asked()
    told = there.account()
    fetching.order_missing(store, account, told, **{"new_day": True, **given})
    return fetching.fetch(conf, store, there, account, quiet)


def loaded_days(store, account, kind):
    spans = loads.spans(store, account.id, "UTC").get(kind, [])
    return {span.days.first + timedelta(days=number) for span in spans for number in range(span.days.days)}


def test_all_that_the_marketplace_has_comes_at_first_then_what_is_new(conf, store, linked, service, few_kinds):
    assert fetched(conf, store, linked, service) == 4
    assert len(loaded_days(store, linked, "campaign_daily")) == 60
    states = {each.kind: each.state for each in report_orders.newest(store, linked.id)}
    assert states.pop("changes") is OrderState.EMPTY
    assert set(states.values()) == {OrderState.LOADED}
    assert fetched(conf, store, linked, service, new_day=False) == 0
    service.accounts.pass_days(service.client, 2, 0.0)
    fetched(conf, store, linked, service)
    newest = next(each for each in report_orders.newest(store, linked.id) if each.kind == "campaign_daily")
    assert (newest.window.first, newest.window.last) == (LAST, LAST + timedelta(days=2)), "and the days that mature"
    assert max(loaded_days(store, linked, "campaign_daily")) == LAST + timedelta(days=2)


def test_files_and_fetched_reports_live_together_and_gaps_are_filled(conf, store, linked, service, few_kinds, tmp_path):
    own = service.accounts.account(service.client)
    rows = own.report("campaign_daily", LAST - timedelta(days=59), LAST - timedelta(days=20))
    path = tmp_path / "by hand.csv"
    rows.write_csv(path)
    intake.take(store, linked, path, path.name, "campaign_daily", today=LAST + timedelta(days=1))
    fetched(conf, store, linked, service)
    asked = [each.window for each in report_orders.of_account(store, linked.id, LAST) if each.kind == "campaign_daily"]
    assert [(each.first, each.last) for each in asked] == [(LAST - timedelta(days=19), LAST)]
    assert len(loaded_days(store, linked, "campaign_daily")) == 60


def test_a_report_that_was_loaded_before_the_worker_died_is_not_loaded_again(
    conf, store, linked, service, few_kinds, monkeypatch
):
    class Killed(BaseException):
        pass

    def dies(*_args):
        raise Killed

    with monkeypatch.context() as there:
        there.setattr(report_orders, "note_end", dies)
        with pytest.raises(Killed):
            fetched(conf, store, linked, service)
    before = len(loads.batches(store, linked.id))
    assert before == 1
    fetched(conf, store, linked, service)
    assert len(loads.batches(store, linked.id)) == 3
    assert not report_orders.waiting(store, linked.id)


def test_a_report_that_is_gone_is_ordered_anew_and_a_broken_one_given_up(
    conf, store, linked, service, few_kinds, monkeypatch
):
    there = service.asked()
    fetching.order_missing(store, linked, there.account(), new_day=True)
    with running(service.record.file.parent, ServicePace(report=0.0, kept=-1.0)) as forgetful:
        fetching.fetch(conf, store, forgetful.asked(), linked, quiet)
    assert {each.handle for each in report_orders.waiting(store, linked.id)} == {None}
    monkeypatch.setattr(intake, "take", lambda *_args, **_kwargs: (_ for _ in ()).throw(NotAllowed("broken file")))
    for _ in range(report_orders.MOST_TRIES):
        fetching.fetch(conf, store, there, linked, quiet)
    failed = [each for each in report_orders.newest(store, linked.id) if each.state is OrderState.FAILED]
    assert {each.kind for each in failed} == {"campaigns", "campaign_daily", "catalog"}
    assert failed[0].said == "broken file"


def test_duplicated_lines_count_once(conf, store, linked, service, few_kinds):
    service.faults.set({"chances": {"duplicate": 1.0}})
    fetched(conf, store, linked, service)
    own = service.accounts.account(service.client)
    clicks = int(own.report("campaign_daily", LAST - timedelta(days=59), LAST)["clicks"].sum())
    batch = next(each for each in loads.batches(store, linked.id) if each.kind == "campaign_daily")
    assert batch.sums["clicks"] == clicks


def test_a_worker_deals_with_an_account_once_at_a_time_and_says_what_went_wrong(
    conf, store, linked, ann, service, few_kinds
):
    queue = make_queue(conf, store, immediate=True)
    handed_over(store, linked, ann, planned(store, linked, ann, service, "0.31"))
    assert marketplaces.accounts_with_work(store, utc_now()) == [linked.id]
    sweep_marketplaces(store, queue)
    assert len(service.accounts.account(service.client).changes) == 1
    assert len(loaded_days(store, linked, "campaign_daily")) == 60
    assert marketplace_links.link(store, linked.id).today == LAST + timedelta(days=1)
    assert marketplaces.accounts_with_work(store, utc_now()) == []
    marketplace_links.hurry(store, linked.id)
    assert loads.start_only(store, MARKET, linked.id) is not None
    assert loads.start_only(store, MARKET, linked.id) is None
    job = loads.open_job(store, MARKET, linked.id)
    loads.finish_job(store, job.id, state="done", message="")
    marketplace_links.save(
        store,
        linked.id,
        None,
        url=service.url,
        client_id=service.client.key,
        secret="wrong",
        key=marketplaces.credentials_key(conf),
    )
    sweep_marketplaces(store, queue)
    assert "does not know this client" in marketplace_links.link(store, linked.id).said
