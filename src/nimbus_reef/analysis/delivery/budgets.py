"""Budgets of an account: who runs dry, when and what it costs; who never spends; and a move between them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.delivery import hours as hours_of
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.offers import Offer, change, promise
from nimbus_reef.core import budgets as rules
from nimbus_reef.core import evidence, hours, targeting
from nimbus_reef.core.budgets import Budget, Spending
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.hours import DAY, Missed
from nimbus_reef.core.model import MICRO, State, Verdict, from_micro
from nimbus_reef.core.projection import NOTHING, Projected, Range, total
from nimbus_reef.store.reading import campaign_frames, delivery_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

CHECK: Final = "dry-budgets"
OFTEN: Final = 0.1
"""The part of the days from which on a budget runs dry: less happens to any."""
SOURCES: Final = ("campaign_daily", "placement_daily", "hourly")
"""Reports that tell what campaigns spend by day, the better first."""


@dataclass(frozen=True, slots=True)
class Line:
    """
    A campaign's budget. spending: as the rules take it; row: its judged sums; dry_days, from_hour: on how many days it was gone,
    and from when on usually; missed: sales per 30 days; by_hour: what a usual day spends in each hour, dry_share: how often that
    hour is dry; both empty where hours are not held.
    """

    campaign: str
    campaign_id: int
    spending: Spending
    row: Mapping[str, Any]
    dry_days: int
    held_days: int
    from_hour: int | None
    missed: Missed
    missed_spend: float
    by_hour: tuple[float, ...]
    dry_share: tuple[float, ...]

    @property
    def runs_dry(self) -> bool:
        """More often than now and then."""
        return self.dry_days > 0 and self.dry_days >= OFTEN * self.held_days

    @property
    def verdict(self) -> str:
        """What the evidence says of its cost of sale."""
        return str(self.row["verdict"])


def judged_campaigns(facts: Facts, look: Look, source: str) -> pl.DataFrame:
    """Campaigns of the part, judged in the company of all of the account's."""
    account = look.account

    def make() -> pl.DataFrame:
        rows = campaign_frames.campaign_sums(facts, account.id, look.window, source)
        days = facts.monthly_days(account.id, source, look.window)
        return targeting.judged(evidence.with_priors(rows, ()), days, look.aims, account.min_clicks)

    return look.within(facts, facts.kept("judged campaigns", account.id, make, *look.judging, source))


def source_of(facts: Facts, look: Look) -> str | None:
    """The first report that holds the days of campaigns; the one that holds most; None where none does."""
    counts = {kind: facts.held_days(look.account.id, kind, look.window) for kind in SOURCES}
    best = max(SOURCES, key=lambda kind: counts[kind])
    return best if counts[best] else None


def lines(facts: Facts, look: Look) -> list[Line]:
    """Every enabled campaign with a known budget, what runs dry first, by what it misses; then by spend."""
    source = source_of(facts, look)
    if source is None:
        return []

    def make() -> list[Line]:
        return _lines(facts, look, source)

    return facts.kept("budget lines", look.account.id, make, *look.judging, look.part)


