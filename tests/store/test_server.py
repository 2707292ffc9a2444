"""The private server: its small files are seen whole, a migration cut off is finished later."""

import stat
import threading

import pytest
from sqlalchemy import event, inspect

from nimbus_reef.cli import wiring
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


@pytest.fixture
def bare(tmp_path):
    """The tables' owner on a server of its own without any table."""
    place = server.prepare(tmp_path / "mariadb", wiring.free_port("127.0.0.1", 3666))
    process = server.start(place, buffer_mb=64)
    made = engine.connect(place.owner_url, tmp_path / "snapshots", tmp_path / "scratch").engine
    yield made
    made.dispose()
    server.stop(process)


def test_a_migration_cut_off_anywhere_is_finished_by_the_next(bare):
    """Every statement that begins so is where the power goes, one start after the other."""
    cuts = ["CREATE TABLE IF NOT EXISTS phrase", "CREATE INDEX", "CREATE TABLE IF NOT EXISTS batch_day"]

    @event.listens_for(bare, "before_cursor_execute")
    def cut(connection, cursor, statement, *_):
        if cuts and statement.strip().startswith(cuts[0]):
            raise RuntimeError(f"cut off before {cuts.pop(0)}")

    while cuts:
        with pytest.raises(RuntimeError):
            schema.migrate(bare)
    schema.migrate(bare)
    assert schema.is_current(bare)
    assert set(inspect(bare).get_table_names()) - {"alembic_version"} == set(metadata.tables)


def test_servers_beside_each_other_share_no_folder_for_passing_tables(tmp_path):
    """A server that starts empties that folder."""
    places = [server.prepare(tmp_path / name, 3690) for name in ("one", "two")]
    told = [
        {part for part in server.command(place) if part.startswith(("--tmpdir=", "--datadir="))}
        for place in places
    ]
    assert len(told[0] | told[1]) == 4
