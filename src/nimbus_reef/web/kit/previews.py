"""What many deeds would do, before they are done: the same picture wherever many are chosen."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class DeedLine:
    """One row that something is done on."""

    name: str
    where: str
    deed: str
    spend: str
    sales: str
    harm: str
    asks: bool = False
    key: str = ""
    mark: str = "none"


@dataclass(frozen=True, slots=True)
class DeedsPreview:
    """
    All of it in words. title: on what; thing: what a row is; done: how many changes by kind; effect: of all of it; harm: what is lost
    with it; skipped: why, and on how many; asks: what is beyond the settings, empty where nothing is; raises: raises of what never made
    an order, left out; stops: other searches that negatives stop; count: how many are done.
    """

    title: str
    thing: str
    done: str
    effect: str
    harm: str
    lines: tuple[DeedLine, ...]
    count: int
    skipped: tuple[str, ...] = ()
    asks: str = ""
    raises: int = 0
    stops: tuple[str, ...] = ()
    stops_more: int = 0
    more: int = 0
