"""Verifying: what is well is silent, and every kind of disagreement is found and named."""

import pytest
from sqlalchemy import text
from tests.store.test_ingest import WINDOW, days, load, term_rows

from nimbus_reef.store.loading import undo
from nimbus_reef.store.loading.verify import verify
from nimbus_reef.store.record import snapshots

KIND = "search_term_daily"


@pytest.fixture
def loaded(store, account, tmp_path):
    """Three batches: one stands, one is partly replaced, one was undone."""
    load(store, account, tmp_path, term_rows(days(1, 2, 3), clicks=3))
    load(store, account, tmp_path, term_rows(days(2), clicks=5))
    undone = load(store, account, tmp_path, term_rows(days(7, 8)))
    undo.undo(store, account.id, undone.batch_id)
    snapshots.read(store, account.id, KIND, snapshots.versions(store, account.id, KIND, WINDOW))
    return store


def told(store, account):
    return [(each.where.split(",")[0], each.what) for each in verify(store, account.id)]


def change(store, statement):
    with store.engine.begin() as connection:
        connection.execute(text(statement))


def test_a_record_in_order_is_silent(loaded, account):
    assert told(loaded, account) == []


def test_a_row_changed_behind_our_back_is_found_in_day_and_batch(loaded, account):
    with loaded.read() as connection:
        newest = connection.execute(text(f"SELECT MAX(batch_id) FROM {KIND}")).scalar()
    change(loaded, f"UPDATE {KIND} SET spend = spend + 1 WHERE day = '2026-10-02'")
    assert told(loaded, account) == [(f"batch {newest}", "spend"), ("2026-10-02", "spend in the day file")]


def test_a_row_that_is_gone_is_found(loaded, account):
    change(loaded, f"DELETE FROM {KIND} WHERE day = '2026-10-01' LIMIT 1")
    found = told(loaded, account)
    assert ("2026-10-01", "rows by day version") in found
    assert ("2026-10-01", "rows in the day file") in found


def test_a_day_file_with_other_rows_is_found_and_mended(loaded, account):
    versions = snapshots.versions(loaded, account.id, KIND)
    first, second = [snapshots.path(loaded.snapshots, account.id, KIND, d, v) for d, v in versions.items()][:2]
    first.write_bytes(second.read_bytes())
    assert ("2026-10-01", "clicks in the day file") in told(loaded, account)
    assert snapshots.rebuild(loaded, account.id, KIND) == 3
    assert told(loaded, account) == []


def test_day_files_are_made_by_pieces(loaded, account, monkeypatch):
    """As large as may be read at once: of an account at size they would not fit into memory together."""
    files = {
        each: each.read_bytes()
        for span, version in snapshots.versions(loaded, account.id, KIND).items()
        if (each := snapshots.path(loaded.snapshots, account.id, KIND, span, version)).exists()
    }
    assert len(files) == 3
    asked = []
    query = snapshots.query
    monkeypatch.setattr(snapshots, "query", lambda *of, **values: asked.append(values) or query(*of, **values))
    for most, pieces in ((1, 3), (1_000_000, 1)):
        monkeypatch.setattr(snapshots, "_PIECE_ROWS", most)
        for each in files:
            each.unlink()
        asked.clear()
        wanted = snapshots.versions(loaded, account.id, KIND)
        assert snapshots.read(loaded, account.id, KIND, wanted).collect().height == sum(
            len(snapshots.read(loaded, account.id, KIND, {span: version}).collect()) for span, version in wanted.items()
        )
        assert len(asked) == pieces
        assert {each: each.read_bytes() for each in files} == files
