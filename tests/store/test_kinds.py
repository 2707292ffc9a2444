"""Every kind of the contract: loaded, read back, verified, undone; and what is peculiar to some."""

from datetime import date, datetime

import polars as pl
import pytest
from sqlalchemy import text

from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.errors import BadFile
from nimbus_reef.formats import files, mapping, reports
from nimbus_reef.formats.contract import SPAN_COLUMNS, CellKind
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.loading import ingest, undo
from nimbus_reef.store.loading.ingest import FilePart, Source
from nimbus_reef.store.loading.verify import verify
from nimbus_reef.store.reading import marketplace_ids
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.models import FACTS

TODAY = date(2026, 10, 20)
EXAMPLE = {
    CellKind.DATE: "2026-10-13",
    CellKind.WEEK: "2026-10-14",
    CellKind.MONTH: "2026-10",
    CellKind.TIME: "2026-10-13T22:30Z",
    CellKind.TEXT: "word",
    CellKind.COUNT: "3",
    CellKind.HOUR: "3",
    CellKind.MONEY: "2.50",
    CellKind.SHARE: "12.5%",
    CellKind.PERCENT: "12",
    CellKind.RANK: "2",
    CellKind.NUMBER: "4.2",
}


def row(kind, **other):
    cells = {
        column.name: next(iter(column.aliases)) if column.holds is CellKind.CHOICE else EXAMPLE[column.holds]
        for column in KINDS[kind].columns
        if column.name not in ("account", *(SPAN_COLUMNS if KINDS[kind].takes_blocks else ()))
    }
    return cells | other


def load(store, account, tmp_path, kind, rows, zone="Europe/Berlin"):
    path = tmp_path / f"{kind}.csv"
    pl.DataFrame(rows).write_csv(path)
    table = files.read_table(path, path.name)
    chosen = mapping.suggest(table, KINDS[kind]).mapping
    parsed = reports.parse(table, chosen, path.name, zone)
    part = FilePart(account.id, parsed, TODAY, chosen, "sig", "all")
    (loaded,) = ingest.load(store, [part], Source(path.name, "00"), confirmed=True)
    return loaded


def held(store, account, kind):
    return snapshots.read(store, account.id, kind, snapshots.versions(store, account.id, kind)).collect()


@pytest.mark.parametrize("kind", list(KINDS))
def test_a_row_of_every_kind_goes_in_comes_back_and_is_undone(store, account, tmp_path, kind):
    loaded = load(store, account, tmp_path, kind, [row(kind)])
    assert loaded.rows == 1
    assert list(verify(store, account.id)) == []
    assert len(held(store, account, kind)) == 1
    again = load(store, account, tmp_path, kind, [row(kind)])
    assert (again.rows, again.removed) == (1, 1)
    undo.undo(store, account.id, again.batch_id)
    assert len(held(store, account, kind)) == 1
    assert list(verify(store, account.id)) == []
    undo.undo(store, account.id, loaded.batch_id)
    assert held(store, account, kind).is_empty()


@pytest.mark.parametrize("kind", list(KINDS))
def test_every_column_of_the_contract_has_its_place(kind):
    """What is not a name of something else is a column of the fact table."""
    named = {
        "date",
        "week",
        "month",
        "account",
        "campaign",
        "ad_group",
        "target",
        "match_type",
        "search_term",
        "sku",
        "query",
        "keyword",
        "campaign_id",
        "ad_group_id",
        "target_id",
        "ad_id",
    }
    if KINDS[kind].takes_blocks:
        assert "first_day" in FACTS[kind].columns
        named |= set(SPAN_COLUMNS)
    wanted = {column.name for column in KINDS[kind].columns} - named
    assert wanted <= {column.name for column in FACTS[kind].columns}


def test_weeks_months_and_times_belong_to_a_day(store, account, tmp_path):
    for kind in ("query_funnel", "peer_format_mix", "changes"):
        load(store, account, tmp_path, kind, [row(kind)])
    assert held(store, account, "query_funnel")["day"].to_list() == [date(2026, 10, 12)]
    assert held(store, account, "peer_format_mix")["day"].to_list() == [date(2026, 10, 1)]
    made = held(store, account, "changes").row(0, named=True)
    assert (made["day"], made["at"]) == (date(2026, 10, 14), datetime(2026, 10, 14, 0, 30))


