"""Loading: days replaced and never doubled, all or nothing, exact to the micro-unit."""

import threading
from datetime import date

import MySQLdb
import polars as pl
import pytest
from sqlalchemy import text
from sqlalchemy.exc import OperationalError

from nimbus_reef.core import words
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import Conflict, NeedsYes
from nimbus_reef.formats import files, mapping, reports
from nimbus_reef.store.loading import ingest, spelling
from nimbus_reef.store.loading.ingest import FilePart, Source
from nimbus_reef.store.reading import product_frames, target_frames, word_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import bulk, snapshots
from nimbus_reef.store.record.models import FACTS

TODAY = date(2026, 10, 20)
WINDOW = Window(date(2026, 10, 1), date(2026, 10, 19))


def term_rows(days, terms=("grow light", "Grow  Light", "lamp"), campaign="C", clicks=3):
    return [
        {
            "date": day,
            "campaign": campaign,
            "ad_group": "G",
            "target": "grow",
            "match_type": "broad",
            "search_term": term,
            "impressions": 100,
            "clicks": clicks,
            "spend": 1.23,
            "orders": 1,
            "sales": 19.99,
        }
        for day in days
        for term in terms
    ]


def parsed(tmp_path, rows, name="r.csv"):
    path = tmp_path / name
    pl.DataFrame(rows).write_csv(path)
    table = files.read_table(path, name)
    return reports.parse(table, mapping.suggest_kind(table)[0].mapping, name)


def load(store, account, tmp_path, rows, *, scope="product", confirmed=False, today=TODAY):
    what = parsed(tmp_path, rows)
    part = FilePart(account.id, what, today, mapping.ColumnMap(what.kind.name, {}), "sig", scope)
    (loaded,) = ingest.load(store, [part], Source("r.csv", "00"), confirmed=confirmed)
    return loaded


def held(store, kind="search_term_daily"):
    with store.read() as connection:
        return connection.execute(
            text(f"SELECT day, COUNT(*), SUM(spend) FROM `{kind}` GROUP BY day ORDER BY day")
        ).all()


def days(*numbers):
    return [f"2026-10-{number:02}" for number in numbers]


def test_a_file_is_kept_to_the_micro_unit(store, account, tmp_path):
    loaded = load(store, account, tmp_path, term_rows(days(1, 2)))
    assert (loaded.rows, loaded.days, loaded.removed) == (6, 2, 0)
    assert [(str(row[0]), row[1], int(row[2])) for row in held(store)] == [
        ("2026-10-01", 3, 3_690_000),
        ("2026-10-02", 3, 3_690_000),
    ]


def test_the_same_days_are_replaced_never_doubled(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1, 2, 3)))
    again = load(store, account, tmp_path, term_rows(days(2, 3), clicks=5))
    assert again.removed == 6
    assert [row[1] for row in held(store)] == [3, 3, 3]
    rows = Facts(store).sums(account.id, "search_term_daily", WINDOW)
    assert int(rows["clicks"].sum()) == 3 * 3 + 2 * 3 * 5


def test_days_the_file_would_empty_need_a_yes(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1, 2, 3)))
    with pytest.raises(NeedsYes, match="needs a yes") as asked:
        load(store, account, tmp_path, term_rows(days(1, 3)))
    assert "2026-10-02" in asked.value.questions[0]
    assert [row[1] for row in held(store)] == [3, 3, 3]
    load(store, account, tmp_path, term_rows(days(1, 3)), confirmed=True)
    assert [str(row[0]) for row in held(store)] == days(1, 3)


@pytest.mark.parametrize("day", ["2026-10-25", "2024-01-01"])
def test_a_day_in_the_future_and_a_long_span_need_a_yes(store, account, tmp_path, day):
    with pytest.raises(NeedsYes):
        load(store, account, tmp_path, term_rows([day, "2026-10-01"]))
    assert held(store) == []


def test_another_format_s_file_leaves_the_rows_of_the_first(store, account, tmp_path):
    """A brand-ads file owns its own label on its days, not the product ads."""
    load(store, account, tmp_path, term_rows(days(1, 2)))
    load(store, account, tmp_path, term_rows(days(1, 2), campaign="B", terms=("bread",)), scope="brand")
    assert [row[1] for row in held(store)] == [4, 4]
    load(store, account, tmp_path, term_rows(days(1, 2), terms=("x",)), scope="product")
    assert [row[1] for row in held(store)] == [2, 2]
    load(store, account, tmp_path, term_rows(days(1, 2), terms=("y",)), scope="all")
    assert [row[1] for row in held(store)] == [1, 1]


def test_a_labelled_file_replaces_its_campaigns_held_under_another_label(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1)) + term_rows(days(1), campaign="B"), scope="all")
    with pytest.raises(NeedsYes, match="needs a yes") as asked:
        load(store, account, tmp_path, term_rows(days(1), terms=("only",)), scope="product")
    assert "“B”" in asked.value.questions[0]
    load(store, account, tmp_path, term_rows(days(1), terms=("only",)), scope="product", confirmed=True)
    assert [row[1] for row in held(store)] == [4]


