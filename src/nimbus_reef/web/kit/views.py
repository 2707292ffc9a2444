"""A view of an area, as its register lists it: what a new page is added by."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer


@dataclass(frozen=True, slots=True)
class AreaView:
    """
    A view. page: makes it, a frozen value whose fields its template takes; needs: reports of which any one has to be
    held; file: its rows as a table, None where there are none; drawer: what opens beside a row; thing, things: what its
    rows are where they can be accepted.
    """

    title: str
    page: Callable[[Context], Any]
    needs: tuple[str, ...] = ()
    file: Callable[[Context], Table | None] | None = None
    drawer: Callable[[Context, str], Drawer] | None = None
    thing: str = ""
    things: str = ""
