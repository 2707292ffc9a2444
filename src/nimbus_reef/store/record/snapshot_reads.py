"""A moment: what one page reads, it reads over one connection and of one generation of each account."""

from __future__ import annotations

from contextvars import ContextVar, Token
from dataclasses import dataclass, field
from datetime import date

from sqlalchemy import Connection, Engine

from nimbus_reef.core.windows import Window

Generation = tuple[tuple[str, int], ...]
"""Kinds and the sums of their day versions: changes whenever anything is loaded or undone."""


@dataclass(frozen=True, slots=True)
class LoadedVersion:
    """
    What an account held when it was looked at. newest: the last day that tells what targets did;
    newest_span: the day or block that it belongs to; newest_sum: the newest figures of a target report, where they are
    a block and other reports tell newer days; blocks: sums of several days, oldest first.
    """

    generation: Generation
    newest: date | None
    newest_span: Window | None = None
    newest_sum: Window | None = None
    blocks: tuple[Window, ...] = ()


@dataclass(slots=True)
class Moment:
    """
    The connections that are open for it, and what it has seen of each account. until_written: a write ends what was
    seen; what is read after it, is read anew.
    """

    until_written: bool = False
    seen: dict[int, LoadedVersion] = field(default_factory=dict)
    _open: dict[Engine, Connection] = field(default_factory=dict)

    def connection(self, engine: Engine) -> Connection:
        """The one connection to a database; taken from the pool when it is first asked for."""
        if engine not in self._open:
            self._open[engine] = engine.connect()
        return self._open[engine]

    def let_go(self) -> None:
        """Gives the connections back; the next question takes another."""
        while self._open:
            self._open.popitem()[1].close()


_NOW: ContextVar[Moment | None] = ContextVar("the moment that is read in", default=None)


def current() -> Moment | None:
    """The moment that is going on, if any."""
    return _NOW.get()


def begin(*, until_written: bool = False) -> Token[Moment | None]:
    """From here on everything is read in one moment."""
    return _NOW.set(Moment(until_written))


def written() -> None:
    """Something is about to be written: a moment that lasts until then sees what is there after it."""
    moment = _NOW.get()
    if moment is not None and moment.until_written:
        moment.let_go()
        moment.seen.clear()


def end(begun: Token[Moment | None]) -> None:
    """Ends what `begin` began."""
    if moment := _NOW.get():
        moment.let_go()
    _NOW.reset(begun)
