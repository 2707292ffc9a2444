"""A cluster of three MariaDB nodes on loopback, whose nodes may be killed."""

from __future__ import annotations

import os
import pwd
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path
from typing import Final

import MySQLdb
from sqlalchemy import select
from sqlalchemy.exc import DBAPIError
from tests.conftest import port_from

from nimbus_reef.errors import StoreAway
from nimbus_reef.store.people import trail
from nimbus_reef.store.record import server
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import trail as lines
from nimbus_reef.store.record.server import DATABASE, Server

NODES: Final = 3
_PROVIDERS: Final = ("/usr/lib/galera/libgalera_smm.so", "/usr/lib/libgalera_smm.so")
_PATIENCE: Final = 120.0
OUT_AFTER: Final = 2
"""
Seconds in which a node has to say something before it is out, as docs/scaling.md has them: so long do writes wait for
it.
"""


def runs_as() -> str | None:
    """Who the nodes run as: their copying of state refuses root, so it is the server's own user then."""
    return "mysql" if os.geteuid() == 0 else None


@dataclass
class Cluster:
    """Its nodes by number from 0, those that run with their process. out_after: see OUT_AFTER."""

    folder: Path
    place: Server
    ports: tuple[tuple[int, int, int, int], ...]
    out_after: int
    running: dict[int, subprocess.Popen[bytes]] = field(default_factory=dict)

    def port(self, number: int) -> int:
        """Where clients reach a node."""
        return self.ports[number][0]

    def url(self, first: int = 0, *, owner: bool = False) -> str:
        """The address that names all nodes, one of them before the others."""
        order = [*range(first, NODES), *range(first)]
        user, password = ("reef_owner", self.place.owner_password) if owner else ("reef_app", self.place.app_password)
        hosts = ",".join(f"127.0.0.1:{self.port(number)}" for number in order)
        return f"mysql://{user}:{password}@{hosts}/{DATABASE}"

    def start(self, number: int, *, found: bool = False) -> None:
        """
        Starts a node and waits until it is in step with the others; again where it ends by itself, as one does whose
        donor goes while it copies, and as its service has it. found: it is the first of a new cluster.
        """
        home = self.folder / f"node-{number}"
        end = time.monotonic() + _PATIENCE
        while not self._started(number, home, end, found=found):
            assert time.monotonic() < end, (home / "mariadb.log").read_text()[-4000:]
            time.sleep(1)

    def _started(self, number: int, home: Path, end: float, *, found: bool) -> bool:
        """True once the node is in sync; False when it exited or `end` passed."""
        with (home / "mariadb.log").open("ab") as log:
            self.running[number] = subprocess.Popen(
                self._command(number, home, found=found),
                stdout=log,
                stderr=log,
                user=runs_as(),
                group=runs_as(),
                extra_groups=[] if runs_as() else None,
                start_new_session=True,
            )
        while not (ready := self.in_step(number)) and self.running[number].poll() is None:
            if time.monotonic() > end:
                break
            time.sleep(0.1)
        return ready

    def kill(self, number: int) -> None:
        """kill -9, as a power cut would."""
        part = self.running.pop(number)
        part.kill()
        part.wait()

    @contextmanager
    def without(self, number: int) -> Iterator[None]:
        """A node is killed, and runs again afterwards, whatever happened meanwhile: the next test finds all three."""
        self.kill(number)
        try:
            yield
        finally:
            self.start(number)

    def in_step(self, number: int) -> bool:
        """Whether a node takes questions and has all that the others have."""
        try:
            with _asked(self.port(number), self.place) as cursor:
                cursor.execute("SHOW GLOBAL STATUS WHERE Variable_name IN ('wsrep_ready', 'wsrep_local_state_comment')")
                return dict(cursor.fetchall()) == {"wsrep_ready": "ON", "wsrep_local_state_comment": "Synced"}
        except MySQLdb.Error:
            return False

    def number_of(self, node: tuple[str, int]) -> int:
        """Which node is reached there."""
        return next(number for number in range(NODES) if self.port(number) == node[1])

    def stop(self) -> None:
        """Ends all nodes."""
        for process in self.running.values():
            server.stop(process)

    def _command(self, number: int, home: Path, *, found: bool) -> list[str]:
        port, group, copying, catching_up = self.ports[number]
        others = ",".join(f"127.0.0.1:{each[1]}" for each in self.ports)
        provider = next(path for path in _PROVIDERS if Path(path).exists())
        times = (
            "evs.keepalive_period=PT0.3S;evs.inactive_check_period=PT0.3S;"
            f"evs.suspect_timeout=PT{self.out_after // 2}S;evs.inactive_timeout=PT{self.out_after}S;"
            f"evs.install_timeout=PT{self.out_after}S;gcache.size=128M"
        )
        return [
            server.program("mariadbd"),
            "--no-defaults",
            f"--datadir={home / 'data'}",
            f"--socket={home / 's.sock'}",
            f"--pid-file={home / 'pid'}",
            "--bind-address=127.0.0.1",
            f"--port={port}",
            "--skip-name-resolve",
            "--local-infile=1",
            f"--tmpdir={home / 'tmp'}",
            f"--init-file={self.folder / 'setup.sql'}",
            "--character-set-server=utf8mb4",
            "--collation-server=utf8mb4_bin",
            "--innodb-buffer-pool-size=64M",
            "--max-connections=200",
            "--max-allowed-packet=64M",
            "--binlog-format=ROW",
            "--innodb-autoinc-lock-mode=2",
            # The tests kill processes, not the machine, so the nodes need not flush to disk at every commit.
            "--innodb-flush-log-at-trx-commit=2",
            "--wsrep-sync-wait=1",
            "--wsrep-on=ON",
            f"--wsrep-provider={provider}",
            f"--wsrep-cluster-address=gcomm://{others}",
            "--wsrep-cluster-name=reef-test",
            "--wsrep-node-address=127.0.0.1",
            f"--wsrep-sst-receive-address=127.0.0.1:{copying}",
            "--wsrep-sst-method=rsync",
            f"--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:{group};ist.recv_addr=127.0.0.1:{catching_up};{times}",
            *(["--wsrep-new-cluster"] if found else []),
        ]


