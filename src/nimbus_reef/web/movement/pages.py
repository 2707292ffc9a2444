"""What Movement says: the drift list, the ledger, why ACOS moved, trends."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.core import bids, change
from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.metrics import METRICS, Better, Metric, Unit
from nimbus_reef.core.model import MEASURES, MICRO, MONEY_MEASURES
from nimbus_reef.core.movement import Movement
from nimbus_reef.jobs.exports import Table
from nimbus_reef.jobs.movement import REST, active
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.movement.drift import Mover
from nimbus_reef.web.splits import split_bars, split_words
from nimbus_reef.web.standing.pages import Answer
from nimbus_reef.web.tables import PAGE_ROWS

VIEWS: Final[Mapping[str, str]] = {
    "drift": "Drift",
    "ledger": "Ledger",
    "why": "Why ACOS moved",
    "trends": "Trends",
}
LARGEST: Final = 10
MOST_DRAWN: Final = 60
FACTORS: Final = (
    ("cpc", "price per click"), ("cvr", "conversion"), ("aov", "order value"), ("mix", "mix of sales"),
    ("unsplit", "rate, unsplit"), ("entered", "entered or left"),
)  # fmt: skip
_GOOD: Final = frozenset({Movement.GAINING.value, Movement.SAVING.value})
_BAD: Final = frozenset({Movement.LEAKING.value, Movement.SLIPPING.value})


@dataclass(frozen=True, slots=True)
class Ways:
    """
    What a row's name opens. begin: the address up to its key, empty where rows open nothing;
    evidence: that of the drawer alone; only: the keys that have something to open, all when empty.
    """

    begin: str = ""
    evidence: str = ""
    only: frozenset[str] = frozenset()

    def to(self, key: str) -> str:
        """The key to open a row by; empty where there is nothing to open."""
        return "" if not self.begin or key == REST or (self.only and key not in self.only) else key


def tone_of(row: Mapping[str, Any]) -> str:
    """Whether a movement earns, leaks, or neither."""
    if row["movement"] in _GOOD or row["worth"]:
        return "gain"
    return "loss" if row["movement"] in _BAD or row["worth"] is False else ""


def judgement(row: Mapping[str, Any], figures: Figures) -> str:
    """What a row did, in words: "buying growth: marginal 200 %, not worth it"."""
    movement = row["movement"]
    spend, sales = (_relative(row, name) for name in ("spend", "sales"))
    if movement == Movement.BUYING.value:
        worth = "worth it" if row["worth"] else "not worth it"
        return f"buying growth: marginal {figures.rate(row['marginal'], 0)}, {worth}"
    if movement == Movement.SHRINKING.value:
        return f"shrinking: the cut was {'cheap' if row['worth'] else 'dear'}"
    if movement in (Movement.NEW.value, Movement.GONE.value, Movement.STEADY.value):
        return str(movement)
    said = [
        f"{name} {figures.points(value, 0)}"
        for name, value in (("spend", spend), ("sales", sales))
        if value is not None
    ]
    return f"{movement}: {', '.join(said)}" if said else str(movement)


def _relative(row: Mapping[str, Any], name: str) -> float | None:
    """Change per day, relative."""
    change_of = row[f"{name}_change"]
    base = row[f"{name}0"] * row["per0"]
    return change_of / base if base else None


@dataclass(frozen=True, slots=True)
class DriftLine:
    """One row of the list beside the chart."""

    key: str
    name: str
    where: str
    sku: str
    spend: str
    spend_change: str
    sales: str
    sales_change: str
    acos: str
    acos_change: str
    words: str
    tone: str
    thin: bool
    profit: str


def ranked(sides: pl.DataFrame, days_then: int, days_now: int) -> pl.DataFrame:
    """Rows that spent or sold, in the order of `sides`, with per0, per1: to 30 days."""
    count = int(sides.select(active().sum()).item())
    return sides.head(count).with_columns(
        per0=pl.lit(STAKE_DAYS / days_then), per1=pl.lit(STAKE_DAYS / days_now)
    )


def drift_lines(rows: pl.DataFrame, figures: Figures) -> list[DriftLine]:
    """The list: figures per 30 days, class and judgement in words."""
    lines = []
    for row in rows.to_dicts():
        now, then = row["acos1"], row["acos0"]
        points = None if now is None or then is None else (now - then) * 100
        lines.append(
            DriftLine(
                row["key"], row["name"], row["where"] or "", row["sku"] or "",
                figures.count(row["spend1"] * row["per1"]), _signed(row["spend_change"], figures),
                figures.count(row["sales1"] * row["per1"]), _signed(row["sales_change"], figures),
                figures.percent(now, 0) if now is not None else "no sales" if row["spend1"] else "–",
                "" if points is None else f"{'+' if points > 0 else ''}{figures.number(points, 0)} pt",
                judgement(row, figures), tone_of(row), row["thin"], figures.change(row["profit"]),
            )
        )  # fmt: skip
    return lines


def _signed(value: float, figures: Figures) -> str:
    return f"{'+' if value > 0.5 else ''}{figures.count(value)}"


def movers(rows: pl.DataFrame, figures: Figures) -> list[Mover]:
    """The same rows as arrows."""
    return [
        Mover(
            row["key"], row["name"], row["spend0"] * row["per0"], row["sales0"] * row["per0"],
            row["spend1"] * row["per1"], row["sales1"] * row["per1"], tone_of(row), row["thin"],
            f"{row['name']}: {judgement(row, figures)}; {figures.change(row['profit'])} profit a month"
            + ("; thin" if row["thin"] else ""),
        )
        for row in rows.to_dicts()
    ]  # fmt: skip


def break_even(sides: pl.DataFrame) -> float | None:
    """The margin of all rows together, weighed by sales; null where none is known."""
    known = sides.filter(pl.col("margin").is_not_null() & (pl.col("sales1") > 0))
    whole = known["sales1"].sum()
    return float((known["margin"] * known["sales1"]).sum() / whole) if whole else None


# --- why ACOS moved --------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Step:
    """One step of the picture. x, width: 0 … 100 of its line; kind: end, gain or loss."""

    name: str
    text: str
    x: float
    width: float
    kind: str
    title: str


@dataclass(frozen=True, slots=True)
class WhyLine:
    """One row's parts of the change, in points."""

    key: str
    name: str
    where: str
    sku: str
    pull: str
    tone: str
    cells: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class WhyPage:
    """Why ACOS moved: one sentence, one picture, the rows that did it."""

    answer: Answer
    steps: tuple[Step, ...]
    lines: tuple[WhyLine, ...]


