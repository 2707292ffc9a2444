"""A moment: one connection and one view of an account, given back however the page ends."""

import pytest
from sqlalchemy import text

from nimbus_reef.errors import StoreAway
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshot_reads


@pytest.fixture
def moment():
    begun = snapshot_reads.begin()
    yield snapshot_reads.current()
    snapshot_reads.end(begun)


def number_of(connection):
    return connection.execute(text("SELECT CONNECTION_ID()")).scalar_one()


def bump(store, account):
    with store.engine.begin() as connection:
        connection.execute(
            text(
                "INSERT INTO day_version (account_id, kind, day, first_day, version, `rows`) "
                "VALUES (:a, 'hourly', '2026-10-01', '2026-10-01', 1, 5)"
            ),
            {"a": account.id},
        )


def test_all_reads_of_a_moment_share_a_connection_that_goes_back_at_its_end(store):
    begun = snapshot_reads.begin()
    with store.read() as one, store.read() as other:
        assert one is other
    assert store.engine.pool.checkedout() == 1
    snapshot_reads.end(begun)
    assert store.engine.pool.checkedout() == 0
    assert snapshot_reads.current() is None


def test_what_is_loaded_meanwhile_is_seen_by_the_next_moment_only(store, account):
    facts, begun = Facts(store), snapshot_reads.begin()
    before = facts.generation(account.id)
    bump(store, account)
    assert facts.generation(account.id) == before
    snapshot_reads.end(begun)
    assert facts.generation(account.id) != before


def test_a_connection_that_broke_is_let_go_and_the_next_read_takes_another(store, moment):
    with store.read() as connection:
        broken = number_of(connection)
    with store.engine.begin() as other:
        other.execute(text(f"KILL {broken}"))
    with pytest.raises(StoreAway), store.read() as connection:
        number_of(connection)
    with store.read() as connection:
        assert number_of(connection) != broken


def test_who_writes_reads_in_one_moment_until_then_and_sees_what_was_written(store, account):
    facts, begun = Facts(store), snapshot_reads.begin(until_written=True)
    before = facts.generation(account.id)
    bump(store, account)
    assert facts.generation(account.id) == before
    store.execute(text("UPDATE brand SET name = name"))
    assert store.engine.pool.checkedout() == 0, "whoever writes holds one connection at a time"
    assert facts.generation(account.id) != before
    snapshot_reads.end(begun)
