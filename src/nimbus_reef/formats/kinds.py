"""
The report kinds and their columns, read from contract.toml: the open file contract, as data.

docs/data-contract.md is made from the same file; a test holds the two together.
"""

from __future__ import annotations

import tomllib
from dataclasses import replace
from importlib.resources import files
from typing import Any, Final

from nimbus_reef.formats.contract import CellKind, Column, Replaces, ReportKind


def _columns(tables: dict[str, dict[str, Any]]) -> dict[str, Column]:
    """Every column by its name in the file; one that is like another stands after it."""
    found: dict[str, Column] = {}
    for name, given in tables.items():
        by_key = dict(given)
        if like := by_key.pop("like", None):
            found[name] = replace(found[like], name=name.rpartition(".")[2], **by_key)
            continue
        values = by_key.pop("values", {})
        found[name] = Column(
            name.rpartition(".")[2],
            CellKind(by_key.pop("holds")),
            words=tuple(by_key.pop("words")),
            aliases={spelling: value for value, spellings in values.items() for spelling in spellings},
            blank_with=tuple(by_key.pop("blank_with", ())) or None,
            **by_key,
        )
    return found


def _read() -> dict[str, ReportKind]:
    contract = tomllib.loads(files("nimbus_reef.formats").joinpath("contract.toml").read_text(encoding="utf-8"))
    columns = _columns(contract["columns"])
    span = (columns["from"], columns["to"], columns["period"])
    kinds = {}
    for name, result in contract["kinds"].items():
        kind = ReportKind(
            name,
            result["title"],
            result["row_is"],
            tuple(columns[each] for each in result["columns"]),
            tuple(result["key"]),
            Replaces(result.get("replaces", Replaces.DAYS)),
        )
        more = (*(span if kind.takes_blocks else ()), columns["account"])
        kinds[name] = replace(kind, columns=(*kind.columns, *more))
    return kinds


READ_KINDS: Final[dict[str, ReportKind]] = _read()
"""
Every way in which rows may be read, by name. Each may carry `account`: one file may hold the rows of several.
Those that count by day may tell their days as a span instead.
"""
PLACEMENT_ADJUSTMENTS: Final = READ_KINDS["placement_adjustments"]
"""Rows of a mixed sheet that are not a report of their own: they become columns of their campaigns' settings."""
KINDS: Final[dict[str, ReportKind]] = {
    name: kind for name, kind in READ_KINDS.items() if kind is not PLACEMENT_ADJUSTMENTS
}
"""Every kind of report that is kept, by name."""


def kind(name: str) -> ReportKind:
    """A report kind by name; a KeyError is a mistake of the caller."""
    return KINDS[name]