def why(sides: pl.DataFrame, figures: Figures) -> WhyPage | None:
    """The exact split of the account's ACOS over its rows; null where nothing was sold in a window."""
    split = change.split_acos(sides)
    if split is None:
        return None
    before, after = (float(split[f"spend{when}"].sum() / split[f"sales{when}"].sum()) for when in (0, 1))
    parts = [(words, float(split[name].sum())) for name, words in FACTORS]
    shown = split.sort(pl.col("pull").abs(), descending=True, maintain_order=True)
    lines = tuple(
        WhyLine(
            row["key"], row["name"], row["where"] or "", row["sku"] or "", _points(row["pull"], figures),
            "loss" if row["pull"] > 0 else "gain",
            tuple(_points(row[name], figures) if row[name] else "" for name, _ in FACTORS),
        )
        for row in shown.head(PAGE_ROWS).to_dicts()
    )  # fmt: skip
    return WhyPage(
        why_words(before, after, parts, shown, figures), _steps(before, after, parts, figures), lines
    )


def why_words(
    before: float, after: float, parts: Sequence[tuple[str, float]], by_pull: pl.DataFrame, figures: Figures
) -> Answer:
    """The change in one sentence of parts, and the two rows that pulled most its way."""
    moved = after - before
    if abs(moved) < 0.0005:
        bold = f"ACOS stands at {figures.rate(after)}, as before."
    else:
        bold = f"ACOS {'rose' if moved > 0 else 'fell'} {figures.number(abs(moved) * 100, 1)} points, {figures.rate(before)} → {figures.rate(after)}."
    way = 1 if moved >= 0 else -1
    pulled = by_pull.filter((pl.col("pull") * way > 0) & (pl.col("key") != REST))
    most = pulled["name"].head(2).to_list()
    words = split_words(parts, figures)
    ending = f" {' and '.join(most)} did most." if most else ""
    return Answer(bold, f"{words[0].upper()}{words[1:]}.{ending}")


