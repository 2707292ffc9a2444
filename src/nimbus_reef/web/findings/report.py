"""An audit to hand on: the sheets of its workbook."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from nimbus_reef.analysis.findings import Findings, named
from nimbus_reef.analysis.pulse import Beat
from nimbus_reef.analysis.recurring import Recurring
from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.formats.change_sheet import COLUMNS
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.params import Scope

_MONEY = {"at stake per 30 days": "0.00", "spend": "0.00", "sales": "0.00"}


def summary(scope: Scope, found: Findings, beat: Beat, recurring: Recurring) -> Table:
    """What was looked at and what it came to, a line each."""
    account, now, then, last = scope.account, beat.now, beat.then, recurring.last
    rows: list[tuple[str, str, float | None]] = [
        ("account", account.key, None),
        ("brand", account.brand, None),
        ("currency", account.currency, None),
        ("window", f"{scope.window.first} to {scope.window.last}", None),
        ("compared with", f"{scope.against.first} to {scope.against.last}" if scope.against else "", None),
        ("part", scope.part or "all of the account", None),
        ("target ACOS", "", scope.target_acos),
        ("totals come from", beat.source or "", None),
    ]
    for label, each in (("now", now), ("then", then)):
        if each is not None:
            rows += [
                (f"spend, {label}", "", from_micro(each.spend)),
                (f"sales, {label}", "", from_micro(each.sales)),
                (f"ACOS, {label}", "", each.acos),
                (f"TACOS, {label}", "", each.tacos),
            ]
    rows += [
        ("overspend per 30 days, the same money once", "", from_micro(found.overspend)),
        *([("missed sales per 30 days", "", from_micro(found.missed))] if found.missed else []),
        ("findings", "", float(found.count())),
        ("last audit closed", f"{last.at:%Y-%m-%d}" if last else "", None),
        ("findings new or come back since", "", float(len(recurring.since.news)) if last else None),
        ("findings gone since", "", float(len(recurring.since.gone)) if last else None),
    ]
    return Table(
        "Summary", pl.DataFrame(rows, schema=["what", "is", "figure"], orient="row"), {"figure": "0.00##"}
    )


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
                (pl.col("stake") / MICRO).alias("at stake per 30 days"),
                pl.col("clicks", "orders"),
                (pl.col("spend") / MICRO).alias("spend"),
                (pl.col("sales") / MICRO).alias("sales"),
                pl.Series("since last audit", news, dtype=pl.String),
            )
        )
    return Table("Findings", pl.concat(parts) if parts else pl.DataFrame({"finding": ["none"]}), _MONEY)


def plan_table(planned: Sequence[Planned]) -> Table:
    """The changes that wait, as the change sheet has them."""
    rows = [[str(getattr(each.change, name)) for name in COLUMNS] for each in planned]
    return Table("Plan", pl.DataFrame(rows, schema=list(COLUMNS), orient="row"), {})
