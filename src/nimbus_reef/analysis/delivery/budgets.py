"""Budgets of an account: who runs dry, when and what it costs; who never spends; and a move between them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis import out_of_budget, purposes
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import change, promise
from nimbus_reef.core import budgets as rules
from nimbus_reef.core import evidence, hours, targeting
from nimbus_reef.core.budgets import Budget, Floats, Spending
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.delivery import DRY_BUDGETS
from nimbus_reef.core.hours import DAY, Missed
from nimbus_reef.core.model import MEASURES, MICRO, State, Verdict
from nimbus_reef.core.projection import NOTHING, Projected, Range, total
from nimbus_reef.core.proposals import EntityKey, Package, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import month_factor
from nimbus_reef.store.reading import campaign_frames, delivery_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

"""The part of the days from which on a budget runs dry: less happens to any."""
_HELD: Final = "budgets held"
SOURCES: Final = ("campaign_daily", "placement_daily", "hourly")
"""Reports that tell what campaigns spend by day, the better first."""


@dataclass(frozen=True, slots=True)
class Line:
    """
    A campaign's budget. budget: units a day; row: its judged sums; dry_days, from_hour: on how many days it was gone,
    and from when on usually; missed: sales per 30 days; by_hour: what a usual day spends in each hour, dry_share: how
    often that hour is dry; both empty where hours are not held.
    """

    campaign: str
    campaign_id: int
    budget: float
    idle: bool
    usual_share: float
    row: Mapping[str, Any]
    dry_days: int
    held_days: int
    from_hour: int | None
    runs_dry: bool
    missed: Missed
    missed_spend: float
    missed_a_day: float
    by_hour: tuple[float, ...]
    dry_share: tuple[float, ...]

    @property
    def verdict(self) -> str:
        """What the evidence says of its cost of sale."""
        return str(self.row["verdict"])

    @property
    def fine(self) -> bool:
        """Its cost of sale is within target by evidence."""
        return self.verdict == Verdict.WITHIN.value


def judged_campaigns(facts: Facts, selection: Selection, source: str, *, every: bool = False) -> pl.DataFrame:
    """Campaigns of the part, judged among all of the account's; every: those too that neither run nor did anything."""
    account = selection.account

    def make() -> pl.DataFrame:
        rows = _with_silent(
            campaign_frames.campaign_sums(facts, account.id, selection.window, source),
            setting_frames.campaign_settings(facts, account.id, selection.window),
            every=every,
        )
        days = facts.monthly_days(account.id, source, selection.window)
        judged = targeting.judged(evidence.with_priors(rows, ()), days, selection.aims, account.min_clicks)
        return purposes.held_back(facts, selection, judged)

    return selection.within(facts, facts.kept("judged campaigns", account.id, make, *selection.judging, source, every))


def _with_silent(rows: pl.DataFrame, settings: pl.DataFrame, *, every: bool) -> pl.DataFrame:
    """
    With the campaigns that run by their settings, or all that have any, and have no row in the window: their budgets
    are given all the same.
    """
    runs = pl.lit(True) if every else pl.col("state").cast(pl.String) == State.ENABLED.value
    silent = settings.filter(runs).join(rows, on="campaign_id", how="anti")
    if silent.is_empty():
        return rows
    blank = silent.select(pl.col(name) for name in silent.columns if name in rows.columns).with_columns(
        pl.lit(0, rows.schema[name]).alias(name) for name in MEASURES
    )
    return pl.concat(
        [rows, blank.cast({name: rows.schema[name] for name in blank.columns if name not in MEASURES}, strict=False)],
        how="diagonal_relaxed",
    )


def source_of(facts: Facts, selection: Selection) -> str | None:
    """The first report that holds the days of campaigns; the one that holds most; None where none does."""
    counts = {kind: facts.held_days(selection.account.id, kind, selection.window) for kind in SOURCES}
    best = max(SOURCES, key=lambda kind: counts[kind])
    return best if counts[best] else None


