"""A view of an area, as its register lists it: what a new page is added by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer
from nimbus_reef.web.kit.lists import ListSpec, file_of


@dataclass(frozen=True, slots=True)
class AreaView:
    """
    A view. page: makes it, a frozen value whose fields its template takes; needs: reports of which any one has to be
    held; rows: the list on it, where it is one; file: what leaves where it is none; drawer: what opens beside a row;
    thing, things: what its rows are where they can be accepted; unselected: which rows are meant where none is
    selected; template: where it is that of another view.
    """

    title: str
    page: Callable[[Context], Any]
    needs: tuple[str, ...] = ()
    rows: ListSpec | None = None
    file: Callable[[Context], Table | None] | None = None
    drawer: Callable[[Context, str], Drawer] | None = None
    thing: str = ""
    things: str = ""
    unselected: Callable[[Context], list[str]] | None = None
    template: str = ""

    @property
    def leaves(self) -> bool:
        """Whether it can be had as a file."""
        return self.file is not None or (self.rows is not None and self.rows.file is not None)

    def table(self, ask: Context) -> Table | None:
        """What is on it as a file, as the address narrows and sorts it; None where there is nothing."""
        return self.file(ask) if self.file else file_of(ask, self.rows) if self.rows else None
