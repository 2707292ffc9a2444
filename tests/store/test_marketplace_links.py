"""An account's link to its marketplace, and the reports that are ordered there."""

from datetime import date, timedelta

import pytest
from sqlalchemy import select

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.loading import report_orders
from nimbus_reef.store.loading.report_orders import MOST_TRIES, OrderState
from nimbus_reef.store.people import marketplace_links
from nimbus_reef.store.record.models import marketplace_link

GIVEN = {"url": "https://api.example.com/", "client_id": "fern", "secret": "s3cret", "key": "one key"}
DAY = date(2026, 11, 20)


def save(store, account, **other):
    marketplace_links.save(store, account.id, None, **{**GIVEN, **other})


def test_a_secret_is_kept_encrypted_and_read_with_its_key_alone(store, account):
    save(store, account)
    with store.read() as connection:
        kept = connection.execute(select(marketplace_link.c.secret)).scalar_one()
    assert "s3cret" not in kept
    assert marketplace_links.secret_of(store, account.id, "one key") == "s3cret"
    with pytest.raises(BadInput, match="REEF_CREDENTIALS_KEY has changed"):
        marketplace_links.secret_of(store, account.id, "another key")
    save(store, account, secret="", client_id="other")
    assert marketplace_links.secret_of(store, account.id, "one key") == "s3cret"
    assert marketplace_links.link(store, account.id).client_id == "other"
    assert marketplace_links.link(store, account.id).url == "https://api.example.com"


@pytest.mark.parametrize(
    ("wrong", "why"),
    [
        ({"url": "ftp://example.com"}, "is not an address"),
        ({"url": "https://"}, "is not an address"),
        ({"url": "http://api.example.com"}, "needs HTTPS"),
        ({"client_id": " "}, "client is missing"),
        ({"secret": ""}, "secret is missing"),
        ({"every_minutes": 0}, "cannot be kept to"),
    ],
)
def test_what_cannot_be_linked_is_refused(store, account, wrong, why):
    with pytest.raises(BadInput, match=why):
        save(store, account, **wrong)
    assert marketplace_links.link(store, account.id) is None
    with pytest.raises(NotFound):
        marketplace_links.secret_of(store, account.id, "one key")


def test_it_is_due_when_it_was_never_asked_and_so_many_minutes_later(store, account):
    save(store, account, every_minutes=90)
    link = marketplace_links.link(store, account.id)
    assert link.due_at.year == 1
    marketplace_links.note_trouble(store, account.id, "away")
    assert marketplace_links.link(store, account.id).said == "away"
    marketplace_links.note(store, account.id, DAY, simulated=True)
    link = marketplace_links.link(store, account.id)
    assert (link.today, link.simulated, link.said) == (DAY, True, "")
    assert link.due_at == link.asked_at + timedelta(minutes=90)
    marketplace_links.hurry(store, account.id)
    assert marketplace_links.link(store, account.id).due_at.year == 1
    save(store, account, active=False)
    assert marketplace_links.link(store, account.id).due_at is None
    marketplace_links.remove(store, account.id, None)
    assert marketplace_links.links(store) == []


def test_a_report_is_ordered_once_a_day_and_tried_a_few_times(store, account):
    asked = [("target_daily", Window(DAY, DAY)), ("catalog", Window(DAY, DAY))]
    assert report_orders.add(store, account.id, DAY, asked) == 2
    assert report_orders.add(store, account.id, DAY, asked) == 0
    first, second = report_orders.waiting(store, account.id)
    assert report_orders.accounts_waiting(store) == [account.id]
    report_orders.note_end(store, first.id, OrderState.LOADED)
    assert report_orders.add(store, account.id, DAY, asked) == 0
    assert report_orders.add(store, account.id, DAY + timedelta(days=1), asked) == 1, "the open one is not asked again"
    report_orders.note_handle(store, second.id, "17")
    states = []
    for _ in range(MOST_TRIES):
        (order,) = (each for each in report_orders.waiting(store, account.id) if each.id == second.id)
        states.append(report_orders.note_try(store, order, "no answer"))
    assert states == [OrderState.OPEN] * (MOST_TRIES - 1) + [OrderState.FAILED]
    failed = next(each for each in report_orders.newest(store, account.id) if each.kind == "catalog")
    assert failed.said == "no answer"
    assert report_orders.again(store, account.id) == 1
    key = second.key
    report_orders.note_handle(store, second.id, None)
    anew = next(each for each in report_orders.waiting(store, account.id) if each.id == second.id)
    assert anew.handle is None
    assert anew.key != key, "what is gone there is ordered under another key"