def test_catalog_rows_are_replaced_by_key(store, account, tmp_path):
    one = {"sku": "A", "item_id": "1", "title": "Lamp", "price": 9.99}
    load(store, account, tmp_path, [one, one | {"sku": "B"}])
    load(store, account, tmp_path, [one | {"title": "Lamp II"}])
    facts = Facts(store)
    catalog = product_frames.catalog(facts, account.id).sort("sku")
    assert catalog["title"].to_list() == ["Lamp II", "Lamp"]


def test_an_id_that_stays_while_the_name_changes_is_a_rename(store, account, tmp_path):
    """The campaign keeps its history under its new name."""
    rows = [row | {"campaign_id": "77"} for row in term_rows(days(1))]
    load(store, account, tmp_path, rows)
    load(store, account, tmp_path, [row | {"campaign": "C new", "date": "2026-10-02"} for row in rows])
    frame = target_frames.term_rows(Facts(store), account.id, WINDOW)
    assert frame["campaign"].unique().to_list() == ["C new"]
    assert int(frame["clicks"].sum()) == 18


def test_terms_are_grouped_by_their_normal_form(store, account, tmp_path):
    load(store, account, tmp_path, term_rows(days(1)))
    frame = target_frames.term_rows(Facts(store), account.id, WINDOW).sort("clicks")
    assert frame["clicks"].to_list() == [3, 6]


def test_the_words_of_a_term_are_kept_with_its_normal_form(store, account, tmp_path):
    """Once per normal form, in their order, plurals undone; those held without are filled in by the migration."""
    load(store, account, tmp_path, term_rows(days(1)))

    def held():
        facts = Facts(store)
        named = word_frames.tokens(facts, account.id).join(word_frames.vocabulary(facts, account.id), on="word_id")
        terms = target_frames.term_names(facts, account.id).unique("normal_id").select("normal_id", "term")
        told = named.join(terms, on="normal_id").group_by("term", maintain_order=True).agg("word")
        return {term: tuple(spelt) for term, spelt in told.rows()}

    first = held()
    assert first
    assert first == {term: words.words(term) for term in first}
    with store.engine.begin() as connection:
        connection.execute(text("UPDATE phrase SET words = NULL"))
    assert held() == {}
    with store.engine.begin() as connection:
        spelling.fill_in(connection)
    assert held() == first


def test_two_loads_of_the_same_days_at_once_leave_one(store, account, tmp_path):
    """They take turns; the record holds one file's rows, not both."""
    whats = [parsed(tmp_path, term_rows(days(1, 2), clicks=clicks), f"{clicks}.csv") for clicks in (2, 9)]
    problems = []

    def go(what):
        try:
            part = FilePart(account.id, what, TODAY, mapping.ColumnMap(what.kind.name, {}), "sig", "product")
            ingest.load(store, [part], Source("r", "00"))
        except Exception as problem:
            problems.append(problem)

    threads = [threading.Thread(target=go, args=(what,)) for what in whats]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert problems == []
    clicks = int(Facts(store).sums(account.id, "search_term_daily", WINDOW)["clicks"].sum())
    assert clicks in (2 * 6, 9 * 6)
    assert [row[1] for row in held(store)] == [3, 3]


def test_a_load_that_fails_half_way_changes_nothing(store, account, tmp_path, monkeypatch):
    load(store, account, tmp_path, term_rows(days(1)))
    before = held(store)
    monkeypatch.setattr(ingest.versions, "bump", lambda *_, **__: (_ for _ in ()).throw(RuntimeError("power cut")))
    with pytest.raises(RuntimeError):
        load(store, account, tmp_path, term_rows(days(1), clicks=8))
    assert held(store) == before
    assert not list(store.snapshots.rglob("*.part"))
    with store.read() as connection:
        assert connection.execute(text("SELECT COUNT(*) FROM batch")).scalar() == 1


def test_each_day_file_is_written_once_while_the_record_is(store, account, tmp_path, monkeypatch):
    """Begun anew, as after a deadlock, the later rows count; what another label holds besides is read back."""
    written, bumped = [], []
    drafted, bump = snapshots._drafted, ingest.versions.bump

    def once_more(*of, **named):
        bumped.append(len(written))
        if len(bumped) == 1:
            raise OperationalError("x", None, MySQLdb.OperationalError(1213, "Deadlock found"))
        return bump(*of, **named)

    monkeypatch.setattr(snapshots, "_drafted", lambda folder, rows: written.append(len(rows)) or drafted(folder, rows))
    monkeypatch.setattr(ingest.versions, "bump", once_more)
    load(store, account, tmp_path, term_rows(days(1, 2)))
    assert written == [3, 3, 3, 3]
    versions = snapshots.versions(store, account.id, "search_term_daily")
    assert [
        snapshots.path(store.snapshots, account.id, "search_term_daily", *each).exists() for each in versions.items()
    ] == [True, True]
    assert not list(store.snapshots.rglob("*.part"))


