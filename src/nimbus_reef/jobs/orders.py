"""What jobs are asked to do, and what they did, as their records keep it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from typing import Any

from nimbus_reef.core.windows import Window
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.store.loading.ingest import Loaded
from nimbus_reef.store.loading.undo import Undone
from nimbus_reef.store.record import json_columns
from nimbus_reef.store.record.loads import Job


@dataclass(frozen=True, slots=True)
class LoadOrder:
    """How a file is to be loaded. scope: the label that was said, usual: its source's; confirmed: answered with yes."""

    maps: tuple[ColumnMap, ...]
    scope: str = ""
    usual: str = ""
    confirmed: bool = False


@dataclass(frozen=True, slots=True)
class LoadDone:
    """What a load did to one kind of one account. sums: measures, money in micro-units; removed: rows replaced or gone."""

    account: int
    batch: int
    kind: str
    rows: int
    days: int
    rejected: int
    removed: int
    first_day: date | None = None
    last_day: date | None = None
    sums: Mapping[str, int] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()
    scope: str = "all"
    blocks: tuple[Window, ...] = ()


@dataclass(frozen=True, slots=True)
class UndoDone:
    """The days or sums of a kind that are as before, and those that a newer batch stands on."""

    kind: str
    restored: tuple[Window, ...] = ()
    left: tuple[Window, ...] = ()


def load_order(job: Job) -> LoadOrder:
    """What a load is asked to do."""
    return json_columns.read(job.request, LoadOrder)


def loads_done(job: Job) -> list[LoadDone]:
    """What a finished load did, by account and kind."""
    return [json_columns.read(each, LoadDone) for each in job.result["loads"]]


def undos_done(job: Job) -> list[UndoDone]:
    """What a finished undo did, by kind."""
    return [json_columns.read(each, UndoDone) for each in job.result["kinds"]]


def told(loaded: Loaded) -> Any:
    """A load as its job's record keeps it."""
    return json_columns.plain(
        LoadDone(
            loaded.account_id, loaded.batch_id, loaded.kind, loaded.rows, loaded.days, loaded.rejected, loaded.removed,
            loaded.first_day, loaded.last_day, loaded.sums, loaded.warnings, loaded.scope, loaded.blocks,
        )
    )  # fmt: skip


def told_of_undo(undone: Undone) -> Any:
    """An undo of one kind as its job's record keeps it."""
    return json_columns.plain(UndoDone(undone.kind, tuple(undone.restored), tuple(undone.left)))
