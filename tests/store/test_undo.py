"""Undo: the days of a batch are as they were before it, unless a newer batch stands on them."""

import pytest
from tests.store.test_ingest import WINDOW, days, held, load, term_rows

from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.loading import ingest, undo
from nimbus_reef.store.record import loads, snapshots


def clicks(store, account):
    """What the pages see of each day: the snapshots, not the tables."""
    wanted = snapshots.versions(store, account.id, "search_term_daily", WINDOW)
    rows = snapshots.read(store, account.id, "search_term_daily", wanted, ["clicks"]).collect()
    return {str(day): int(rows.filter(day=day)["clicks"].sum()) for day in sorted(rows["day"].unique())}


def test_undoing_a_first_load_leaves_nothing(store, account, tmp_path):
    first = load(store, account, tmp_path, term_rows(days(1, 2)))
    (undone,) = undo.undo(store, account.id, first.batch_id)
    assert [str(span.last) for span in undone.restored] == days(1, 2)
    assert held(store) == []
    assert clicks(store, account) == {}
    assert loads.get_batch(store, first.batch_id).undone_at is not None


def test_undoing_puts_back_what_was_replaced(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1, 2), clicks=3))
    before, seen = held(store), clicks(store, account)
    second = load(store, account, tmp_path, term_rows(days(2, 3), clicks=5))
    assert clicks(store, account) == {"2026-10-01": 9, "2026-10-02": 15, "2026-10-03": 15}
    undo.undo(store, account.id, second.batch_id)
    assert held(store) == before
    assert clicks(store, account) == seen


def test_a_large_day_is_kept_in_parts(store, account, tmp_path, monkeypatch):
    monkeypatch.setattr(undo, "PART_ROWS", 2)
    load(store, account, tmp_path, term_rows(days(1), terms=("a", "b", "c", "d", "e")))
    before = held(store)
    second = load(store, account, tmp_path, term_rows(days(1), terms=("z",)))
    undo.undo(store, account.id, second.batch_id)
    assert held(store) == before


def test_days_of_a_newer_batch_stay_and_are_named(store, account, tmp_path):
    first = load(store, account, tmp_path, term_rows(days(1, 2), clicks=3))
    second = load(store, account, tmp_path, term_rows(days(2), clicks=5))
    (undone,) = undo.undo(store, account.id, first.batch_id)
    assert [str(span.last) for span in undone.restored] == days(1)
    assert [str(span.last) for span in undone.left] == days(2)
    assert clicks(store, account) == {"2026-10-02": 15}
    assert loads.get_batch(store, first.batch_id).undone_at is None
    with pytest.raises(Conflict, match="Newer batches"):
        undo.undo(store, account.id, first.batch_id)
    undo.undo(store, account.id, second.batch_id)
    undo.undo(store, account.id, first.batch_id)
    assert held(store) == []


def test_a_day_emptied_then_filled_anew_is_not_doubled(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1, 2, 3), clicks=3))
    emptied = load(store, account, tmp_path, term_rows(days(1, 3), clicks=4), confirmed=True)
    load(store, account, tmp_path, term_rows(days(2), clicks=5))
    (undone,) = undo.undo(store, account.id, emptied.batch_id)
    assert [str(span.last) for span in undone.left] == days(2)
    assert clicks(store, account) == {"2026-10-01": 9, "2026-10-02": 15, "2026-10-03": 9}


def test_another_label_s_rows_are_left_alone(store, account, tmp_path):
    first = load(store, account, tmp_path, term_rows(days(1), campaign="C", clicks=3))
    load(store, account, tmp_path, term_rows(days(1), campaign="B", clicks=5), scope="brand")
    (undone,) = undo.undo(store, account.id, first.batch_id)
    assert undone.left == ()
    assert clicks(store, account) == {"2026-10-01": 15}


def test_a_batch_is_undone_once_and_by_its_own_account(store, account, tmp_path):
    first = load(store, account, tmp_path, term_rows(days(1)))
    with pytest.raises(NotFound):
        undo.undo(store, account.id + 1, first.batch_id)
    undo.undo(store, account.id, first.batch_id)
    with pytest.raises(Conflict, match="undone already"):
        undo.undo(store, account.id, first.batch_id)


def test_an_undo_that_fails_half_way_changes_nothing(store, account, tmp_path, monkeypatch):
    load(store, account, tmp_path, term_rows(days(1, 2), clicks=3))
    second = load(store, account, tmp_path, term_rows(days(1, 2), clicks=5))
    before = held(store)

    def broken(*_, **__):
        raise RuntimeError("cut off")

    monkeypatch.setattr(ingest.versions, "bump", broken)
    with pytest.raises(RuntimeError):
        undo.undo(store, account.id, second.batch_id)
    assert held(store) == before
    assert loads.get_batch(store, second.batch_id).undone_at is None
