"""Values that are kept as JSON: how each is written, and read again whatever version wrote it."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any, Final, TypeVar

from cattrs.gen import make_dict_structure_fn, make_dict_unstructure_fn
from cattrs.preconf.json import make_converter
from sqlalchemy import JSON, Dialect
from sqlalchemy.types import TypeDecorator

from nimbus_reef.core.promises import Promise
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.mapping import ColumnMap

Kind = TypeVar("Kind")

_CONVERTER: Final = make_converter()
_CONVERTER.register_unstructure_hook(Window, lambda window: [window.first.isoformat(), window.last.isoformat()])
_CONVERTER.register_structure_hook(Window, lambda ends, _: Window(*(date.fromisoformat(day) for day in ends)))


def _written_and_read(kind: type[Any]) -> None:
    """
    What is as usual is left out, so that the usual may change its spelling; what an earlier version
    wrote as empty is as usual too.
    """
    written = make_dict_unstructure_fn(kind, _CONVERTER, _cattrs_omit_if_default=True)
    structured = make_dict_structure_fn(kind, _CONVERTER)

    def said(kept: Mapping[str, Any], _: Any) -> Any:
        return structured({name: value for name, value in kept.items() if value not in ("", [], None)}, kind)

    _CONVERTER.register_unstructure_hook(kind, written)
    _CONVERTER.register_structure_hook(kind, said)


for _kind in (ColumnMap, Promise):
    _written_and_read(_kind)


def plain(value: Any) -> Any:
    """A value in lists, dictionaries, texts and numbers."""
    return _CONVERTER.unstructure(value)


def read(kept: Mapping[str, Any], kind: type[Kind]) -> Kind:
    """What `plain` wrote, now or in an earlier version."""
    return _CONVERTER.structure(kept, kind)


class JsonOf(TypeDecorator[Any]):
    """A JSON column whose values are of one type."""

    impl = JSON
    cache_ok = True

    def __init__(self, kind: type[Any]) -> None:
        super().__init__()
        self.kind = kind

    def process_bind_param(self, value: Any, dialect: Dialect) -> Any:  # noqa: ARG002
        """To the record."""
        return None if value is None else plain(value)

    def process_result_value(self, value: Any, dialect: Dialect) -> Any:  # noqa: ARG002
        """From the record."""
        return None if value is None else read(value, self.kind)