@contextmanager
def _asked(port: int, place: Server) -> Iterator[MySQLdb.cursors.Cursor]:
    connection = MySQLdb.connect(
        host="127.0.0.1", port=port, user="reef_app", passwd=place.app_password, connect_timeout=2
    )
    try:
        yield connection.cursor()
    finally:
        connection.close()


@contextmanager
def cluster(out_after: int = OUT_AFTER) -> Iterator[Cluster]:
    """A running cluster with the application's users and no tables, gone afterwards."""
    # Not among pytest's own folders: those are closed to the user that the nodes run as.
    folder = Path(tempfile.mkdtemp(prefix="reef-nodes-"))
    first = port_from(5200)
    group, copying, catching_up = (port_from(first + NODES + 100 * k) for k in range(1, 4))
    made = Cluster(
        folder,
        Server(folder, 0, "app-of-the-nodes", "owner-of-the-nodes"),
        tuple((first + n, group + n, copying + n, catching_up + n) for n in range(NODES)),
        out_after,
    )
    (folder / "setup.sql").write_text(server.setup_sql(made.place))
    for number in range(NODES):
        (folder / f"node-{number}" / "tmp").mkdir(parents=True)
        (folder / f"node-{number}" / "data").mkdir()
    if runs_as():
        user = pwd.getpwnam("mysql")
        for path in (folder, *folder.rglob("*")):
            os.chown(path, user.pw_uid, user.pw_gid)
    try:
        server.initialise(folder / "node-0" / "data", user=runs_as())
        made.start(0, found=True)
        for number in range(1, NODES):
            made.start(number)
        yield made
    finally:
        made.stop()
        shutil.rmtree(folder, ignore_errors=True)


@dataclass
class Written:
    """
    Small writes, one after the other, by their numbers. tried: the last of these; kept: those said to be kept, with the
    moment at which that was said.
    """

    tried: int = 0
    kept: dict[int, float] = field(default_factory=dict)

    def noted(self, store: Store) -> list[int]:
        """The numbers that the database has."""
        with store.read() as connection:
            rows = connection.execute(select(lines.c.detail).where(lines.c.what == "counted")).scalars()
            return [row["number"] for row in rows]

    @property
    def longest_pause(self) -> float:
        """Seconds in which nothing was kept."""
        return max(after - before for before, after in pairwise(self.kept.values()))


@contextmanager
def steady_writes(store: Store, after: int = 0) -> Iterator[Written]:
    """Writes as quickly as it goes for as long as it is looked at. after: the last number that was given."""
    told, done = Written(after), threading.Event()

    def write() -> None:
        while not done.is_set():
            told.tried += 1
            with suppress(StoreAway, DBAPIError):
                trail.note(store, "counted", person_id=None, account_id=None, detail={"number": told.tried})
                told.kept[told.tried] = time.monotonic()

    writing = threading.Thread(target=write, daemon=True)
    writing.start()
    try:
        yield told
    finally:
        done.set()
        writing.join()
