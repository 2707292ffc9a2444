"""Puts the parts together for one command: settings, database, store."""

from __future__ import annotations

import logging
import shutil
import socket
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import structlog

from nimbus_reef.config import Config
from nimbus_reef.errors import NotFound, StoreAway
from nimbus_reef.jobs import upkeep
from nimbus_reef.store.people import accounts
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import backup, engine, schema, server
from nimbus_reef.store.record.engine import Store


def set_up_logging(level: str) -> None:
    """Structured lines on stderr."""
    numeric = logging.getLevelNamesMapping().get(level, logging.INFO)
    logging.basicConfig(level=numeric, format="%(message)s")
    for chatty in ("alembic", "httpx", "huey"):
        logging.getLogger(chatty).setLevel(max(numeric, logging.WARNING))
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.format_exc_info,
            structlog.processors.LogfmtRenderer(key_order=["timestamp", "level", "event"]),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(numeric),
        logger_factory=structlog.PrintLoggerFactory(file=sys.stderr),
    )


def database_folder(config: Config) -> Path:
    """Where the private MariaDB lives."""
    return config.var / "mariadb"


def private_server(config: Config) -> server.Server:
    """The private server on the port it runs on, or is to run on."""
    folder = database_folder(config)
    noted = folder / "port"
    port = int(noted.read_text()) if noted.exists() else config.database_port
    return server.prepare(folder, port)


def free_port(host: str, wanted: int, patience: float = 0.0) -> int:
    """The wanted port, or the next that nobody listens on. patience: seconds to wait for the wanted one."""
    end = time.monotonic() + patience
    while not _is_free(host, wanted) and time.monotonic() < end:
        time.sleep(0.1)
    for port in range(wanted, min(wanted + 200, 65_536)):
        if _is_free(host, port):
            return port
    raise StoreAway(f"No port from {wanted} on is free.", remedy="Set REEF_PORT to another range.")


def _is_free(host: str, port: int) -> bool:
    with socket.socket(socket.AF_INET6 if ":" in host else socket.AF_INET) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError:
            return False
        return True


def url(config: Config) -> str:
    """The database's address with the application's rights."""
    return config.database_url or private_server(config).app_url


def open_store(config: Config) -> Store:
    """The store; its database must run already."""
    return engine.connect(url(config), config.snapshots, config.scratch)


def migrate(config: Config) -> str:
    """Brings the tables up to date with the rights that takes, and returns the revision."""
    address = config.database_url or private_server(config).owner_url
    owner = engine.connect(address, config.snapshots, config.scratch)
    try:
        return schema.migrate(owner.engine)
    finally:
        owner.engine.dispose()


def restore(config: Config, source: Path) -> None:
    """Puts back what a backup holds; day files are made anew when they are asked for."""
    owner = engine.connect(config.database_url or private_server(config).owner_url, config.snapshots, config.scratch)
    try:
        backup.restore(owner.engine, source, upkeep.kept_files(config), config.scratch)
    finally:
        owner.engine.dispose()
    for made_from_it in (config.snapshots, config.judged):
        shutil.rmtree(made_from_it, ignore_errors=True)


@contextmanager
def running_store(config: Config) -> Iterator[Store]:
    """The store for one command; a private database that is not running runs for as long."""
    if not config.private_database:
        yield open_store(config)
        return
    place = private_server(config)
    try:
        server.wait(place, seconds=0.3)
        process = None
    except StoreAway:
        place = server.prepare(place.folder, free_port("127.0.0.1", config.database_port))
        note_port(place)
        process = server.start(place)
    try:
        if process is not None:
            migrate(config)
        yield open_store(config)
    finally:
        if process is not None:
            server.stop(process)


def note_port(place: server.Server) -> None:
    """Leaves word of the port for other commands."""
    server.write_whole(place.folder / "port", str(place.port))


def secret_key(config: Config) -> str:
    """What signs sessions: from the settings, or made once and kept."""
    return config.secret_key or server.kept_secret(config.var / "secret-key")


def account(store: Store, key: str) -> Account:
    """The account of a key; NotFound lists the ones there are."""
    found = accounts.by_key(store, key)
    if found is None:
        known = ", ".join(each.key for each in accounts.all_accounts(store)) or "none yet"
        raise NotFound(f"There is no account “{key}”.", remedy=f"Accounts: {known}.")
    return found
