"""Names to ids: each once, whoever makes them, and known without asking again."""

import threading

import polars as pl
import pytest
from sqlalchemy import select, text
from tests.store.test_ingest import WINDOW, days, load, term_rows

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NeedsYes
from nimbus_reef.store.loading import id_allocator
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import dictionary, engine, models

TABLES = (models.phrase, models.word, models.target, models.target_term, models.product, models.product_ad)


def counts(store):
    with store.read() as connection:
        return {
            table.name: connection.execute(text(f"SELECT COUNT(*) FROM `{table.name}`")).scalar_one()
            for table in (models.campaign, models.ad_group, *TABLES)
        }


def known(store):
    """What the dictionary knows, against what the tables hold."""
    with store.read() as connection:
        for table in TABLES:
            found = store.dictionary.of(connection, table)
            rows = connection.execute(select(*(table.c[name] for name in found.columns)).order_by(table.c.id))
            assert found.rows() == [tuple(row) for row in rows]


def of_another_process(store, folder):
    """A store on the same database that knows nothing."""
    return engine.connect(store.engine.url.render_as_string(hide_password=False), folder / "s2", folder / "t2")


AD = {
    "date": "2026-10-01",
    "campaign": "C",
    "ad_group": "G",
    "sku": "A-1",
    "impressions": 10,
    "clicks": 1,
    "spend": 0.5,
    "orders": 0,
    "sales": 0,
}


def test_what_is_known_is_what_is_held(store, account, tmp_path):
    """Through loads of several kinds, each with some names that are new."""
    for number, terms in enumerate((("a b", "A  B", "ß"), ("a b", "c"), ("é", "É", "x\ty"), ("c",))):
        load(store, account, tmp_path, term_rows(days(number + 1), terms=terms))
        known(store)
    load(store, account, tmp_path, [AD, AD | {"sku": "B-2"}])
    known(store)
    assert counts(store)["target_term"] == 7
    assert counts(store)["product_ad"] == 2


def test_names_that_are_known_are_not_made_again(store, account, tmp_path, monkeypatch):
    """Only the first of two files with the same names takes the turn of whoever makes some."""
    load(store, account, tmp_path, term_rows(days(1)))
    monkeypatch.setattr(id_allocator, "with_turn", lambda *_: pytest.fail("nothing is new"))
    load(store, account, tmp_path, term_rows(days(2)))
    assert int(Facts(store).sums(account.id, "search_term_daily", WINDOW)["clicks"].sum()) == 18


def test_what_another_process_made_is_found(store, account, tmp_path):
    other = of_another_process(store, tmp_path)
    load(store, account, tmp_path, term_rows(days(1)))
    load(other, account, tmp_path, term_rows(days(2), terms=("lamp", "new one")))
    load(store, account, tmp_path, term_rows(days(3), terms=("new one", "newest")))
    known(store)
    known(other)
    assert counts(store)["target_term"] == 5
    other.engine.dispose()


def test_two_that_make_the_same_names_at_once_make_them_once(store, account, tmp_path):
    stores = [store, of_another_process(store, tmp_path)]
    terms = [f"term {number}" for number in range(400)]
    problems = []

    def go(which):
        try:
            folder = tmp_path / str(which)
            folder.mkdir()
            load(stores[which], account, folder, term_rows(days(which + 1), terms=terms))
        except Exception as problem:
            problems.append(problem)

    threads = [threading.Thread(target=go, args=(which,)) for which in (0, 1)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert problems == []
    assert counts(store)["target_term"] == len(terms)
    for each in stores:
        known(each)
    stores[1].engine.dispose()


def test_another_database_under_the_same_address_is_noticed(store, account, tmp_path):
    """One that was put back from a backup may have other rows under the ids that are known."""
    load(store, account, tmp_path, term_rows(days(1)))
    with store.engine.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for table in (*TABLES, models.search_term_daily):
            connection.execute(table.delete())
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
    load(store, account, tmp_path, term_rows(days(2), terms=("other", "lamp")))
    known(store)
    frame = target_frames.term_rows(Facts(store), account.id, Window(*([WINDOW.first.replace(day=2)] * 2)))
    assert sorted(frame["term"].to_list()) == ["lamp", "other"]


def test_the_file_of_a_table_is_what_another_process_begins_with(store, account, tmp_path, monkeypatch):
    """A file that is broken, or of another make, is as good as none."""
    monkeypatch.setattr(dictionary, "_FILED", 2)
    load(store, account, tmp_path, term_rows(days(1), terms=[f"term {number}" for number in range(9)]))
    folder = store.snapshots / "names"
    assert (folder / "phrase.arrow").exists()
    (folder / "target_term.arrow").write_bytes(b"no table")
    pl.DataFrame({"id": [1]}).write_ipc(folder / "word.arrow", compression="uncompressed")
    again = engine.connect(store.engine.url.render_as_string(hide_password=False), store.snapshots, store.scratch)
    known(again)
    again.engine.dispose()


def test_a_load_that_is_asked_about_makes_no_names(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1, 2)))
    before = counts(store)
    with pytest.raises(NeedsYes):
        load(store, account, tmp_path, term_rows(days(1, 3), terms=("brand new",), campaign="D"))
    assert counts(store) == before


def test_names_that_move_on_keep_their_history(store, account, tmp_path):
    """C is D now, whose former holder is E: each keeps its rows; a name that another holds stays with it."""
    first = [row | {"campaign_id": "1"} for row in term_rows(days(1), campaign="C")]
    second = [row | {"campaign_id": "2"} for row in term_rows(days(1), campaign="D", clicks=5)]
    load(store, account, tmp_path, first + second)
    named = {"1": "D", "2": "E"}
    load(
        store,
        account,
        tmp_path,
        [row | {"campaign": named[row["campaign_id"]], "date": "2026-10-02"} for row in first + second],
    )
    frame = target_frames.term_rows(Facts(store), account.id, WINDOW).group_by("campaign").agg(pl.col("clicks").sum())
    assert dict(frame.rows()) == {"D": 18, "E": 30}
    assert counts(store)["campaign"] == 2


def test_an_id_that_comes_later_belongs_to_the_name_it_comes_with(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1)))
    load(store, account, tmp_path, [row | {"campaign_id": "7"} for row in term_rows(days(2))])
    load(store, account, tmp_path, [row | {"campaign_id": "7", "campaign": "N"} for row in term_rows(days(3))])
    assert counts(store)["campaign"] == 1