def _points(value: float, figures: Figures) -> str:
    return f"{'+' if value > 0 else ''}{figures.number(value * 100, 2)}"


def _steps(
    before: float, after: float, parts: Sequence[tuple[str, float]], figures: Figures
) -> tuple[Step, ...]:
    """ACOS then, each part where the one before left off, ACOS now: one scale, not from zero."""
    levels, at = [before], before
    for _, value in parts:
        at += value
        levels.append(at)
    low, high = min(*levels, after), max(*levels, after)
    margin = max((high - low) * 0.25, 0.004)
    low, high = max(0.0, low - margin), high + margin

    def place(value: float) -> float:
        return 100 * (value - low) / (high - low)

    steps = [Step("then", figures.rate(before), 0, place(before), "end", "")]
    at = before
    for (name, value), bar in zip(parts, split_bars(parts, figures), strict=True):
        if abs(value) >= 0.00005:
            first, last = sorted((at, at + value))
            steps.append(
                Step(
                    name,
                    bar.text,
                    place(first),
                    place(last) - place(first),
                    "loss" if value > 0 else "gain",
                    "",
                )
            )
        at += value
    steps.append(Step("now", figures.rate(after), 0, place(after), "end", ""))
    return tuple(steps)


# --- the ledger --------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class LedgerLine:
    """
    One row: its part of the change, its bar (x, width in 0 … 100) and the running total's place.
    extra: of a ratio mix, rate, entered; of a sum the share of the gross.
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
    heads: tuple[str, ...]
    lines: tuple[LedgerLine, ...]
    zero: float


def ledger_rows(
    sides: pl.DataFrame, metric: Metric, days_then: int, days_now: int, least: float
) -> pl.DataFrame | None:
    """
    Every row's part of the metric's change, largest first, summing to it.

    Sums are per 30 days; a ratio's part is its pull. Rows that spent less than `least` (per 30
    days, in both windows) stand together in one. Null where the ratio has no base.
    """
    per = {0: STAKE_DAYS / days_then, 1: STAKE_DAYS / days_now}
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
            kept.with_columns(
                (pl.col(f"{metric.key}{when}") * per[when]).alias(f"value{when}") for when in (0, 1)
            )
        )
        return split.sort(pl.col("part").abs(), descending=True, maintain_order=True)
    named = kept.with_columns(
        pl.col(f"{column}{when}").cast(pl.Float64).alias(f"{short}{when}")
        for short, column in (("num", metric.numerator), ("den", metric.denominator))
        for when in (0, 1)
    )
    ratio = change.split_group(named)
    if ratio is None:
        return None
    values = [
        pl.when(pl.col(f"den{when}") > 0)
        .then(pl.col(f"num{when}") / pl.col(f"den{when}"))
        .alias(f"value{when}")
        for when in (0, 1)
    ]
    return (
        ratio.with_columns(values)
        .with_columns(whole=pl.col("part"), part=pl.col("pull"))
        .sort(pl.col("part").abs(), descending=True, maintain_order=True)
    )


def ledger(rows: pl.DataFrame, metric: Metric, figures: Figures, page: int) -> Ledger:
    """A page of the ledger; bars and running total share one scale over all pages."""
    parts = rows["part"].to_list()
    totals = change.running(parts)
    span = [0.0, *parts, *totals]
    low, high = min(span), max(span)
    width = (high - low) or 1.0

    def place(value: float) -> float:
        return 100 * (value - low) / width

    first = (page - 1) * PAGE_ROWS
    better = 0 if metric.better is Better.NEITHER else 1 if metric.better is Better.HIGHER else -1
    lines = []
    for number, row in enumerate(rows.slice(first, PAGE_ROWS).to_dicts(), first):
        part = row["part"]
        extra = (
            tuple(
                _change(metric, row[name], figures) if row[name] else ""
                for name in ("rate", "mix", "entered")
            )
            if metric.is_ratio
            else (figures.rate(row["share_of_gross"], 0), figures.rate(row["share_of_net"], 0))
        )
        lines.append(
            LedgerLine(
                row["key"], row["name"], row["where"] or "", row["sku"] or "", _level(metric, row["value0"], figures),
                _level(metric, row["value1"], figures), _change(metric, part, figures),
                "" if not better or not part else "gain" if part * better > 0 else "loss",
                place(min(0, part)), max(0.3, place(max(0, part)) - place(min(0, part))),
                _change(metric, totals[number], figures), place(totals[number]), extra,
            )
        )  # fmt: skip
    heads = (
        ("rate", "mix", "entered or left") if metric.is_ratio else ("of all movement", "of the net change")
    )
    return Ledger(ledger_words(rows, metric, figures), heads, tuple(lines), place(0))


def ledger_words(rows: pl.DataFrame, metric: Metric, figures: Figures) -> Answer:
    """The change as a whole, and who did most of it."""
    net = float(rows["part"].sum())
    if metric.is_ratio:
        levels = [rows[f"num{when}"].sum() / rows[f"den{when}"].sum() for when in (0, 1)]
        moved = f"{_level(metric, levels[0], figures)} → {_level(metric, levels[1], figures)}"
    else:
        moved = f"{_level(metric, rows['value0'].sum(), figures)} → {_level(metric, rows['value1'].sum(), figures)} a month"
    if abs(net) < 1e-12:
        return Answer(f"{_name(metric)} did not move: {moved}.", "")
    way = 1 if net > 0 else -1
    named = rows.filter(pl.col("key") != "")
    most = named.filter(pl.col("part") * way > 0).head(2).to_dicts()
    against = next(iter(named.filter(pl.col("part") * way < 0).head(1).to_dicts()), None)
    said = " and ".join(f"{row['name']} ({_change(metric, row['part'], figures)})" for row in most)
    held = (
        f" {against['name']} held against it ({_change(metric, against['part'], figures)})."
        if against
        else ""
    )
    return Answer(
        f"{_name(metric)} {'rose' if net > 0 else 'fell'}, {moved}.",
        f"{said} did most of it.{held}" if most else "",
    )


def _name(metric: Metric) -> str:
    return metric.label if metric.is_ratio else metric.label.capitalize()


def _level(metric: Metric, value: float | None, figures: Figures) -> str:
    if value is None:
        return "–"
    if metric.unit is Unit.RATE:
        return figures.rate(value, 2 if metric.key == "ctr" else 1)
    if metric.unit is Unit.MONEY:
        return figures.money(value, 2 if metric.is_ratio else 0)
    return figures.number(value, 2) if metric.unit is Unit.FACTOR else figures.count(value)


def _change(metric: Metric, value: float | None, figures: Figures) -> str:
    if value is None:
        return ""
    if metric.unit is Unit.RATE:
        return f"{'+' if value > 0 else ''}{figures.number(value * 100, 3 if metric.key == 'ctr' else 2)} pt"
    if metric.unit is Unit.MONEY:
        return figures.change(value, 3 if metric.is_ratio else 0)
    digits = 2 if metric.unit is Unit.FACTOR else 0
    return f"{'+' if value > 0 else ''}{figures.number(value, digits)}"


def ledger_export(rows: pl.DataFrame, metric: Metric) -> Table:
    """The whole ledger as a file."""
    extra = ["rate", "mix", "entered", "whole"] if metric.is_ratio else ["share_of_gross", "share_of_net"]
    columns = ["name", "where", "value0", "value1", "part", *extra]
    return Table(
        f"ledger-{metric.key}", rows.select(columns).with_columns(running=pl.col("part").cum_sum()), {}
    )


MOVED: Final = (
    "name", "where", "movement", "spend_change", "sales_change", "acos0", "acos1", "marginal", "worth", "profit", "thin",
)  # fmt: skip
"""What is told of a row that moved, as data; money per 30 days."""


def drift_export(rows: pl.DataFrame) -> Table:
    """Every row's movement as a file, money per 30 days."""
    sums = [pl.col(f"{name}{when}") * pl.col(f"per{when}") for name in ("spend", "sales") for when in (0, 1)]
    return Table("movement", rows.select(*MOVED, *sums), {"acos0": "0.0%", "acos1": "0.0%", "marginal": "0%"})


