"""An audit to hand on: the sheets of its workbook."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.analysis.catalog import files as catalog_files
from nimbus_reef.analysis.delivery import files as delivery_files
from nimbus_reef.analysis.findings import Findings, named
from nimbus_reef.analysis.judged_proposals import judged
from nimbus_reef.analysis.judged_tables import VIEWS, table_to_export
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.pulse import Beat, beat
from nimbus_reef.analysis.reach import files as reach_files
from nimbus_reef.analysis.recurring import Recurring, since_last
from nimbus_reef.core import glossary
from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.plan_file import plan_table
from nimbus_reef.web.params import Scope

_MOST_ROWS: Final = 100_000
"""A sheet of more rows is for programs, which read the page's own file."""
_MONEY = {"wasted per 30 days": "0.00", "spend": "0.00", "sales": "0.00"}


def summary(scope: Scope, found: Findings, result: Beat, recurring: Recurring) -> Table:
    """What was looked at and what it came to, a line each: in words, as an amount, as a rate, or as a day."""
    account, last, since = scope.account, recurring.last, recurring.since
    rows: list[_SummaryLine] = [
        _SummaryLine("brand", account.brand),
        _SummaryLine("marketplace", f"{account.marketplace}, {account.country}"),
        _SummaryLine("currency", account.currency),
        _SummaryLine("part of the account", scope.part_words),
        _SummaryLine("first day", day=scope.window.first),
        _SummaryLine("last day", day=scope.window.last),
    ]
    if scope.against:
        rows += [
            _SummaryLine("compared with, first day", day=scope.against.first),
            _SummaryLine("compared with, last day", day=scope.against.last),
        ]
    rows += [
        _SummaryLine("target ACOS (assumed)" if scope.assumes_target else "target ACOS", rate=scope.target_acos),
        _SummaryLine("totals come from", KINDS[result.source].title if result.source else ""),
    ]
    for label, each in (("now", result.now), ("before", result.then)):
        if each is not None:
            rows += [
                _SummaryLine(f"spend, {label}", amount=from_micro(each.spend)),
                _SummaryLine(f"sales, {label}", amount=from_micro(each.sales)),
                _SummaryLine(f"ACOS, {label}", rate=each.acos),
                _SummaryLine(f"TACOS, {label}", rate=each.tacos),
            ]
    rows += [
        _SummaryLine("wasted spend per 30 days, the same money counted once", amount=from_micro(found.overspend)),
        *([_SummaryLine("missed sales per 30 days", amount=from_micro(found.missed))] if found.missed else []),
        _SummaryLine("findings", amount=float(found.count())),
        *(
            [
                _SummaryLine("last audit closed", day=last.at.date()),
                _SummaryLine("findings new or come back since", amount=float(len(since.news))),
                _SummaryLine("findings gone since", amount=float(len(since.gone))),
            ]
            if last
            else []
        ),
    ]
    frame = pl.DataFrame(
        [(each.what, each.words, each.amount, each.rate, each.day) for each in rows],
        schema={"what": pl.String, "in words": pl.String, "amount": pl.Float64, "rate": pl.Float64, "day": pl.Date},
        orient="row",
    )
    return Table("Summary", frame, {"amount": "#,##0.##", "rate": "0.0%"})


@dataclass(frozen=True, slots=True)
class _SummaryLine:
    what: str
    words: str = ""
    amount: float | None = None
    rate: float | None = None
    day: date | None = None


def findings_table(found: Findings, recurring: Recurring) -> Table:
    """Every finding, largest stake first within what is to be done."""
    parts = []
    for group in found.groups:
        news = [recurring.since.news.get((group.check.key, row_id), "") for row_id in group.rows["row_id"]]
        term = pl.col("term") if "term" in group.rows.columns else pl.lit("")
        called = [named(group.check, row) for row in group.rows.to_dicts()]
        parts.append(
            group.rows.select(
                pl.lit(group.check.title).alias("finding"),
                pl.lit(group.check.to_do).alias("to do"),
                pl.Series("what", [name for name, _ in called], dtype=pl.String),
                pl.Series("where", [where for _, where in called], dtype=pl.String),
                pl.col("campaign", "ad_group", "target").cast(pl.String),
                pl.col("match_type").cast(pl.String).alias("match type"),
                term.alias("search term"),
                (pl.col("stake") / MICRO).alias("wasted per 30 days"),
                pl.col("clicks", "orders"),
                (pl.col("spend") / MICRO).alias("spend"),
                (pl.col("sales") / MICRO).alias("sales"),
                pl.Series("since last audit", news, dtype=pl.String),
            )
        )
    return Table("Findings", pl.concat(parts) if parts else pl.DataFrame({"finding": ["none"]}), _MONEY)


def glossary_table() -> Table:
    """The words of the sheets and what they mean."""
    terms = [each for group in glossary.groups().values() for each in group]
    return Table(
        "Glossary",
        pl.DataFrame(
            {
                "word": [each.name for each in terms],
                "meaning": [each.definition for each in terms],
                "formula": [each.formula for each in terms],
                "unit": [each.unit for each in terms],
            }
        ),
        {},
    )


def _first_rows(table: Table) -> Table:
    """The table, or its first rows and a name that says so."""
    if len(table.rows) <= _MOST_ROWS:
        return table
    return replace(table, name=f"{table.name}, first {_MOST_ROWS}", rows=table.rows.head(_MOST_ROWS))


def sheets(ask: Context, found: Findings, today: date) -> list[Table]:
    """The sheets of the audit: summary, findings, judged rows, every table that has rows, plan, glossary."""
    facts, selection, recurring = ask.facts, ask.selection, since_last(ask.facts, ask.account, found, ask.scope.part)
    entries = []
    for view in VIEWS.values():
        rows = judged(facts, selection, view.subject).sort("stake", descending=True)
        entries.append(replace(table_to_export(view, rows, ask.scope.window), name=view.title))
    for files in (catalog_files, delivery_files, reach_files):
        for name, make in files.FILES.items():
            if lacking(facts, ask.account, ask.scope.window, files.NEEDS[name]) is None:
                entries.append(_first_rows(replace(make(facts, selection), name=name.capitalize())))
    return [
        summary(ask.scope, found, beat(facts, selection, today), recurring),
        findings_table(found, recurring),
        *entries,
        plan_table(ask.planned()),
        glossary_table(),
    ]
