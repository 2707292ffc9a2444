"""Carried-out changes as rows, and their sums by kind and by sending."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from enum import Enum
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome, Outcomes
from nimbus_reef.analysis.outcome.kinds import OutcomeKind
from nimbus_reef.core.change_periods import NoVerdict
from nimbus_reef.core.changes import Entity, named
from nimbus_reef.core.outcome import OutcomeSum, OutcomeVerdict, summed
from nimbus_reef.core.windows import per_month
from nimbus_reef.formats.tables import Table

_MONEY: Final = ("promised", "result", "low", "high")
SCHEMA: Final[dict[str, Any]] = {
    "row_id": pl.String,
    "row": pl.Int64,
    "what": pl.String,
    "where": pl.String,
    "campaign": pl.String,
    "ad_group": pl.String,
    "kind": pl.String,
    "money": pl.String,
    "old": pl.String,
    "new": pl.String,
    "sent": pl.Date,
    "sending": pl.Int64,
    "day": pl.Date,
    "days_before": pl.Int64,
    "days_after": pl.Int64,
    "clicks": pl.Float64,
    "price": pl.Float64,
    "worth": pl.Float64,
    "away": pl.Float64,
    "chance": pl.Float64,
    "promised": pl.Float64,
    "result": pl.Float64,
    "low": pl.Float64,
    "high": pl.Float64,
    "verdict": pl.String,
    "unjudged": pl.String,
    "until": pl.Date,
    "within": pl.Boolean,
    "reason": pl.String,
}


def rows(found: Outcomes) -> pl.DataFrame:
    """A row a change: money in units per 30 days; clicks, price, worth: by what part they moved; see `SCHEMA`."""
    return pl.DataFrame([_row(each) for each in found.entries], schema=SCHEMA, orient="row")


def _row(each: ChangeOutcome) -> dict[str, Any]:
    change = each.change
    what, where = named(change)
    return {
        "row_id": str(each.done.id),
        "row": change.row,
        "what": what,
        "where": where,
        "campaign": change.campaign,
        "ad_group": change.ad_group,
        "kind": each.kind.value,
        "money": money_of(each.kind),
        "old": change.old_value,
        "new": change.new_value,
        "sent": each.done.sent,
        "sending": each.done.sending_id,
        "day": each.day,
        "days_before": each.before.days if each.before else None,
        "days_after": each.after.days if each.after else None,
        **_moved(each),
        "away": each.stopped.share if each.stopped else None,
        "chance": each.chance,
        **{name: _month(getattr(each, name)) for name in _MONEY},
        "verdict": each.verdict.value,
        "unjudged": each.unjudged.value if each.unjudged else None,
        "until": each.until,
        "within": each.within,
        "reason": change.reason,
    }


def _moved(each: ChangeOutcome) -> dict[str, float | None]:
    """By what part clicks, their price and their worth moved."""
    if each.price is None or each.worth is None:
        return {"clicks": None, "price": None, "worth": None}
    before, after = each.price.paid
    value = each.worth.value
    return {
        "clicks": math.exp(each.price.clicks.mean) - 1,
        "price": after / before - 1 if before > 0 else None,
        "worth": each.price.worth.value / value - 1 if value > 0 else None,
    }


def _month(daily: float | None) -> float | None:
    return None if daily is None else float(per_month(daily, 1))


def table(found: pl.DataFrame) -> Table:
    """Changes as a file."""
    frame = found.drop("row_id", "within").rename(
        {
            "money": "judged_by",
            "clicks": "clicks_change",
            "price": "cpc_change",
            "worth": "worth_change",
            "away": "spend_away_share",
        }
    )
    money = dict.fromkeys(("promised", "result", "low", "high"), "0.00")
    rates = dict.fromkeys(("clicks_change", "cpc_change", "worth_change", "spend_away_share", "chance"), "0%")
    return Table("outcomes", frame, money | rates)


class SumBy(Enum):
    """What changes are added up by, within each kind of money."""

    KIND = "kind"
    MONTH = "kind and month"
    CAMPAIGN = "campaign"


@dataclass(frozen=True, slots=True)
class SumLine:
    """
    Changes together: name, of a kind or a campaign, with the first day of the month that they were sent in where they
    are added up by months; money: of profit, or of spend that stays away; how many there are, and how many of them
    have a result; their sum per 30 days; until: the day from which on the last of them that is too early can likely be
    told; whole: a sum of sums.
    """

    money: str
    name: str
    changes: int
    total: OutcomeSum
    until: date | None
    whole: bool = False
    month: date | None = None


PROFIT, AWAY = "Profit after ads", "Spend that stays away"


def sums(found: Outcomes, entries: Sequence[ChangeOutcome] | None = None, by: SumBy = SumBy.KIND) -> list[SumLine]:
    """Profit and spend that stays away, each by its kinds or otherwise; the same money never in both."""
    chosen = found.entries if entries is None else entries
    lines: list[SumLine] = []
    for money in (PROFIT, AWAY):
        own = [each for each in chosen if money_of(each.kind) == money and counted(each)]
        if own:
            lines += [_line(money, money, own, found, whole=True), *_parts(money, own, found, by)]
    return lines


def money_of(kind: OutcomeKind) -> str:
    """Which money a kind of changes is judged by."""
    return AWAY if kind.stops else PROFIT


def _parts(money: str, own: Sequence[ChangeOutcome], found: Outcomes, by: SumBy) -> list[SumLine]:
    """Kinds in their order, the newest month first; campaigns by what their changes brought."""
    parts: dict[tuple[str, date | None], list[ChangeOutcome]] = {}
    for each in sorted(own, key=lambda each: list(OutcomeKind).index(each.kind)):
        month = each.done.sent.replace(day=1) if by is SumBy.MONTH else None
        name = each.change.campaign if by is SumBy.CAMPAIGN else each.kind.value
        parts.setdefault((name, month), []).append(each)
    lines = [_line(money, name, part, found, month=month) for (name, month), part in parts.items()]
    if by is SumBy.CAMPAIGN:
        return sorted(lines, key=lambda line: -abs(line.total.result))
    return sorted(lines, key=lambda line: -line.month.toordinal() if line.month else 0)


def sums_table(found: Outcomes) -> Table:
    """What the changes of each sheet promised and brought, by kind, as a file: money in units per 30 days."""
    rows = [
        {"sheet": number, "sent": sent, "kind": line.name, "changes": line.changes, **_total(line.total)}
        | {"until": line.until}
        for (sent, number), own in by_sheet(found).items()
        for line in sums(found, own)
    ]
    schema = {
        "sheet": pl.Int64,
        "sent": pl.Date,
        "kind": pl.String,
        "changes": pl.Int64,
        "judged": pl.Int64,
        **dict.fromkeys(_MONEY, pl.Float64),
        "verdict": pl.String,
        "until": pl.Date,
    }
    return Table("sheets", pl.DataFrame(rows, schema=schema, orient="row"), dict.fromkeys(_MONEY, "0.00"))


def _total(of: OutcomeSum) -> dict[str, Any]:
    if not of.changes:
        return {"judged": 0, **dict.fromkeys(_MONEY), "verdict": ""}
    money = zip(_MONEY, (of.promised, of.result, *of.range), strict=True)
    return {"judged": of.changes, **{name: _month(each) for name, each in money}, "verdict": of.verdict.value}


def counted(each: ChangeOutcome) -> bool:
    """
    Whether it has a place in its sum: adjustments that moved with bids tell the money of these bids again, a new
    campaign that of its new targets; and of changes that are judged as one, one counts.
    """
    with_its_own = each.kind is OutcomeKind.ADJUSTMENTS or each.change.entity is Entity.CAMPAIGN
    beside = with_its_own and each.change.package and not each.kind.of_whole
    return not beside and each.unjudged is not NoVerdict.WITH_ANOTHER


def _line(
    money: str,
    name: str,
    entries: Sequence[ChangeOutcome],
    found: Outcomes,
    *,
    whole: bool = False,
    month: date | None = None,
) -> SumLine:
    total = summed([each.part for each in entries if each.part is not None], found.response)
    early = [each.until for each in entries if each.verdict is OutcomeVerdict.TOO_EARLY and each.until is not None]
    return SumLine(money, name, len(entries), total, max(early, default=None), whole, month)


def by_sheet(found: Outcomes) -> dict[tuple[date, int], list[ChangeOutcome]]:
    """Changes by the day and the number of the sheet that they left with, the newest sheet first."""
    parts: dict[tuple[date, int], list[ChangeOutcome]] = {}
    for each in sorted(found.entries, key=lambda one: -one.done.sending_id):
        parts.setdefault((each.done.sent, each.done.sending_id), []).append(each)
    return parts