def _lines(facts: Facts, look: Look, source: str) -> list[Line]:
    account, window = look.account, look.window
    spent = delivery_frames.campaign_spend_days(facts, account.id, window, source)
    days = sorted(span.last for span in facts.days(account.id, source, window))
    by_campaign = {
        key[0]: dict(part.select("day", "spend").rows())
        for key, part in spent.partition_by("campaign_id", as_dict=True).items()
    }
    dried = {
        key[0]: part
        for key, part in hours_of.dry(facts, look).partition_by("campaign_id", as_dict=True).items()
    }
    clock = _by_hour(facts, look)
    held = facts.monthly_days(account.id, "hourly", window)
    monthly = STAKE_DAYS / held
    settings = setting_frames.campaign_settings(facts, account.id, window).select(
        "campaign_id", "daily_budget"
    )
    rows = judged_campaigns(facts, look, source)
    if "daily_budget" not in rows.columns:
        rows = rows.join(settings, on="campaign_id", how="left")
    made = []
    for row in rows.to_dicts():
        if row["daily_budget"] is None or (row["state"] or State.ENABLED.value) != State.ENABLED.value:
            continue
        told = by_campaign.get(row["campaign_id"], {})
        gone = dried.get(row["campaign_id"])
        dry_days = 0 if gone is None else gone["day"].n_unique()
        sales = 0.0 if gone is None else float(gone["missed_sales"].sum()) / MICRO
        spend = 0.0 if gone is None else float(gone["missed_spend"].sum()) / MICRO
        from_hour = None
        if gone is not None:
            starts = sorted(gone.group_by("day").agg(pl.col("hour").min())["hour"].to_list())
            from_hour = starts[len(starts) // 2]
        shares = [0.0] * DAY
        for hour, share in [] if gone is None else gone.group_by("hour").agg(pl.col("share").sum()).rows():
            shares[hour] = min(1.0, share / held)
        made.append(
            Line(
                str(row["campaign"]), row["campaign_id"],
                Spending(
                    str(row["campaign"]), from_micro(row["daily_budget"]),
                    tuple(from_micro(told.get(day, 0)) for day in days),
                    missed=spend / dry_days if dry_days >= OFTEN * held else 0.0, fine=row["verdict"] == Verdict.FINE.value, acos=row["acos"],
                ),
                row, dry_days, held, from_hour, hours.missed(sales * monthly), spend * monthly,
                clock.get(row["campaign_id"], ()), tuple(shares) if row["campaign_id"] in clock else (),
            )
        )  # fmt: skip
    return sorted(made, key=lambda each: (-each.missed.middle, -each.row["spend"], each.campaign))


def _by_hour(facts: Facts, look: Look) -> dict[int, tuple[float, ...]]:
    rows = delivery_frames.hour_sums(facts, look.account.id, look.window)
    held = facts.monthly_days(look.account.id, "hourly", look.window)
    sums = rows.group_by("campaign_id", "hour").agg(pl.col("spend").sum())
    found: dict[int, list[float]] = {}
    for campaign, hour, spend in sums.rows():
        found.setdefault(campaign, [0.0] * DAY)[hour] = spend / MICRO / held
    return {campaign: tuple(values) for campaign, values in found.items()}


@dataclass(frozen=True, slots=True)
class BudgetMove:
    """Budgets moved: what changes, the sum before and after (units a day), and the offer (None where nothing moves)."""

    budgets: tuple[Budget, ...]
    before: float
    after: float
    offer: Offer | None


def moved(look: Look, held: Sequence[Line], asked: float | None = None) -> BudgetMove:
    """Money from budgets that are never spent to those that run dry; asked: the total a day, as it is when None."""
    made = rules.moves([line.spending for line in held], asked)
    before = sum(line.spending.budget for line in held)
    after = before + sum(each.change for each in made)
    if not made:
        return BudgetMove((), before, after, None)
    by_name = {line.campaign: line for line in held}
    changes = []
    for each in made:
        line = by_name[each.campaign]
        told = promise(look, line.row, "budgets", line.campaign, _effect(line, each))
        row = change(
            Entity.CAMPAIGN, "daily_budget", each.campaign, f"{each.new:.2f}", f"{each.old:.2f}", CHECK
        )
        changes.append((row, told))
    together = total(_effect(by_name[each.campaign], each) for each in made)
    return BudgetMove(made, before, after, Offer("budgets", tuple(changes), together))


def _effect(line: Line, budget: Budget) -> Projected:
    """
    What a budget does in 30 days: what it is raised by is spent on the days it ran dry, and sells what those hours usually sell,
    at the usual elasticity; what is taken from an idle one was not spent.
    """
    if budget.change <= 0 or not line.missed_spend or not line.spending.missed:
        return NOTHING
    part = min(1.0, budget.change / line.spending.missed)
    spend = line.missed_spend * part
    gains = line.missed
    return Projected(
        Range(spend * hours.ELASTICITIES[0], spend * hours.ELASTICITY, spend),
        Range(gains.low * part, gains.middle * part, gains.high * part),
    )
