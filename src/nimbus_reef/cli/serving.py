"""Starting and running the processes: database, web, worker."""

from __future__ import annotations

import ctypes
import fcntl
import getpass
import os
import secrets
import shlex
import shutil
import socket
import struct
import sys
import threading
import time
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace
from pathlib import Path
from typing import Any, Final

import structlog

from nimbus_reef.cli import demo, wiring
from nimbus_reef.cli.gunicorn import Gunicorn
from nimbus_reef.config import Config
from nimbus_reef.errors import Conflict, NotFound, StoreAway
from nimbus_reef.jobs.ahead import Ahead
from nimbus_reef.jobs.helper_process import HelperProcess
from nimbus_reef.jobs.queue import EXPORTS, LOADS, OUTSIDE, make_queue, sweep_jobs, worker_name
from nimbus_reef.store.people import people
from nimbus_reef.store.record import schema, server, workers
from nimbus_reef.store.record.engine import Store
from nimbus_reef.web.factory import compile_templates, make_app, page_for, quieten_collector

log = structlog.get_logger("worker")

_PATIENCE = 120.0
_THREADS = 48
"""
Many wait for slow senders and hardly any works: what computes takes all cores by itself. A process can be given all
senders, as whichever is free accepts, so that each has threads for them.
"""
_SENDERS_PATIENCE = 20
"""Seconds for which a sender may be silent in the middle of a request."""
_REEF = f"{shlex.quote(sys.executable)} -m nimbus_reef"
_AT_A_TERMINAL = "REEF_AT_A_TERMINAL"
"""Set by `up` for its programs: whether somebody sees what they print."""
_MARKETS_AT_ONCE = 4
"""So many accounts are dealt with at their marketplaces at once: that is waiting more than work."""
_ENDING = 5.0
"""Seconds for which the process before this one may still hold its port."""
_MEMORY = "/dev/shm"  # noqa: S108  gunicorn's heartbeat files, never to touch a slow disk


def up(conf: Config, *, with_demo: bool) -> None:
    """Settles ports and hands over to a supervisor, which starts again what stops; does not return."""
    for folder in (conf.var, conf.local):
        folder.mkdir(parents=True, exist_ok=True)
    locks = [_locked(folder) for folder in sorted({conf.local, *([conf.var] if conf.private_database else [])})]
    programs = {
        "worker": f"{_REEF} worker --wait",
        "market": f"{_REEF} market --wait",
        "web": _web_command(with_demo=with_demo),
    }
    environment = dict(os.environ)
    if conf.private_database:
        programs = {"database": f"{_REEF} database", **programs}
        place = server.prepare(wiring.database_folder(conf), wiring.free_port("127.0.0.1", conf.database_port))
        wiring.note_port(place)
        environment["REEF_DATABASE_PORT"] = str(place.port)
    environment["REEF_MARKET_PORT"] = str(wiring.free_port("127.0.0.1", conf.market_port))
    environment["REEF_PORT"] = str(wiring.free_port(conf.host, conf.port))
    environment["REEF_VAR"] = str(conf.var)
    environment[_AT_A_TERMINAL] = "yes" if sys.stdout.isatty() else ""
    for lock in locks:
        _note_holder(lock, f"http://{_HERE.get(conf.host, conf.host)}:{environment['REEF_PORT']}")
    path = conf.local / "supervisor.ini"
    server.write_whole(path, supervised(programs, conf.local))
    os.execve(sys.executable, [sys.executable, "-m", "supervisor.supervisord", "-c", str(path)], environment)


def _locked(folder: Path) -> int:
    """
    The open lock file of a folder, held until this process and what it becomes end; Conflict names the process that
    holds it.

    The kernel frees it with that process, so what a killed one left behind stops nobody.
    """
    lock = os.open(folder / "up.lock", os.O_RDWR | os.O_CREAT, 0o600)
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        holder, _, address = os.pread(lock, 200, 0).decode().partition(" ")
        os.close(lock)
        raise Conflict(
            f"Nimbus Reef already runs in {folder}: process {holder}{f', {address}' if address else ''}.",
            remedy="Use that one, stop it first (Ctrl-C where it was started), or choose another folder with REEF_VAR.",
        ) from None
    _note_holder(lock, "")
    os.set_inheritable(lock, True)
    return lock


def _note_holder(lock: int, address: str) -> None:
    os.ftruncate(lock, 0)
    os.pwrite(lock, f"{os.getpid()} {address}".strip().encode(), 0)


