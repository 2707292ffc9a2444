"""The connection to MariaDB: how it is made, and how its absence is told."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Final, TypeVar
from urllib.parse import quote

from sqlalchemy import Connection, Engine, create_engine
from sqlalchemy.engine import make_url
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError, TimeoutError  # noqa: A004  the pool's own

from nimbus_reef.errors import StoreAway
from nimbus_reef.store.record import moments

T = TypeVar("T")

_RETRY_CODES: Final = frozenset({1205, 1213, 1047})
"""Lock wait timeout, deadlock, a cluster node that is not ready."""
_AWAY_CODES: Final = frozenset({1040, 1053, 1927, 2002, 2003, 2005, 2006, 2013, 2026, 2055})
_TRIES: Final = 4
_CONNECTIONS_KEPT, _CONNECTIONS_MOST = 8, 60
"""Of one process: each of its threads may read in a moment of its own and write beside it."""


@dataclass(frozen=True, slots=True)
class Store:
    """The database and the folders beside it. snapshots: day files; scratch: passing files."""

    engine: Engine
    snapshots: Path
    scratch: Path

    @contextmanager
    def read(self) -> Iterator[Connection]:
        """A connection for reading, the moment's own in one; StoreAway when the database does not answer."""
        moment = moments.current()
        if moment is None:
            with _telling_absence(), self.engine.connect() as connection:
                yield connection
            return
        try:
            with _telling_absence():
                yield moment.connection(self.engine)
        except StoreAway:
            moment.let_go()
            raise

    @contextmanager
    def write(self) -> Iterator[Connection]:
        """One transaction: all of it is kept, or none."""
        with _telling_absence(), self.engine.begin() as connection:
            yield connection

    def transact(self, work: Callable[[Connection], T]) -> T:
        """Runs `work` in one transaction, again from the start after a deadlock."""
        for attempt in range(_TRIES):
            try:
                with self.write() as connection:
                    return work(connection)
            except DBAPIError as problem:
                if _code(problem) not in _RETRY_CODES or attempt == _TRIES - 1:
                    raise
                time.sleep(0.05 * 2**attempt)
        raise AssertionError("unreachable")

    @property
    def url(self) -> str:
        """The address in the form that connectorx reads."""
        url = self.engine.url
        password = quote(url.password or "", safe="")
        return f"mysql://{url.username}:{password}@{url.host}:{url.port or 3306}/{url.database}"


def _code(problem: DBAPIError) -> int:
    arguments = getattr(problem.orig, "args", ())
    return arguments[0] if arguments and isinstance(arguments[0], int) else 0


@contextmanager
def _telling_absence() -> Iterator[None]:
    try:
        yield
    except (OperationalError, InterfaceError, TimeoutError) as problem:
        if isinstance(problem, DBAPIError) and _code(problem) not in _AWAY_CODES:
            raise
        raise StoreAway(
            "The database does not answer.",
            remedy="It is being tried again; nothing that was saved is lost.",
        ) from problem


def connect(url: str, snapshots: Path, scratch: Path) -> Store:
    """A store on the MariaDB at `url`; nothing is opened before it is used."""
    parsed = make_url(url).set(drivername="mysql+mysqldb")
    engine = create_engine(
        parsed,
        isolation_level="READ COMMITTED",
        pool_pre_ping=True,
        pool_recycle=1800,
        pool_timeout=3,
        pool_size=_CONNECTIONS_KEPT,
        max_overflow=_CONNECTIONS_MOST - _CONNECTIONS_KEPT,
        connect_args={"local_infile": 1, "connect_timeout": 3, "charset": "utf8mb4"},
    )
    for folder in (snapshots, scratch):
        folder.mkdir(parents=True, exist_ok=True)
    return Store(engine, snapshots, scratch)
