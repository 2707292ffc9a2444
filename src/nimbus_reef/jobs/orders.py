"""What jobs are asked to do, and what they did, as their records keep it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

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


_CALLED_BEFORE: Final = {"account": "account_id", "batch": "batch_id"}
"""What jobs of an earlier version call a load's parts."""


def load_order(job: Job) -> LoadOrder:
    """What a load is asked to do."""
    return json_columns.read(job.request, LoadOrder)


def loads_done(job: Job) -> list[Loaded]:
    """What a finished load did, by account and kind."""
    kept = [{_CALLED_BEFORE.get(name, name): part for name, part in each.items()} for each in job.result["loads"]]
    return [json_columns.read(each, Loaded) for each in kept]


def undos_done(job: Job) -> list[Undone]:
    """What a finished undo did, by kind."""
    return [json_columns.read(each, Undone) for each in job.result["kinds"]]
