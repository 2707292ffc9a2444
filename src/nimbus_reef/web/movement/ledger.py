"""The ledger: every row's part of a metric's change, summing to it; bars and table are one thing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.wording import level
from nimbus_reef.core import change
from nimbus_reef.core.metrics import Better, Metric, Unit
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import month_factor
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.lists import ListedRows
from nimbus_reef.web.kit.tables import Head, head_of, heads_of

_SPLIT: Final = {"rate": "rate", "mix": "mix", "entered": "new or gone"}
_SHARES: Final = {"share_of_gross": "of all movement", "share_of_net": "of the net change"}
_TOLD: Final = {
    "rate": "its own ratio changed",
    "mix": "Its weight in the total changed. Not zero when all change together",
    "new or gone": "No value in one of the two periods",
    "of all movement": "Its share of all changes, up and down",
    "of the net change": "Its share of the net change. Shown where the net is at least a fifth of all changes",
}


@dataclass(frozen=True, slots=True)
class LedgerLine:
    """
    One row: its part of the change, its bar (x, width in 0 … 100) and the running total's place.
    extra: its shares of the movement, and of a ratio rate, mix, entered.
    """

    key: str
    name: str
    where: str
    sku: str
    then: str
    now: str
    part: str
    tone: str
    x: float
    width: float
    running: str
    running_x: float
    extra: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Ledger:
    """The ledger of one metric. zero: where no change stands on the bars' scale."""

    answer: Answer
    heads: tuple[Head, ...]
    lines: tuple[LedgerLine, ...]
    zero: float


def ledger_rows(
    sides: pl.DataFrame, metric: Metric, days_then: int, days_now: int, least: float
) -> pl.DataFrame | None:
    """
    Every row's part of the metric's change, largest first, summing to it; with the running total.

    Sums are per 30 days; a ratio's part is its pull. Rows that spent less than `least` (per 30
    days, in both windows) stand together in one. Null where the ratio has no base.
    """
    per = {0: month_factor(days_then), 1: month_factor(days_now)}
    small = pl.all_horizontal(pl.col(f"spend{when}") * per[when] < least for when in (0, 1))
    kept, gathered = sides.filter(~small), sides.filter(small)
    if len(gathered):
        sums = [f"{name}{when}" for name in MEASURES for when in (0, 1)]
        one = gathered.select(pl.col(sums).sum()).with_columns(
            key=pl.lit(""),
            name=pl.lit(f"{len(gathered)} smaller ones together"),
            where=pl.lit(""),
            sku=pl.lit(None, pl.String),
        )
        kept = pl.concat([kept, one], how="diagonal_relaxed")
    if not metric.is_ratio:
        split = change.additive(
            kept.with_columns((pl.col(f"{metric.key}{when}") * per[when]).alias(f"value{when}") for when in (0, 1))
        )
        return change.in_order(split)
    named = kept.with_columns(
        pl.col(f"{column}{when}").cast(pl.Float64).alias(f"{short}{when}")
        for short, column in (("num", metric.numerator), ("den", metric.denominator))
        for when in (0, 1)
    )
    ratio = change.split_group(named)
    if ratio is None:
        return None
    values = [
        pl.when(pl.col(f"den{when}") > 0).then(pl.col(f"num{when}") / pl.col(f"den{when}")).alias(f"value{when}")
        for when in (0, 1)
    ]
    return change.in_order(ratio.with_columns(values).with_columns(whole=pl.col("part"), part=pl.col("pull")))