def test_a_row_that_repeats_a_key_stops_the_load(store, account, tmp_path):
    """LOAD DATA LOCAL would drop it in silence."""
    frame = pl.DataFrame({"account_id": [1, 1], "what": ["x", "x"], "taken": [1, 1]})
    with pytest.raises(Conflict), store.engine.begin() as connection:
        bulk.load(connection, "turn", frame, tmp_path)


def test_large_frames_go_in_by_pieces_or_not_at_all(store, tmp_path, monkeypatch):
    scratch = tmp_path / "tsv"
    scratch.mkdir()
    monkeypatch.setattr(bulk, "_PIECE", 2)
    whole = pl.DataFrame({"account_id": range(5), "what": list("abcde"), "taken": [1] * 5})
    with store.engine.begin() as connection:
        bulk.load(connection, "turn", whole.clear(), scratch)
        bulk.load(connection, "turn", whole, scratch)
        assert connection.execute(text("SELECT COUNT(*) FROM turn")).scalar() == 5
    with pytest.raises(Conflict, match="took 1 of 2 rows"), store.engine.begin() as connection:
        bulk.load(connection, "turn", pl.concat([whole.with_columns(what=pl.lit("new")), whole[:1]]), tmp_path)
    with store.read() as connection:
        assert connection.execute(text("SELECT COUNT(*) FROM turn")).scalar() == 5
    assert not list(scratch.iterdir())


def test_a_name_too_long_to_keep_is_a_reject_of_its_row(store, account, tmp_path):
    """One of 30 rows has a name of 600 characters; 300 are kept, and terms up to 1,024."""
    rows = [term_rows(days(1), terms=(f"t{number}" * 400,), campaign="C" * 300)[0] for number in range(3)]
    rows += [term_rows(days(1), terms=(f"u{number}",))[0] for number in range(30)]
    loaded = load(store, account, tmp_path, [*rows, term_rows(days(1), campaign="C" * 600)[0]])
    assert (loaded.rows, loaded.rejected) == (33, 1)
    frame = target_frames.term_rows(Facts(store), account.id, WINDOW)
    assert {len(term) for term in frame["term"].to_list()} >= {800, 2}


def test_odd_text_survives_the_bulk_road(store, account, tmp_path):
    """Tabs, backslashes, quotes and emoji come back byte for byte."""
    odd = ["a\\nb", "tab\there", 'quote"s', "caf\u00e9 \U0001f331", "\\N"]
    load(store, account, tmp_path, term_rows(days(1), terms=odd))
    frame = target_frames.term_rows(Facts(store), account.id, WINDOW)
    assert sorted(frame["term"].to_list()) == sorted(odd)


def test_snapshots_and_record_agree_and_can_be_deleted(store, account, tmp_path):
    """Read from the load's own files, then rebuilt from MariaDB: the same rows."""
    load(store, account, tmp_path, term_rows(days(1, 2)))
    versions = snapshots.versions(store, account.id, "search_term_daily")
    first = snapshots.read(store, account.id, "search_term_daily", versions).collect()
    files = sorted(store.snapshots.rglob("*.arrow"))
    assert len(files) == 2
    for file in files:
        file.unlink()
    again = snapshots.read(store, account.id, "search_term_daily", versions).collect()
    assert again.equals(first)
    assert sorted(store.snapshots.rglob("*.arrow")) == files


def test_a_disk_that_takes_no_snapshot_costs_nothing_but_speed(store, account, tmp_path, monkeypatch):
    def full(*_, **__):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(snapshots, "_drafted", full)
    load(store, account, tmp_path, term_rows(days(1)))
    assert int(Facts(store).sums(account.id, "search_term_daily", WINDOW)["clicks"].sum()) == 9


def test_window_sums_are_the_slow_reference_s(store, account, tmp_path):
    """Plain Python over the file's rows against the frames handed to the core."""
    rows = term_rows(days(1, 2, 5)) + term_rows(days(3, 12), campaign="D", clicks=7)
    load(store, account, tmp_path, rows, confirmed=True)
    window = Window(date(2026, 10, 2), date(2026, 10, 5))
    frame = target_frames.target_rows(Facts(store), account.id, window)
    slow = {}
    for row in rows:
        if window.first <= date.fromisoformat(row["date"]) <= window.last:
            entry = slow.setdefault(row["campaign"], dict.fromkeys(MEASURES, 0))
            for name in MEASURES:
                value = row.get(name, 0)
                entry[name] += round(value * 1e6) if name in ("spend", "sales") else value
    assert {row["campaign"]: {name: row[name] for name in MEASURES} for row in frame.to_dicts()} == slow


def test_every_kind_of_the_contract_has_a_table():
    from nimbus_reef.formats.kinds import KINDS

    assert set(KINDS) == set(FACTS)