# --- trends ----------------------------------------------------------------------------------

TRENDED: Final = (
    "spend",
    "sales",
    "acos",
    "ctr",
    "cvr",
    "cpc",
    "aov",
    "impressions",
    "clicks",
    "orders",
    "roas",
)
SMOOTH: Final = {"": 1, "7": 7, "14": 14}


@dataclass(frozen=True, slots=True)
class Line:
    """One metric of a trend: its days, in the unit that is written, null where there is none."""

    key: str
    label: str
    values: tuple[float | None, ...]
    now: str


def trend_lines(days: pl.DataFrame, metrics: Sequence[str], smooth: int, figures: Figures) -> list[Line]:
    """
    Metrics by day. Smoothing: a ratio of the sums of the last days, never a mean of ratios; a sum's
    mean over them.
    """
    money = days.with_columns(pl.col(name) / MICRO for name in MONEY_MEASURES)
    rolled = money.with_columns(pl.col(MEASURES).cast(pl.Float64).rolling_mean(smooth, min_samples=1))
    lines = []
    for key in metrics:
        metric = METRICS[key]
        if metric.is_ratio:
            below = pl.col(metric.denominator)
            values = rolled.select(pl.when(below > 0).then(pl.col(metric.numerator) / below)).to_series()
        else:
            values = rolled[key]
        scale = 100 if metric.unit is Unit.RATE else 1
        unit = " %" if metric.unit is Unit.RATE else f" {figures.symbol}" if metric.unit is Unit.MONEY else ""
        sums = {name: float(money[name].sum()) for name in MEASURES}
        whole = (
            (sums[metric.numerator] / sums[metric.denominator] if sums[metric.denominator] else None)
            if metric.is_ratio
            else sums[key] / max(1, len(days))
        )
        lines.append(
            Line(
                key, f"{metric.label}{unit}", tuple(None if v is None else round(v * scale, 4) for v in values),
                _level(metric, whole, figures) + ("" if metric.is_ratio else " a day"),
            )
        )  # fmt: skip
    return lines


