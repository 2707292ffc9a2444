"""
What a workbook's own files say beside its cells: which sheets are hidden, which cells are shown as per cent, which hold
a formula without a value.

Read as text by patterns, in pieces: no other reader tells these three, and a sheet may hold a million rows.
"""

from __future__ import annotations

import re
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from html import unescape
from pathlib import Path, PurePosixPath
from typing import Final

_PIECE: Final = 1 << 22
_OVERLAP: Final = 1 << 12
"""Bytes of the piece before that are looked at again: no cell's tag is longer."""
_SHEET: Final = re.compile(rb"<(?:\w+:)?sheet\b([^>]*)/?>")
_RELATION: Final = re.compile(rb"<(?:\w+:)?Relationship\b([^>]*)/?>")
_FORMAT: Final = re.compile(rb"<(?:\w+:)?numFmt\b([^>]*)/?>")
_STYLES: Final = re.compile(rb"<(?:\w+:)?cellXfs\b.*?</(?:\w+:)?cellXfs>", re.DOTALL)
_STYLE: Final = re.compile(rb"<(?:\w+:)?xf\b([^>]*)")
_WITHOUT_VALUE: Final = re.compile(rb"<c\b([^>]*)>\s*<f\b[^>]*(?:/>|>[^<]*</f>)\s*(?:<v\s*/>|<v>\s*</v>)?\s*</c>")
_PERCENT_IDS: Final = frozenset({b"9", b"10"})
_PLACE: Final = re.compile(rb'\br="([A-Z]{1,3})(\d{1,7})"')


@dataclass(slots=True)
class SheetFacts:
    """
    Of one sheet. percent, unfilled: cells by line (from 1) and column (from 0), shown as per cent; formulas without a
    value.
    """

    hidden: bool = False
    percent: set[tuple[int, int]] = field(default_factory=set)
    unfilled: set[tuple[int, int]] = field(default_factory=set)


def sheet_facts(path: Path) -> dict[str, SheetFacts]:
    """The facts of every sheet by its name; of a workbook that is written in another way than usual, fewer or none."""
    with zipfile.ZipFile(path) as archive:
        names = set(archive.namelist())
        if "xl/workbook.xml" not in names:
            return {}
        targets = dict(_targets(archive)) if "xl/_rels/workbook.xml.rels" in names else {}
        percent = _percent_styles(archive) if "xl/styles.xml" in names else []
        found: dict[str, SheetFacts] = {}
        for tag in _SHEET.findall(archive.read("xl/workbook.xml")):
            facts = SheetFacts(_attribute(tag, b"state") in (b"hidden", b"veryHidden"))
            found[unescape(_attribute(tag, b"name").decode("utf-8", "replace"))] = facts
            target = targets.get(_attribute(tag, rb"\w+:id"), "")
            if target in names:
                _scan(archive, target, percent, facts)
        return found


def _attribute(tag: bytes, name: bytes) -> bytes:
    found = re.search(rb"(?:^|\s)" + name + rb'\s*=\s*"([^"]*)"', tag)
    return found[1] if found else b""


def _targets(archive: zipfile.ZipFile) -> Iterator[tuple[bytes, str]]:
    for tag in _RELATION.findall(archive.read("xl/_rels/workbook.xml.rels")):
        target = _attribute(tag, b"Target").decode("utf-8", "replace")
        inside = target.lstrip("/") if target.startswith("/") else str(PurePosixPath("xl") / target)
        yield _attribute(tag, b"Id"), inside


def _percent_styles(archive: zipfile.ZipFile) -> list[bytes]:
    """The numbers of the cell styles that show a figure as per cent."""
    content = archive.read("xl/styles.xml")
    own = {
        _attribute(tag, b"numFmtId")
        for tag in _FORMAT.findall(content)
        if b"%" in re.sub(rb'"[^"]*"|\\.', b"", _attribute(tag, b"formatCode").replace(b"&quot;", b'"'))
    }
    styles = _STYLES.search(content)
    tags = _STYLE.findall(styles[0]) if styles else []
    return [b"%d" % number for number, tag in enumerate(tags) if _attribute(tag, b"numFmtId") in _PERCENT_IDS | own]


def _scan(archive: zipfile.ZipFile, target: str, percent: list[bytes], facts: SheetFacts) -> None:
    shown = re.compile(rb'<c\b([^>]*\bs="(?:' + b"|".join(percent) + rb')"[^>]*)>') if percent else None
    with archive.open(target) as stream:
        before = b""
        while piece := stream.read(_PIECE):
            content = before + piece
            if shown is not None:
                facts.percent.update(_places(shown, content))
            if b"<f" in content:
                facts.unfilled.update(_places(_WITHOUT_VALUE, content))
            before = content[-_OVERLAP:]


def _places(pattern: re.Pattern[bytes], content: bytes) -> Iterator[tuple[int, int]]:
    for attributes in pattern.findall(content):
        if place := _PLACE.search(attributes):
            column = 0
            for letter in place[1]:
                column = 26 * column + letter - 64
            yield int(place[2]), column - 1