def _web_command(*, with_demo: bool) -> str:
    prepared = f"{_REEF} prepare{' --demo' if with_demo else ''}"
    return f"/bin/sh -c {shlex.quote(f'{prepared} && exec {_REEF} serve')}"


def supervised(programs: Mapping[str, str], folder: Path) -> str:
    """
    What the supervisor is told: each program in the foreground, its lines on our own output, started again after a
    pause that grows with every try; the first one stops last.
    """
    lines = [
        "[supervisord]",
        "nodaemon=true",
        "loglevel=warn",
        "logfile=/dev/null",
        "logfile_maxbytes=0",
        f"pidfile={folder / 'supervisor.pid'}",
    ]
    # It warns where root runs it without having said so.
    lines += [f"user={getpass.getuser()}"] if os.geteuid() == 0 else []
    # A supervisor that is killed takes its programs with it: else they would run on with nobody to start them again.
    tied = "setpriv --pdeathsig TERM " if shutil.which("setpriv") else ""
    for place, (name, command) in enumerate(programs.items()):
        lines += [
            f"[program:{name}]",
            f"command={tied}{command}".replace("%", "%%"),
            f"priority={place}",
            "autorestart=true",
            "startsecs=3",
            "startretries=1000000",
            "stopwaitsecs=20",
            "stopasgroup=false",
            "killasgroup=true",
            "redirect_stderr=true",
            "stdout_logfile=/dev/fd/1",
            "stdout_logfile_maxbytes=0",
        ]
    return "\n".join(lines) + "\n"


def run_database(conf: Config) -> None:
    """Becomes the private MariaDB; does not return."""
    # Anew at each start: between `up`'s choice and this one somebody else may have taken the port.
    port = wiring.free_port("127.0.0.1", conf.database_port, patience=_ENDING)
    place = server.prepare(wiring.database_folder(conf), port)
    wiring.note_port(place)
    command = [*server.command(place), f"--log-error={server.log_of(place)}"]
    os.execve(command[0], command, os.environ | server.PRIVATE)


def wait_for_database(conf: Config) -> None:
    """Returns once the database answers."""
    _wait(lambda: _answers(conf))


def wait_for_tables(conf: Config) -> None:
    """Returns once the database answers and its tables are current."""
    wait_for_database(conf)
    _wait(lambda: _current(conf))


def _wait(ready: Any) -> None:
    end = time.monotonic() + _PATIENCE
    while not ready():
        if time.monotonic() > end:
            raise StoreAway("The database did not become ready.", remedy="See its log.")
        time.sleep(0.2)


def _answers(conf: Config) -> bool:
    # Of the private database this asks on the port that it has by now.
    store = wiring.open_store(conf)
    try:
        with store.read():
            return True
    except StoreAway:
        return False
    finally:
        store.engine.dispose()


def _current(conf: Config) -> bool:
    store = wiring.open_store(conf)
    try:
        return schema.is_current(store.engine)
    finally:
        store.engine.dispose()


def _application(conf: Config) -> Any:
    store = wiring.open_store(conf)
    flask = make_app(conf, store, make_queue(conf, store), secret_key=wiring.secret_key(conf))
    quieten_collector()
    # Beside the first pages: whoever comes first is not to wait for all of them.
    threading.Thread(target=compile_templates, args=(flask,), daemon=True).start()
    return flask


def serve(conf: Config) -> None:
    """Runs gunicorn in the foreground.

    This process forks its workers, and a Polars that has computed anything before a fork
    hangs after it: so `reef prepare`, which loads data, is a process of its own.
    """
    wiring.secret_key(conf)
    if _AT_A_TERMINAL in os.environ:
        conf = replace(conf, port=wiring.free_port(conf.host, conf.port, patience=_ENDING))
    if conf.metrics_token:
        # The processes count together, in files that those of the last start must not be among.
        counted = conf.local / "metrics"
        shutil.rmtree(counted, ignore_errors=True)
        counted.mkdir(parents=True)
        os.environ["PROMETHEUS_MULTIPROC_DIR"] = str(counted)
    _share_arenas()
    options = {
        "bind": f"{conf.host}:{conf.port}",
        "workers": conf.web_workers,
        "worker_class": "gthread",
        "threads": _THREADS,
        "timeout": 120,
        "forwarded_allow_ips": ",".join(conf.proxies),
        "graceful_timeout": 3,
        # A browser that comes back within this finds its connection open; one that is idle costs no thread.
        "keepalive": 75,
        "control_socket_disable": True,
        "when_ready": lambda arbiter: _ready(arbiter, conf),
        "accesslog": None,
        "loglevel": "warning",
        "worker_tmp_dir": _MEMORY if Path(_MEMORY).is_dir() else None,
    }
    Gunicorn(lambda: _application(conf), options).run()