def ledger(of: ListedRows, columns: Sequence[str], metric: Metric, figures: Figures) -> Ledger:
    """
    A page of the ledger; bars and running total share one scale over all pages. columns: metrics that are shown
    besides.
    """
    rows, shown = of.rows, of.found.shown
    drawn = [pl.col(name) for name in ("part", "running")]
    low, high = rows.select(
        pl.min_horizontal(0.0, *(each.min() for each in drawn)).alias("low"),
        pl.max_horizontal(0.0, *(each.max() for each in drawn)).alias("high"),
    ).row(0)
    width = (high - low) or 1.0

    def place(value: float) -> float:
        return float(100 * (value - low) / width)

    better = 0 if metric.better is Better.NEITHER else 1 if metric.better is Better.HIGHER else -1
    # Where nothing entered or left, or no share can be told, no column says so in every row.
    split = [name for name in _SPLIT if metric.is_ratio and (rows[name] != 0).any()]
    shares = [name for name in _SHARES if rows[name].count()]
    lines = []
    besides = [of.fields[key] for key in columns]
    more = shown.select(each.expr.alias(each.key) for each in besides).rows() if besides else [()] * len(shown)
    for row, values in zip(shown.to_dicts(), more, strict=True):
        part = row["part"]
        extra = (
            *(figures.cell(value, each.digits or 0) for value, each in zip(values, besides, strict=True)),
            *(figures.rate(row[name], 0) for name in shares),
            *(_change(metric, row[name], figures) if row[name] else "" for name in split),
        )
        lines.append(
            LedgerLine(
                row["key"],
                row["name"],
                row["where"] or "",
                row["sku"] or "",
                level(metric, row["value0"], figures),
                level(metric, row["value1"], figures),
                _change(metric, part, figures),
                "" if not better or not part else "gain" if part * better > 0 else "loss",
                place(min(0, part)),
                max(0.3, place(max(0, part)) - place(min(0, part))),
                _change(metric, row["running"], figures),
                place(row["running"]),
                extra,
            )
        )
    extra_heads = (*(_SHARES[name] for name in shares), *(_SPLIT[name] for name in split))
    named = [head_of(each, of.found.sort, figures) for each in besides]
    heads = (*_heads(of, figures), *named, *(Head(name, _TOLD[name]) for name in extra_heads))
    return Ledger(ledger_words(rows, metric, figures), heads, tuple(lines), place(0))


def part_definition(metric: Metric) -> str:
    """What a row's part is."""
    if metric.is_ratio:
        level = "Growing at the former level of the total counts as zero"
        return f"Its effect on the total. {level}. Effects sum to the change"
    return "Its own change per 30 days. Changes sum to the change of the total"


def _heads(of: ListedRows, figures: Figures) -> tuple[Head, ...]:
    plain = {key: replace(of.fields[key], unit="") for key in ("name", "value0", "value1", "part")}
    total = "In the order of the parts, whatever the rows are sorted by"
    return (
        *heads_of(plain, of.found.sort, figures),
        Head("parts, and the running total as a line", css="words bars"),
        Head("running total", total),
    )


def change_words(metric: Metric, rows: pl.DataFrame, figures: Figures) -> str:
    """What the parts of rows come to together."""
    return _change(metric, float(rows["part"].sum()), figures)


def ledger_words(rows: pl.DataFrame, metric: Metric, figures: Figures) -> Answer:
    """The change as a whole, and who did most of it."""
    net = float(rows["part"].sum())
    if metric.is_ratio:
        sums = [float(rows[f"num{when}"].sum()) / float(rows[f"den{when}"].sum()) for when in (0, 1)]
        per = ""
    else:
        sums = [float(rows[f"value{when}"].sum()) for when in (0, 1)]
        per = " per 30 days"
    then, now = (level(metric, each, figures) for each in sums)
    named = rows.select("key", "name", "part").filter(pl.col("key") != "")
    up, down = (named.filter(pl.col("part") * way > 0).head(2).to_dicts() for way in (1, -1))
    if then == now:
        pulled = [
            f"{_who(each[:1], metric, figures)} pulled {way}" for each, way in ((up, "up"), (down, "down")) if each
        ]
        words = f"{', '.join(pulled)} most." if pulled else ""
        return Answer(f"{_name(metric)} is {now}{per}, unchanged.", words)
    most, against = (up, down) if net > 0 else (down, up)
    text = f" {_who(against[:1], metric, figures)} against it." if against else ""
    return Answer(
        f"{_name(metric)} {'rose' if net > 0 else 'fell'}, {then} → {now}{per}.",
        f"{_who(most, metric, figures)} drove most of it.{text}" if most else "",
    )


def _who(rows: list[dict[str, Any]], metric: Metric, figures: Figures) -> str:
    return " and ".join(f"{row['name']} ({_change(metric, row['part'], figures)})" for row in rows)


def _name(metric: Metric) -> str:
    return metric.label if metric.is_ratio else metric.label.capitalize()


def _change(metric: Metric, value: float | None, figures: Figures) -> str:
    if value is None:
        return ""
    if metric.unit is Unit.RATE:
        return f"{figures.signed(value * 100, 3 if metric.key == 'ctr' else 2)} pt"
    if metric.unit is Unit.MONEY:
        return figures.change(value, 3 if metric.is_ratio else 0)
    digits = 2 if metric.unit is Unit.FACTOR else 0
    return figures.signed(value, digits)


def ledger_export(rows: pl.DataFrame, metric: Metric) -> Table:
    """The whole ledger as a file."""
    split = ["rate", "mix", "entered", "whole"] if metric.is_ratio else []
    columns = ["name", "where", "value0", "value1", "part", *_SHARES, *split, "running"]
    return Table(f"ledger-{metric.key}", rows.select(columns), {})