@dataclass(frozen=True, slots=True)
class Worked:
    """A stretch of two weeks of a keyword: whether it met its target, and the bid then."""

    days: str
    bid: str
    orders: str
    acos: str
    worked: bool


def stretches(days: pl.DataFrame, target_acos: float, figures: Figures) -> list[Worked]:
    """
    The 14-day blocks of a keyword, newest first. days: day, clicks, orders, spend, sales and
    bid (micro) in order. Worked: at least 3 orders within the target.
    """
    rows = days.select("day", "clicks", "orders", "spend", "sales", "bid").rows()
    found = []
    for end in range(len(rows), bids.BLOCK_DAYS - 1, -bids.BLOCK_DAYS):
        part = rows[end - bids.BLOCK_DAYS : end]
        made = bids.blocks(
            [bids.Day(clicks, orders, spend / MICRO, sales / MICRO, None if bid is None else bid / MICRO)
             for _, clicks, orders, spend, sales, bid in part]
        )  # fmt: skip
        if not made:
            continue
        block = made[0]
        found.append(
            Worked(
                f"{figures.day(part[0][0])} – {figures.day(part[-1][0])}", figures.money(block.bid, 2),
                figures.count(block.orders), figures.rate(block.spend / block.sales, 0) if block.sales else "no sales",
                bids.best_working_bid([block], target_acos) is not None,
            )
        )  # fmt: skip
    return found


def shown_days(days: pl.DataFrame) -> list[date]:
    """The days of a trend."""
    found: list[date] = days["day"].to_list()
    return found