def test_what_is_left_open_in_a_change_is_nothing_and_not_a_name(store, account, tmp_path):
    """A change of a whole campaign and one of its targets, in one file, at one time."""
    bare = row("changes", ad_group=None, target=None, match_type=None, sku=None, field="daily_budget")
    load(store, account, tmp_path, "changes", [bare, row("changes")])
    ids = held(store, account, "changes").sort("target_id").select("target_id", "product_id").rows()
    assert ids[0] == (0, 0)
    assert min(ids[1]) > 0
    with store.read() as connection:
        assert connection.execute(text("SELECT text FROM phrase")).scalars().all() == ["word"]


def test_a_query_for_one_product_is_never_added_to_the_query(store, account, tmp_path):
    load(store, account, tmp_path, "query_funnel", [row("query_funnel"), row("query_funnel", sku=None)])
    assert sorted(held(store, account, "query_funnel")["product_id"].to_list())[0] == 0
    assert len(held(store, account, "query_funnel")) == 2


def test_a_search_for_a_total_thing_is_no_totals_line(store, account, tmp_path):
    loaded = load(store, account, tmp_path, "query_funnel", [row("query_funnel", query="total gym", sku=None)])
    assert loaded.rows == 1


def test_an_event_is_replaced_by_its_name_and_others_stay(store, account, tmp_path):
    load(store, account, tmp_path, "events", [row("events", name="spring"), row("events", name="autumn")])
    second = load(store, account, tmp_path, "events", [row("events", name="spring", to="2026-10-19")])
    assert second.removed == 1
    ends = held(store, account, "events").sort("name").select("name", "to").rows()
    assert ends == [("autumn", date(2026, 10, 13)), ("spring", date(2026, 10, 19))]


def test_an_hour_that_no_day_has_is_turned_away(store, account, tmp_path):
    rows = [row("hourly", hour=str(hour)) for hour in range(24)]
    loaded = load(store, account, tmp_path, "hourly", [*rows, row("hourly", hour="24")])
    assert (loaded.rows, loaded.rejected) == (24, 1)
    with pytest.raises(BadFile, match=r"hour is (not between 0 and 23|not an hour such as)"):
        load(store, account, tmp_path, "hourly", [row("hourly", hour="25")])


def test_a_text_longer_than_its_column_is_a_reject_not_cut(store, account, tmp_path):
    with pytest.raises(BadFile, match="brand is longer than 255"):
        load(store, account, tmp_path, "rivals", [row("rivals", brand="x" * 256)])


@pytest.mark.parametrize("kind", list(KINDS))
def test_no_text_that_is_let_in_is_too_long_for_its_column(kind):
    lengths = {column.name: column.type.length for column in FACTS[kind].columns if hasattr(column.type, "length")}
    for column in KINDS[kind].columns:
        if column.holds is CellKind.TEXT and lengths.get(column.name):
            assert column.longest <= lengths[column.name]


def test_ids_of_targets_and_ads_are_kept_from_any_report_and_the_newest_word_counts(store, account, tmp_path):
    def ids():
        with store.read() as connection:
            rows = connection.execute(text("SELECT kind, external_id FROM marketplace_id ORDER BY kind"))
            return [tuple(each) for each in rows]

    load(store, account, tmp_path, "targets", [row("targets", target_id="T-1", match_type="exact")])
    assert ids() == [("target", "T-1")]
    load(store, account, tmp_path, "target_daily", [row("target_daily", target_id="T-2")])
    assert ids() == [("target", "T-2")], "the same target, known by another id now"
    load(store, account, tmp_path, "target_daily", [row("target_daily", target_id=None)])
    assert ids() == [("target", "T-2")], "a file without ids takes none away"
    load(store, account, tmp_path, "product_ads", [row("product_ads", ad_id="A-9")])
    assert ids() == [("ad", "A-9"), ("target", "T-2")]
    home = row("targets")
    where = home["campaign"], "bid", "1", "2", home["ad_group"], home["target"], home["match_type"]
    bid = Change(1, Action.UPDATE, Entity.TARGET, *where)
    ad = row("product_ads")
    where = ad["campaign"], "state", "paused", "enabled", ad["ad_group"]
    paused = Change(2, Action.UPDATE, Entity.PRODUCT_AD, *where, sku=ad["sku"])
    known = marketplace_ids.of_changes(Facts(store), account.id, [bid, paused])
    assert known[1]["target_id"] == "T-2"
    assert known[2]["ad_id"] == "A-9"
