"""A backup taken while everything goes on, put back on an empty machine, agrees with itself and with what was."""

import os
import time

import pytest
from click.testing import CliRunner
from sqlalchemy import func, select
from tests.conftest import port_from

from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.cli.main import cli
from nimbus_reef.errors import BadFile
from nimbus_reef.jobs import queue, upkeep
from nimbus_reef.store.people import people
from nimbus_reef.store.record import backup, loads, server
from nimbus_reef.store.record.models import metadata

pytestmark = pytest.mark.fault


def rows_of(store):
    """How many rows every table holds."""
    with store.read() as connection:
        return {
            table.name: connection.execute(select(func.count()).select_from(table)).scalar()
            for table in metadata.sorted_tables
        }


def test_an_empty_machine_has_all_of_it_back(demo, tmp_path):
    wiring.secret_key(demo.config)
    before, file = rows_of(demo.store), tmp_path / "all.tar.gz"
    run = CliRunner().invoke
    made = run(cli, ["backup", str(file)], env={"REEF_VAR": str(demo.config.var)})
    assert made.exit_code == 0, made.output
    assert file.stat().st_mode & 0o077 == 0
    fresh = tmp_path / "machine"
    environment = {"REEF_VAR": str(fresh), "REEF_DATABASE_PORT": str(port_from(3966))}
    done = run(cli, ["restore", str(file)], env=environment)
    assert done.exit_code == 0, done.output
    assert "agrees with itself" in done.output
    assert run(cli, ["restore", str(file)], env=environment).exit_code == 3, "nothing is replaced unasked"
    conf = config.load(environment)
    with wiring.running_store(conf) as store:
        assert rows_of(store) == before
        assert people.signed_in(store, "demo@nimbus-reef.example", demo.password) is not None
    held = {path.name for path in demo.config.uploads.iterdir()} if demo.config.uploads.exists() else set()
    assert {path.name for path in conf.uploads.iterdir()} >= held if held else True
    assert wiring.secret_key(conf) == wiring.secret_key(demo.config)


def test_what_is_no_backup_changes_nothing(demo, tmp_path):
    """Cut off, of a later version, or something else: refused before anything is touched."""
    wrong = tmp_path / "x.tar.gz"
    wrong.write_bytes(b"no backup")
    with pytest.raises(BadFile):
        backup.manifest(wrong)
    whole = tmp_path / "whole.tar.gz"
    upkeep.back_up(demo.config, demo.store, whole)
    half = tmp_path / "half.tar.gz"
    half.write_bytes(whole.read_bytes()[: whole.stat().st_size // 2])
    before, owner = rows_of(demo.store), wiring.private_server(demo.config).owner_url
    made = wiring.engine.connect(owner, demo.config.snapshots, demo.config.scratch)
    with pytest.raises(BadFile):
        backup.restore(made.engine, half, {}, tmp_path / "scratch")
    made.engine.dispose()
    assert rows_of(demo.store) == before


def test_a_worker_writes_backups_in_time_and_keeps_the_newest(store, account, tmp_path):
    conf = config.load({"REEF_VAR": str(tmp_path), "REEF_BACKUP_HOURS": "24", "REEF_BACKUP_KEEP": "2"})
    made = queue.make_queue(conf, store, immediate=True)
    for number in range(3):
        queue.look_after(conf, store, made)
        assert not upkeep.backup_is_due(conf)
        queue.look_after(conf, store, made)
        (newest,) = [path for path in conf.backups.iterdir() if time.time() - path.stat().st_mtime < 3600]
        # As if it had been made some days ago.
        newest.rename(conf.backups / f"reef-2026010{number}-000000.tar.gz")
        for path in conf.backups.iterdir():
            os.utime(path, (1, 1))
    assert len(list(conf.backups.iterdir())) == 2
    assert loads.start_only(store, "backup") is not None
    assert loads.start_only(store, "backup") is None, "another machine has begun one"
    assert server.program("mariadb-dump")


def test_files_that_are_over_go_and_others_stay(tmp_path):
    conf = config.load({"REEF_VAR": str(tmp_path)})
    old, young = time.time() - 500 * 86_400, time.time()
    for folder, name, at in (
        (conf.scratch, "left.tsv", old),
        (conf.scratch, "now.tsv", young),
        (conf.exports, "a.xlsx", old),
        (conf.exports, "b.xlsx", young),
        (conf.uploads, "sha-old", old),
        (conf.uploads, "sha-new", young),
        (conf.uploads, "x.part", old),
        (conf.snapshots / "1" / "hourly", "y.part", old),
        (conf.snapshots / "1" / "hourly", "2026-10-01.v1.arrow", old),
    ):
        folder.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text("x")
        os.utime(folder / name, (at, at))
    assert upkeep.tidy(conf) == 5
    assert sorted(path.name for path in tmp_path.rglob("*") if path.is_file()) == [
        "2026-10-01.v1.arrow",
        "b.xlsx",
        "now.tsv",
        "sha-new",
    ]
