"""The interface for programs as OpenAPI, made from the tables that there are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

FORMATS: Final = ("json", "csv", "parquet")
_TEXT: Final = {"type": "string"}
_ROWS: Final = {"type": "array", "items": {"type": "object"}}
_PARAMETERS: Final = (
    ("account", "Key of the account, as /api/accounts lists it."),
    ("window", "Such as last-30, a month such as 2026-10, or 2026-09-17..2026-10-16."),
    ("against", "What the window is compared with, in the same forms."),
    ("where", "A filter as in the address of the page, such as acos:gt:28. May repeat."),
    ("q", "Text to search for. Exact words in quotes, left-out words after a minus."),
    ("sort", "A column. With a minus in front, the largest first."),
)
_PROBLEM: Final = {
    "description": "What went wrong, and what to do.",
    "content": {
        "application/json": {
            "schema": {
                "type": "object",
                "required": ["message", "remedy"],
                "properties": {"message": _TEXT, "remedy": _TEXT},
            }
        }
    },
}


@dataclass(frozen=True, slots=True)
class TableAddress:
    """A table for programs. address: of its rows, with {ending} for the format."""

    name: str
    title: str
    address: str


def described(tables: Sequence[TableAddress], server: str, version: str) -> dict[str, Any]:
    """The description of the interface. server: where it is asked."""
    lists = {
        "/api/accounts": {"get": _asked("Accounts that the token may read", {"application/json": {"schema": _ROWS}})},
        "/api/tables": {"get": _asked("Every table and its address", {"application/json": {"schema": _ROWS}})},
    }
    return {
        "openapi": "3.1.0",
        "info": {
            "title": "Nimbus Reef tables",
            "version": version,
            "description": "Every table that a page exports, by the same address, filters and order.",
        },
        "servers": [{"url": server}],
        "security": [{"token": []}],
        "paths": lists | {each.address: _table(each) for each in tables},
        "components": {"securitySchemes": {"token": {"type": "http", "scheme": "bearer"}}},
    }


def _table(of: TableAddress) -> dict[str, Any]:
    rows = {
        "application/json": {"schema": _ROWS},
        "text/csv": {"schema": _TEXT},
        "application/vnd.apache.parquet": {"schema": {"type": "string", "format": "binary"}},
    }
    ending = {"name": "ending", "in": "path", "required": True, "schema": {"enum": list(FORMATS)}}
    query = [{"name": name, "in": "query", "schema": _TEXT, "description": text} for name, text in _PARAMETERS]
    return {"parameters": [ending, *query], "get": _asked(of.title, rows)}


def _asked(summary: str, content: dict[str, Any]) -> dict[str, Any]:
    return {
        "summary": summary,
        "responses": {"200": {"description": "All rows that match.", "content": content}, "default": _PROBLEM},
    }
