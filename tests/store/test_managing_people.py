"""People managed: the first owner, invitations, rights, passwords, and the link behind each that works once."""

from datetime import timedelta

import pytest
from sqlalchemy import text

from nimbus_reef.errors import BadInput, Conflict, NotAllowed, NotFound
from nimbus_reef.store.people import one_time_links, people, sessions, trail
from nimbus_reef.store.people.one_time_links import Purpose
from nimbus_reef.store.people.people import Role
from nimbus_reef.store.people.trail import Asked

PASSWORD = "long enough"


@pytest.fixture
def owner(store):
    return people.set_up(store, people.set_up_link(store), email="Ann@example.com", name="Ann", password=PASSWORD)


def invited(store, owner, brands=(), role=Role.ANALYST, email="bo@example.com"):
    return people.invite(store, owner.id, email=email, name="Bo", role=role, brands=brands)


def test_an_empty_installation_is_set_up_once(store):
    first, second = people.set_up_link(store), people.set_up_link(store)
    with pytest.raises(NotFound):
        people.may_set_up(store, first)
    people.may_set_up(store, second)
    made = people.set_up(store, second, email="a@example.com", name="A", password=PASSWORD)
    assert made.role is Role.OWNER
    assert people.set_up_link(store) is None
    with pytest.raises(NotFound):
        people.set_up(store, second, email="b@example.com", name="B", password=PASSWORD)


def test_a_set_up_that_fails_keeps_its_link(store):
    token = people.set_up_link(store)
    with pytest.raises(BadInput):
        people.set_up(store, token, email="nobody", name="A", password=PASSWORD)
    people.may_set_up(store, token)


def test_a_link_is_kept_only_as_its_digest(store):
    token = people.set_up_link(store)
    with store.read() as connection:
        kept = connection.execute(text("SELECT digest FROM one_time_link")).scalars().all()
    assert token not in kept[0]


def test_whoever_is_invited_gets_in_by_the_link_alone(store, account, owner):
    person_id, token = invited(store, owner, [account.brand_id])
    assert people.signed_in(store, "bo@example.com", "") is None
    assert people.invited(store, token).id == person_id
    made = people.take_up(store, token, name="Bo B", password="another long one")
    assert (made.name, made.brands) == ("Bo B", frozenset({account.brand_id}))
    assert people.signed_in(store, "bo@example.com", "another long one").id == person_id
    with pytest.raises(NotFound):
        people.take_up(store, token, name="Bo", password="a third long one")


def test_a_newer_link_stops_the_older_and_time_stops_both(store, account, owner):
    person_id, old = invited(store, owner, [account.brand_id])
    new = people.new_link(store, owner.id, person_id)
    with pytest.raises(NotFound):
        people.invited(store, old)
    assert people.invited(store, new).id == person_id
    with store.engine.begin() as connection:
        late = one_time_links.make(connection, Purpose.INVITATION, person_id, timedelta(seconds=-1))
    with pytest.raises(NotFound):
        people.invited(store, late)


def test_an_address_is_somebody_s_once(store, account, owner):
    invited(store, owner, [account.brand_id])
    with pytest.raises(Conflict):
        invited(store, owner, [account.brand_id], email="BO@example.com")
    with pytest.raises(Conflict):
        people.add(store, email="ann@example.com", name="x", password=PASSWORD, role=Role.VIEWER)
    assert people.by_id(store, owner.id).role is Role.OWNER, "an owner stays one"


def test_the_last_owner_stays(store, account, owner):
    for deed in (
        lambda: people.set_rights(store, owner.id, owner.id, Role.VIEWER, [account.brand_id]),
        lambda: people.switch(store, owner.id, owner.id, active=False),
    ):
        with pytest.raises(NotAllowed):
            deed()
    invited(store, owner, role=Role.OWNER, email="c@example.com")
    with pytest.raises(NotAllowed):
        people.switch(store, owner.id, owner.id, active=False)
    people.add(store, email="d@example.com", name="D", password=PASSWORD, role=Role.OWNER)
    people.switch(store, owner.id, owner.id, active=False)
    assert people.by_id(store, owner.id) is None


def test_a_changed_password_ends_the_sessions_begun_before(store, owner):
    begun = sessions.begin(store, owner.id, agent="Firefox", address="127.0.0.1")
    with pytest.raises(BadInput):
        people.change_password(store, owner.id, old="wrong", new="a longer one")
    assert sessions.of_token(store, begun).person_id == owner.id
    people.change_password(store, owner.id, old=PASSWORD, new="a longer one")
    assert sessions.of_token(store, begun) is None
    people.set_password(store, "ann@example.com", "the longest of all")
    assert people.by_id(store, owner.id).role is Role.OWNER, "nothing else changes with a password"


def test_brands_are_given_and_taken(store, account, owner):
    person_id, _ = invited(store, owner, [account.brand_id])
    people.set_rights(store, owner.id, person_id, Role.VIEWER, [])
    assert people.by_id(store, person_id).brands == frozenset()
    with pytest.raises(BadInput):
        people.set_rights(store, owner.id, person_id, Role.VIEWER, [999_999])


def test_the_trail_is_read_by_whom_and_of_what(store, account, owner):
    person_id, _ = invited(store, owner, [account.brand_id])
    people.set_rights(store, owner.id, person_id, Role.VIEWER, [account.brand_id])
    every = trail.entries(store, Asked(), of_accounts=None, limit=10)
    assert [each.what for each in every] == ["rights set", "invited", "set up"] + ["account added"] * (len(every) - 3)
    assert [each.what for each in trail.entries(store, Asked(what="invited"), of_accounts=None, limit=10)] == [
        "invited"
    ]
    assert {each.account for each in trail.entries(store, Asked(), of_accounts=[account.id], limit=10)} == {account.key}
    assert trail.entries(store, Asked(person_id=person_id), of_accounts=None, limit=10) == []
