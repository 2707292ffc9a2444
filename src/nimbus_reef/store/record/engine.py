"""The connection to MariaDB: how it is made, and how its absence is told."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Final, TypeVar
from urllib.parse import quote

from sqlalchemy import Connection, CursorResult, Engine, Executable, create_engine, event
from sqlalchemy.engine import make_url
from sqlalchemy.engine.interfaces import ExceptionContext
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError, TimeoutError  # noqa: A004  the pool's own

from nimbus_reef.errors import BadInput, StoreAway
from nimbus_reef.store.record import snapshot_reads
from nimbus_reef.store.record.dictionary import Dictionary
from nimbus_reef.store.record.nodes import NOT_READY, Nodes, several

T = TypeVar("T")

_RETRY_CODES: Final = frozenset({1205, 1213})
"""Lock wait timeout; deadlock, which is also what a cluster calls two writes that met."""
_AWAY_CODES: Final = frozenset({1040, NOT_READY, 1053, 1927, 2002, 2003, 2005, 2006, 2013, 2026, 2055})
_LATE: Final = 1205
"""Lock wait timeout. For a plain read it means that a cluster node is too far behind."""
_AWAY_READING: Final = _AWAY_CODES | {_LATE}
_AT_COMMIT, _OUT_OF_CLUSTER = 1180, "Primary Component"
"""
An error at a commit, whatever it is of; and the words by which a cluster says that a node is no
longer one of its own.
"""
_TRIES: Final = 6
_CONNECTIONS_KEPT, _CONNECTIONS_MOST = 8, 100
"""Of one process: each of its threads may read in a moment of its own and write beside it."""


class _LostOnTheWay(StoreAway):
    """The database went away before anything was asked to be kept: nothing can have been."""


@dataclass(frozen=True, slots=True)
class Store:
    """
    The database and the folders beside it. nodes: where it runs; snapshots: day files; scratch: passing files;
    dictionary: what is known of names.
    """

    engine: Engine
    nodes: Nodes
    snapshots: Path
    scratch: Path
    dictionary: Dictionary

    @contextmanager
    def read(self) -> Iterator[Connection]:
        """A connection for reading, the moment's own in one; StoreAway when the database does not answer."""
        moment = snapshot_reads.current()
        if moment is None:
            with _telling_absence(_AWAY_READING), self.engine.connect() as connection:
                yield connection
            return
        try:
            with _telling_absence(_AWAY_READING):
                yield moment.connection(self.engine)
        except StoreAway:
            moment.let_go()
            raise

    def transact(self, work: Callable[[Connection], T]) -> T:
        """
        Runs `work` in one transaction, of which all is kept or nothing; again from the start after a deadlock, or where
        the database went away before the end and is back, or another of its nodes answers.
        """
        snapshot_reads.written()
        for attempt in range(_TRIES):
            try:
                return self._once(work)
            except DBAPIError as problem:
                if _code(problem.orig) not in _RETRY_CODES or attempt == _TRIES - 1:
                    raise
            except _LostOnTheWay:
                if attempt == _TRIES - 1:
                    raise
            time.sleep(0.05 * 2**attempt)
        raise AssertionError("unreachable")

    def _once(self, work: Callable[[Connection], T]) -> T:
        with (
            _telling_absence(),
            _telling_what_does_not_fit(),
            self.engine.connect() as connection,
            connection.begin() as transaction,
        ):
            with _telling_absence(told=_LostOnTheWay):
                done = work(connection)
            transaction.commit()
            return done

    def execute(self, statement: Executable) -> CursorResult[Any]:
        """One statement in a transaction of its own."""
        return self.transact(lambda connection: connection.execute(statement))

    @property
    def url(self) -> str:
        """The address in the form that connectorx reads: that of the node which answered last."""
        url = self.engine.url
        password = quote(url.password or "", safe="")
        host, port = self.nodes.preferred
        return f"mysql://{url.username}:{password}@{host}:{port}/{url.database}"


def _code(problem: BaseException | None) -> int:
    """
    The database's number of what it answered; of a node that fell out of its cluster at a commit, that of one which is
    not ready.
    """
    number, *words = getattr(problem, "args", ()) or (0,)
    if number == _AT_COMMIT and _OUT_OF_CLUSTER in str(words):
        return NOT_READY
    return number if isinstance(number, int) else 0


@contextmanager
def _telling_absence(codes: frozenset[int] = _AWAY_CODES, told: type[StoreAway] = StoreAway) -> Iterator[None]:
    try:
        yield
    except (OperationalError, InterfaceError, TimeoutError) as problem:
        if isinstance(problem, DBAPIError) and _code(problem.orig) not in codes:
            raise
        raise told("The database does not answer.", remedy="Retrying. Nothing saved is lost.") from problem


_DOES_NOT_FIT: Final = {
    1406: "is too long to store",
    1264: "is a number that is too large or too small",
    1366: "contains characters that cannot be stored",
}
_COLUMN: Final = re.compile(r"column '([^']+)'")


@contextmanager
def _telling_what_does_not_fit() -> Iterator[None]:
    """
    The columns say how long a text and how large a number can be: what the database refuses for it is somebody's input,
    not a fault.
    """
    try:
        yield
    except DBAPIError as problem:
        reason = _DOES_NOT_FIT.get(_code(problem.orig))
        if reason is None:
            raise
        named = _COLUMN.search(str(problem.orig))
        what = named[1].replace("_", " ") if named else "value"
        raise BadInput(
            f"The {what} {reason}.", remedy="Nothing was changed. Enter a shorter or smaller value."
        ) from problem


def connect(url: str, snapshots: Path, scratch: Path) -> Store:
    """A store on the MariaDB at `url`, or on the nodes named in it; nothing is opened before it is used."""
    first, nodes = several(url)
    engine = create_engine(
        make_url(first).set(drivername="mysql+mysqldb"),
        isolation_level="READ COMMITTED",
        pool_pre_ping=True,
        pool_recycle=1800,
        pool_timeout=3,
        pool_size=_CONNECTIONS_KEPT,
        max_overflow=_CONNECTIONS_MOST - _CONNECTIONS_KEPT,
        connect_args={"local_infile": 1, "connect_timeout": 3, "charset": "utf8mb4"},
    )
    event.listen(engine, "do_connect", nodes.connect)
    event.listen(engine, "handle_error", _let_go_of_unready)
    for folder in (snapshots, scratch):
        folder.mkdir(parents=True, exist_ok=True)
    return Store(engine, nodes, snapshots, scratch, Dictionary(snapshots / "names"))


def _let_go_of_unready(context: ExceptionContext) -> None:
    """A node that fell out of its cluster still answers, but with this alone: another one is asked."""
    if _code(context.original_exception) == NOT_READY:
        context.is_disconnect = True