def debug(conf: Config) -> None:
    """One process with Flask's debugger, begun anew when a file changes; for this machine alone."""
    store = wiring.open_store(conf)
    flask = make_app(conf, store, make_queue(conf, store), secret_key=wiring.secret_key(conf))
    flask.run("127.0.0.1", wiring.free_port("127.0.0.1", conf.port), debug=True)


_ARENA_MAX, _ARENAS = -8, 2
"""
`mallopt`'s name for it; by itself the C library gives each thread a heap of its own, and what one gave back the others
cannot have.
"""


def _share_arenas() -> None:
    """
    The threads of a web process share their memory: a seventh less of it, at no cost in time that
    could be measured.
    """
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).mallopt(_ARENA_MAX, _ARENAS)


def _ready(arbiter: Any, conf: Config) -> None:
    _be_impatient(arbiter)
    _greet(conf)


def _be_impatient(arbiter: Any) -> None:
    """Connections have the listener's options: whoever falls silent while sending gives the thread free."""
    for listener in arbiter.LISTENERS:
        listener.sock.setsockopt(socket.SOL_SOCKET, socket.SO_RCVTIMEO, struct.pack("ll", _SENDERS_PATIENCE, 0))


_HERE: Final = {"0.0.0.0": "127.0.0.1", "::": "[::1]"}  # noqa: S104  what is told, not where it listens


def _greet(conf: Config) -> None:
    # What listens everywhere is asked here: nobody can open the address that means that.
    here = f"http://{_HERE.get(conf.host, conf.host)}:{conf.port}"
    lines = [f"Nimbus Reef is ready: {here}"]
    store = wiring.open_store(conf)
    token = people.set_up_link(store)
    store.engine.dispose()
    if token is not None:
        lines.append(f"Nobody can sign in yet. Set it up at {here}/set-up/{token}")
        lines.append("The link works once; the next start prints another.")
    if demo.password_file(conf).exists():
        # A log outlives whoever reads it: there stands only where the password is.
        shown = sys.stdout.isatty() or os.environ.get(_AT_A_TERMINAL)
        known = demo.password(conf) if shown else f"the password in {demo.password_file(conf)}"
        lines.append(f"Sign in as {demo.DEMO_EMAIL} with {known}")
    names = ", ".join(["localhost", conf.host, *sorted(conf.hosts - {"localhost", conf.host})])
    lines.append(f"Names it answers to: {names}. REEF_HOSTS adds others.")
    lines.append("Ctrl-C stops it.")
    print("\n" + "\n".join(f"  {line}" for line in lines) + "\n", flush=True)


def pages(conf: Config, store: Store, addresses: Sequence[str]) -> list[str]:
    """Pages as an owner sees them, without a browser."""
    app = make_app(conf, store, make_queue(conf, store), secret_key=secrets.token_hex())
    owner = next((each.person for each in people.everybody(store) if each.active and each.person.manages), None)
    if owner is None:
        raise NotFound("Nobody can sign in yet.", remedy="Set the installation up first, or `reef user add`.")
    return [page_for(app, owner, address) for address in addresses]


def work(conf: Config) -> None:
    """Runs the worker in the foreground until stopped."""
    store = wiring.open_store(conf)
    queue = make_queue(conf, store)
    sweep_jobs(store, queue)
    done = threading.Event()
    threading.Thread(target=_beat, args=(store, done), daemon=True).start()
    ahead = Ahead(store, conf.judged, conf.judged_bytes, lambda: queue.busy or helper.busy)
    helper = HelperProcess(ahead.facts, conf.judged)
    for each in (ahead, helper):
        threading.Thread(target=each.keep_on, args=(done,), daemon=True).start()
    beside = [
        queue.lanes[lane].create_consumer(workers=count, periodic=False)
        for lane, count in ((EXPORTS, 1), (OUTSIDE, _MARKETS_AT_ONCE))
    ]
    for each in beside:
        each.start()
    try:
        queue.lanes[LOADS].create_consumer(workers=conf.job_workers, periodic=True).run()
    finally:
        for each in beside:
            each.stop(graceful=False)
        done.set()
        with suppress(StoreAway):
            workers.leave(store, worker_name())


def _beat(store: Store, done: threading.Event) -> None:
    """Says every few seconds that this worker is there."""
    while True:
        try:
            workers.beat(store, worker_name())
        except StoreAway:
            log.warning("the database is away; nobody hears that this worker is there")
        if done.wait(workers.BEATS_EVERY):
            return
