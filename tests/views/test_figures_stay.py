"""
The figures of every view, file, drawer and proposal are those written down in `figures.json`.

Only numbers count, so that other words change nothing. Where a figure is meant to change, write them anew:
`REEF_FIGURES=write pytest tests/views/test_figures_stay.py`, and say in the commit why.
"""

import hashlib
import json
import os
import re
from pathlib import Path

import pytest
from tests.views.test_every_view import EVERY, EXPORTED, PAGES, lines_of, tables_of

from nimbus_reef.analysis import acceptance
from nimbus_reef.analysis.delivery import solutions
from nimbus_reef.analysis.findings import findings
from nimbus_reef.analysis.proposals import PROPOSERS, all_keys, proposals
from nimbus_reef.analysis.wording import worded

KEPT = Path(__file__).with_name("figures.json")
ADDRESS = re.compile(r"0x[0-9A-Fa-f]+")
NUMBER = re.compile(r"[−+-]?\d[\d.,]*(?:e[+-]?\d+)?")
LISTED = [name for name in PROPOSERS if name != "solutions"]
"""Views whose rows are listed; solutions have a test of their own."""
MOST = 90
"""Rows of a view that proposals are asked for."""
WRITES = os.environ.get("REEF_FIGURES") == "write"


def digest(*things):
    """Of the numbers in what things say; of fractions six digits, since the last ones depend on the processor."""
    found = []
    for text in NUMBER.findall(ADDRESS.sub("", " ".join(map(repr, things)).replace("\u2060", ""))):
        plain = text.replace("−", "-").rstrip(".,")
        try:
            found.append(f"{float(plain):.6g}")
        except ValueError:
            found.append(plain)
    return f"{len(found)}:{hashlib.sha256(' '.join(found).encode()).hexdigest()[:16]}"


def digest_of_table(table):
    return digest([[f"{cell:.6g}" if isinstance(cell, float) else cell for cell in row] for row in table.rows.rows()])


def compared(brand, kind, found):
    held = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    if WRITES:
        held.setdefault(brand, {})[kind] = found
        KEPT.write_text(json.dumps(held, indent=1, sort_keys=True) + "\n")
        return
    assert found == held[brand][kind]


def opened(ask, name):
    """The drawers of a view's first rows."""
    view = EVERY[name]
    keys = [line.key for table in tables_of(view.page(ask())) for line in lines_of(table) if hasattr(line, "key")]
    return [view.drawer(ask(), key) for key in dict.fromkeys(keys[:12])] if view.drawer else []


def test_pages(ask, selection):
    compared(selection.account.key, "pages", {name: digest(make(ask())) for name, make in PAGES.items()})


def test_files(ask, selection):
    compared(selection.account.key, "files", {name: digest_of_table(make(ask())) for name, make in EXPORTED.items()})


def test_drawers(ask, facts, selection):
    found = {
        name: digest(*opened(ask, name))
        for name in EVERY
        if EVERY[name].drawer and name.partition("/")[2] not in PROPOSERS
    }
    compared(selection.account.key, "drawers", found)


def test_proposals(ask, facts, selection):
    found = {}
    for name in LISTED:
        every = proposals(facts, selection, name, all_keys(facts, selection, name)[:MOST])
        found[name] = digest(*((each.package, worded(each, ask().figures)) for each in every))
        assessed = acceptance.assess(facts, selection, every)
        found[f"{name} together"] = digest(assessed.replaced_rows, assessed.acceptance.new)
    compared(selection.account.key, "proposals", found)


def test_findings(facts, selection):
    made = findings(facts, selection, (), selection.window.last)
    groups = {
        each.check.key: digest(each.stake, each.rows.drop("reasons", strict=False).rows()) for each in made.groups
    }
    compared(selection.account.key, "findings", groups | {"headline": digest(made.overspend, made.missed, made.spend)})


@pytest.fixture
def campaigns(facts, selection):
    every = proposals(facts, selection, "placements", all_keys(facts, selection, "placements"))
    return sorted({each.changes[0].campaign for each in every if each.changes})


def test_solutions(facts, selection, campaigns):
    found = {name: digest(solutions.solved(facts, selection, name)) for name in campaigns}
    compared(selection.account.key, "solutions", found)