def campaign_rows(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Every enabled campaign with a known budget, a row each: what `judged_campaigns` has, budget (units a day), idle,
    spare, usual_share, dry_days, held_days, from_hour, runs_dry, missed and missed_spend (units per 30 days, sales at
    full elasticity), missed_a_day (spend per dry day of those that run dry), by_hour and dry_share (lists of 24, null
    without hours). What misses most first, then by spend.
    """
    source = source_of(facts, selection)
    return facts.kept(
        _HELD,
        selection.account.id,
        lambda: _campaign_rows(facts, selection, source),
        *selection.judging,
        selection.part,
    )


def is_worked_out(facts: Facts, selection: Selection) -> bool:
    """Whether `held` is worked out already."""
    return facts.known(_HELD, selection.account.id, *selection.judging, selection.part) is not None


def _campaign_rows(facts: Facts, selection: Selection, source: str | None) -> pl.DataFrame:
    account, window = selection.account, selection.window
    rows = judged_campaigns(facts, selection, source or SOURCES[0])
    settings = setting_frames.campaign_settings(facts, account.id, window).select("campaign_id", "daily_budget")
    if "daily_budget" not in rows.columns:
        rows = rows.join(settings, on="campaign_id", how="left")
    runs = pl.col("state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value
    rows = rows.filter(runs & pl.col("daily_budget").is_not_null()).with_columns(
        pl.col("campaign").cast(pl.String), budget=pl.col("daily_budget") / MICRO
    )
    spent = _spent(facts, selection, source or SOURCES[0], rows["campaign_id"])
    used = rules.usage(rows["budget"].to_numpy(), spent, account.settings.idle)
    days = facts.monthly_days(account.id, "hourly", window)
    monthly = month_factor(days) / MICRO
    return (
        rows.with_columns(
            idle=pl.Series(used.idle), spare=pl.Series(used.spare), usual_share=pl.Series(used.usual_share)
        )
        .join(days_out_of_budget(facts, selection), on="campaign_id", how="left")
        .join(_clock(facts, selection, days), on="campaign_id", how="left")
        .with_columns(
            pl.col("dry_days").fill_null(0),
            held_days=pl.lit(days),
            missed=pl.col("missed_sales").fill_null(0.0) * monthly,
            missed_spend=pl.col("gone_spend").fill_null(0.0) * monthly,
            runs_dry=(pl.col("dry_days") > 0).fill_null(False)
            & (pl.col("dry_days") >= account.settings.dry.often * days),
        )
        .with_columns(
            missed_a_day=pl.when("runs_dry").then(pl.col("gone_spend") / MICRO / pl.col("dry_days")).otherwise(0.0)
        )
        .drop("missed_sales", "gone_spend")
        .sort(["missed", "spend", "campaign"], descending=[True, True, False])
    )


def _spent(facts: Facts, selection: Selection, source: str, campaigns: pl.Series) -> Floats:
    """Campaign × day held, units; 0 where a day has no row."""
    days = sorted(span.last for span in facts.days(selection.account.id, source, selection.window))
    place = pl.DataFrame({"day": days}, schema={"day": pl.Date}).with_row_index("at")
    number = pl.DataFrame({"campaign_id": campaigns}).with_row_index("of")
    rows = (
        delivery_frames.campaign_spend_days(facts, selection.account.id, selection.window, source)
        .join(place, on="day")
        .join(number, on="campaign_id")
    )
    matrix = np.zeros((len(campaigns), len(days)))
    matrix[rows["of"].to_numpy(), rows["at"].to_numpy()] = rows["spend"].to_numpy() / MICRO
    return matrix


def days_out_of_budget(facts: Facts, selection: Selection) -> pl.DataFrame:
    """campaign_id, dry_days, from_hour (middling), missed_sales and gone_spend (micro-units of the window)."""
    # In order, so that fractions are summed the same way each time.
    by_day = (
        out_of_budget.hours(facts, selection)
        .group_by("campaign_id", "day", maintain_order=True)
        .agg(pl.col("missed_sales", "missed_spend").sum(), first=pl.col("hour").min())
    )
    return by_day.group_by("campaign_id", maintain_order=True).agg(
        pl.col("missed_sales").sum(),
        gone_spend=pl.col("missed_spend").sum(),
        dry_days=pl.len().cast(pl.Int64),
        from_hour=pl.col("first").sort().get(pl.len() // 2),
    )


def _clock(facts: Facts, selection: Selection, days: int) -> pl.DataFrame:
    """campaign_id, by_hour: units a usual day spends in each hour, dry_share: how often it is dry; lists of 24."""
    sums = delivery_frames.hour_sums(facts, selection.account.id, selection.window)
    campaigns = sums.select("campaign_id").unique(maintain_order=True).with_row_index("of")
    spend, dry = np.zeros((len(campaigns), DAY)), np.zeros((len(campaigns), DAY))
    for matrix, rows, column in ((spend, sums, "spend"), (dry, out_of_budget.hours(facts, selection), "share")):
        placed = rows.join(campaigns, on="campaign_id", maintain_order="left")
        np.add.at(matrix, (placed["of"].to_numpy(), placed["hour"].to_numpy()), placed[column].to_numpy())
    return campaigns.select(
        "campaign_id",
        by_hour=(
            pl.Series(spend / MICRO / days, dtype=pl.List(pl.Float64))
            if len(campaigns)
            else pl.lit(None, pl.List(pl.Float64))
        ),
        dry_share=(
            pl.Series(np.minimum(1.0, dry / days), dtype=pl.List(pl.Float64))
            if len(campaigns)
            else pl.lit(None, pl.List(pl.Float64))
        ),
    )


def lines(rows: pl.DataFrame) -> list[Line]:
    """Rows of `held` as values, in their order."""
    return [
        Line(
            row["campaign"],
            row["campaign_id"],
            row["budget"],
            row["idle"],
            row["usual_share"],
            row,
            row["dry_days"],
            row["held_days"],
            row["from_hour"],
            row["runs_dry"],
            hours.missed(row["missed"]),
            row["missed_spend"],
            row["missed_a_day"],
            tuple(row["by_hour"] or ()),
            tuple(row["dry_share"] or ()),
        )
        for row in rows.to_dicts()
    ]


@dataclass(frozen=True, slots=True)
class BudgetMove:
    """
    Budgets moved: what changes, the sum before and after, the total that was asked for (units a day; None: as it is),
    the changes (none where nothing moves) and what all of them do in 30 days.
    """

    budgets: tuple[Budget, ...]
    before: float
    after: float
    package: Package = ()
    effect: Projected = NOTHING
    asked: float | None = None


def moved(facts: Facts, selection: Selection, asked: float | None = None) -> BudgetMove:
    """
    Money from budgets that are never spent to those that run dry; asked: the total a day, as it is
    when None. Kept.
    """
    key = (*selection.judging, selection.part, asked)
    return facts.kept(
        "budget move", selection.account.id, lambda: _moved(selection, campaign_rows(facts, selection), asked), *key
    )


def _moved(selection: Selection, rows: pl.DataFrame, asked: float | None) -> BudgetMove:
    before = float(rows["budget"].sum())
    concerned = rows.filter((pl.col("spare") > 0) | pl.col("runs_dry"))
    other = before - float(concerned["budget"].sum())
    by_name = {line.campaign: line for line in lines(concerned)}
    spending = [
        Spending(line.campaign, line.budget, line.row["spare"], line.missed_a_day, line.fine, line.row["acos"])
        for line in by_name.values()
    ]
    budgets = rules.moves(spending, None if asked is None else asked - other)
    after = before + sum(each.change for each in budgets)
    if not budgets:
        return BudgetMove((), before, after, asked=asked)
    changes = []
    for each in budgets:
        line = by_name[each.campaign]
        result = promise(selection, line.row, "budgets", line.campaign, _effect(line, each))
        row = change(
            Entity.CAMPAIGN, "daily_budget", each.campaign, f"{each.new:.2f}", f"{each.old:.2f}", DRY_BUDGETS.key
        )
        changes.append((row, result))
    together = total(_effect(by_name[each.campaign], each) for each in budgets)
    return BudgetMove(budgets, before, after, tuple(changes), together, asked)


def proposal(rows: pl.DataFrame, moved: BudgetMove, *, hours_told: bool) -> Proposal:
    """The move of budgets, or why none is proposed. rows: of `held`; hours_told: whether hours are held day by day."""
    subject = EntityKey(Subject.CAMPAIGN, name="budgets")
    if not moved.package:
        why = Reason(_why_not(rows, hours_told=hours_told))
        return Proposal(subject, "budgets", Headline(HeadlineKey.NOTHING_TO_MOVE), reasons=(why,))
    gives, takes = ([each.change for each in moved.budgets if (each.change < 0) is giving] for giving in (True, False))
    reasons = []
    if takes:
        reasons.append(Reason(ReasonKey.BUDGETS_CUT_OFF, (len(takes),)))
    if gives:
        reasons.append(Reason(ReasonKey.BUDGETS_GIVE))
    beyond = 0.0 if moved.asked is None else moved.after - moved.asked
    if moved.asked is not None and beyond > _CENT:
        reasons.append(Reason(ReasonKey.BUDGETS_ASK_MORE, (moved.asked, moved.after)))
    if -beyond > _CENT:
        reasons.append(Reason(ReasonKey.BUDGETS_NOT_NEEDED, (-beyond,)))
    if takes:
        headline = Headline(HeadlineKey.MOVE_BUDGETS, (sum(takes), len(gives), len(takes)))
    else:
        headline = Headline(HeadlineKey.TAKE_BUDGETS, (-sum(gives), len(gives)))
    return Proposal(subject, "budgets", headline, moved.package, tuple(reasons), effect=moved.effect)


_CENT: Final = 0.005


def _why_not(rows: pl.DataFrame, *, hours_told: bool) -> ReasonKey:
    dry = rows.filter("runs_dry")
    if dry.is_empty():
        return ReasonKey.NO_BUDGET_DRY if hours_told else ReasonKey.HOURS_UNTOLD
    fine = (dry["verdict"] == Verdict.WITHIN.value).any()
    return ReasonKey.NO_BUDGET_LEFT if fine else ReasonKey.NOT_WITHIN_TARGET


def _effect(line: Line, budget: Budget) -> Projected:
    """
    What a budget does in 30 days: what it is raised by is spent on the days it ran dry, and sells what those hours
    usually sell, at the usual elasticity; what is taken from an idle one was not spent.
    """
    if budget.change <= 0 or not line.missed_spend or not line.missed_a_day:
        return NOTHING
    part = min(1.0, budget.change / line.missed_a_day)
    spend = line.missed_spend * part
    gains = line.missed
    return Projected(
        Range(spend * hours.ELASTICITIES[0], spend * hours.ELASTICITY, spend),
        Range(gains.low * part, gains.middle * part, gains.high * part),
    )
