"""The private server: its small files are seen whole, a migration cut off is finished later."""

import stat
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from datetime import date, datetime
from decimal import Decimal

import pytest
from alembic import command
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy import MetaData, event, func, insert, inspect, select, text
from tests.conftest import port_from

from nimbus_reef.errors import StoreAway
from nimbus_reef.store.record import engine, schema, server
from nimbus_reef.store.record.models import metadata
from nimbus_reef.store.record.server import write_whole


def test_a_reader_never_sees_half_a_file(tmp_path):
    file, seen, done = tmp_path / "port", set(), threading.Event()
    write_whole(file, "3306" * 1_000)

    def read():
        while not done.is_set():
            seen.add(len(file.read_text()))

    reader = threading.Thread(target=read)
    reader.start()
    for _ in range(500):
        write_whole(file, "3306" * 1_000)
    done.set()
    reader.join()
    assert seen == {4_000}
    assert [each.name for each in tmp_path.iterdir()] == ["port"]


def test_the_first_to_write_wins_where_asked_and_nobody_else_may_read(tmp_path):
    file = tmp_path / "secret"
    write_whole(file, "first", replace=False)
    write_whole(file, "second", replace=False)
    assert file.read_text() == "first"
    assert stat.S_IMODE(file.stat().st_mode) == 0o600


def test_a_log_that_grew_long_gives_way_to_a_new_one(tmp_path):
    place = server.Server(tmp_path, 1, "", "")
    log = server.log_of(place)
    log.write_bytes(b"a line\n")
    assert server.log_of(place).read_bytes() == b"a line\n"
    log.write_bytes(b"a line\n" * 2_000_000)
    assert not server.log_of(place).exists()
    assert [each.name for each in tmp_path.iterdir()] == ["mariadb.log.1"]


@pytest.fixture(scope="module")
def bare(tmp_path_factory):
    """The tables' owner on a server of its own without any table."""
    tmp_path = tmp_path_factory.mktemp("bare")
    place = server.prepare(tmp_path / "mariadb", port_from(3666))
    process = server.start(place, buffer_mb=64)
    made = engine.connect(place.owner_url, tmp_path / "snapshots", tmp_path / "scratch").engine
    yield made
    made.dispose()
    server.stop(process)


def test_a_migration_cut_off_before_any_of_its_steps_is_finished_by_the_next(bare):
    """The power goes before every statement that changes something, one start after the other."""
    reached, cuts = set(), 0

    @event.listens_for(bare, "before_cursor_execute")
    def cut(connection, cursor, statement, *_):
        word = statement.strip().partition(" ")[0]
        if word in ("CREATE", "ALTER", "DROP", "INSERT", "UPDATE", "DELETE") and statement not in reached:
            reached.add(statement)
            raise RuntimeError("cut off")

    try:
        while not schema_is_there(bare):
            cuts += 1
    finally:
        event.remove(bare, "before_cursor_execute", cut)
    assert cuts > 60
    assert schema.is_current(bare)
    assert set(inspect(bare).get_table_names()) - {"alembic_version"} == set(metadata.tables)


def schema_is_there(bare):
    try:
        schema.migrate(bare)
    except RuntimeError:
        return False
    return True


def upgraded_to(bare, revision):
    """An empty database with the tables as they were at a revision."""
    with bare.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for name in inspect(bare).get_table_names():
            connection.execute(text(f"DROP TABLE `{name}`"))
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
    with bare.begin() as connection:
        config = schema._alembic()
        config.attributes["connection"] = connection
        command.upgrade(config, revision)


def one_row_everywhere(bare):
    """A row in every table, each column with a value of its type; how many tables."""
    tables = MetaData()
    tables.reflect(bare)
    kinds = {
        int: 1,
        str: "1",
        float: 1.0,
        date: date(2026, 10, 1),
        datetime: datetime(2026, 10, 1),
        bytes: b"",
        bool: True,
        Decimal: 1,
        dict: "{}",
    }
    with bare.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for table in tables.sorted_tables:
            if table.name != "alembic_version":
                row = {each.name: kinds[each.type.python_type] for each in table.columns}
                connection.execute(insert(table).values(**row))
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
    return set(tables.tables) - {"alembic_version"}


@pytest.mark.parametrize("revision", [f"{number:04}" for number in range(1, 11)])
def test_every_released_schema_is_brought_up_to_date_with_its_data(bare, revision):
    """What stood in its tables stands in those of today, which are as the models have them."""
    upgraded_to(bare, revision)
    filled = one_row_everywhere(bare)
    assert not schema.is_current(bare)
    schema.migrate(bare)
    assert schema.is_current(bare)
    with bare.connect() as connection:
        for name in filled & set(metadata.tables):
            assert connection.execute(select(func.count()).select_from(metadata.tables[name])).scalar() >= 1, name
        told = compare_metadata(MigrationContext.configure(connection), metadata)
    assert [each for each in told if "table" in str(each[0])] == []


def test_servers_beside_each_other_share_no_folder_for_passing_tables(tmp_path):
    """A server that starts empties that folder."""
    places = [server.prepare(tmp_path / name, 3690) for name in ("one", "two")]
    told = [
        {part for part in server.command(place) if part.startswith(("--tmpdir=", "--datadir="))} for place in places
    ]
    assert len(told[0] | told[1]) == 4


def test_processes_that_start_at_once_on_an_empty_machine_make_one_database(tmp_path, monkeypatch):
    """Database, web server and worker do, where the system starts them."""
    made = []

    def slowly(data):
        made.append(data)
        time.sleep(0.2)
        (data / "mysql").mkdir(parents=True)

    monkeypatch.setattr(server, "initialise", slowly)
    with ThreadPoolExecutor(3) as three:
        found = list(three.map(lambda _: server.prepare(tmp_path, 3999), range(3)))
    assert len(made) == 1
    assert all((each.data / "mysql").is_dir() for each in found)


def test_why_a_database_could_not_be_made_is_told(tmp_path, monkeypatch):
    said = "printf 'no place\\nfor it\\n' >&2; exit 3"
    (tmp_path / "mariadb-install-db").write_text(f"#!/bin/sh\n{said}\n")
    (tmp_path / "mariadb-install-db").chmod(0o755)
    monkeypatch.setenv("PATH", str(tmp_path), prepend=":")
    with pytest.raises(StoreAway, match="no place for it"):
        server.prepare(tmp_path / "database", 3999)
