"""What Findings says: groups by what to do, their weight, and what was put away."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from types import MappingProxyType
from typing import Any, Final
from urllib.parse import parse_qsl, urlencode

import polars as pl
from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis import audit_rounds, purposes
from nimbus_reef.analysis.findings import Findings, Group, named, waits
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.outcome import judged, listed
from nimbus_reef.analysis.recurring import Recurring
from nimbus_reef.analysis.recurring import since_last as recurring_since
from nimbus_reef.analysis.wording import filled
from nimbus_reef.core.checks import CHECKS, Check, Money, Subject
from nimbus_reef.core.checks.registry import bought
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import Verdict, from_micro
from nimbus_reef.core.recurring import Key, News
from nimbus_reef.core.windows import month_factor, per_month
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.typed import whole
from nimbus_reef.store.people import closed_audits
from nimbus_reef.store.people.closed_audits import Closing
from nimbus_reef.store.reading.facts import TARGET_SOURCES
from nimbus_reef.web.findings import put_aside
from nimbus_reef.web.findings.opens import Opens, opens
from nimbus_reef.web.findings.put_aside import Hidden, Ticked
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.promises_kept import promised_and_came
from nimbus_reef.web.kit.verdicts import mark_of, word_fact

SHOWN: Final = 8
SNOOZE_DAYS: Final = 14
SNOOZE_CLICKS: Final = 30
_NOTHING: Final[Mapping[str, str]] = MappingProxyType({})
_NO_NEWS: Final[Mapping[Key, News]] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class FindingLine:
    """One finding. open: the row that its evidence is of; members are the rows an action is for."""

    row_id: str
    open: str
    name: str
    kind: str
    where: str
    mark: str
    amount: str
    weight: float
    why: str
    members: str
    news: str


@dataclass(frozen=True, slots=True)
class FindingBlock:
    """Findings that need the same thing done."""

    key: str
    title: str
    to_do: str
    opens: Opens
    amount: str
    gain: bool
    is_what: str
    weighs: str
    lines: tuple[FindingLine, ...]
    more: int
    see_all: tuple[str, ...]
    acceptable: bool
    waits: bool
    itself: bool


def blocks(
    found: Findings,
    days: int,
    every: str,
    figures: Figures,
    news: Mapping[Key, News] = _NO_NEWS,
    apart: Mapping[str, str] = _NOTHING,
) -> list[FindingBlock]:
    """
    The groups, largest stake first; every: the key of the one shown whole; news: since last time; apart: campaigns that
    are not to sell at the target now, and what they are for.
    """
    largest = max((max(group.rows["stake"].to_list(), default=0) for group in found.groups), default=0) or 1
    return [
        _block(group, found, days, largest, figures, news, apart, whole=group.check.key == every)
        for group in found.groups
    ]


def _block(
    group: Group,
    found: Findings,
    days: int,
    largest: int,
    figures: Figures,
    news: Mapping[Key, News],
    apart: Mapping[str, str],
    *,
    whole: bool,
) -> FindingBlock:
    check = group.check
    shown = group.rows if whole else group.rows.head(SHOWN)
    return FindingBlock(
        key=check.key,
        title=check.title,
        to_do=check.to_do,
        opens=opens(check),
        amount=figures.micro(_money_of(check, group.rows, days)),
        gain=check.money in _GOOD,
        is_what=IS[check.money],
        weighs=_weighs(group, found, days, figures),
        lines=tuple(
            _beside(
                finding_line(row, group, largest, days, figures),
                news.get((check.key, row["row_id"]), ""),
                apart.get(str(row.get("campaign") or ""), ""),
            )
            for row in shown.to_dicts()
        ),
        more=len(group.rows) - len(shown),
        see_all=check.see_all,
        acceptable=check.accepts,
        waits=waits(check),
        itself=check.gathers or check.by_itself,
    )


def _beside(line: FindingLine, news: str, purpose: str) -> FindingLine:
    """The line with its news, and with what its campaign is for where that is not to sell at the target now."""
    return replace(line, news=news, where=" · ".join(each for each in (line.where, purpose) if each))


_AMOUNTS: Final[Mapping[Money, str]] = {Money.EARNED: "sales", Money.SPENT: "spent"}
"""The column of the amount shown with a finding, where it is not its stake."""


def _money(check: Check, row: Mapping[str, Any], days: int) -> float:
    """The amount shown with a finding, micro-units per 30 days: its stake, its sales, or its ad spend."""
    amount = row[_AMOUNTS.get(check.money, "stake")]
    return float(per_month(amount, days) if check.money is Money.EARNED else amount)


def _money_of(check: Check, rows: pl.DataFrame, days: int) -> float:
    """The same of all rows of a group."""
    amount = _AMOUNTS.get(check.money, "stake")
    return _money(check, {amount: int(rows[amount].sum())}, days)


IS: Final[Mapping[Money, str]] = {
    Money.OVERSPEND: "wasted",
    Money.OWN: "wasted",
    Money.MISSED: "missed sales",
    Money.GAIN: "expected gain",
    Money.EARNED: "sales today",
    Money.SPENT: "ad spend on them",
}
"""What the money of a group is, per 30 days."""


_GOOD: Final = frozenset((Money.EARNED, Money.GAIN))


def _weighs(group: Group, found: Findings, days: int, figures: Figures) -> str:
    """Whether it matters at this size of account."""
    if group.check.money is Money.EARNED:
        share = int(group.rows["sales"].sum()) / found.sales if found.sales else None
        return f"{figures.rate(share)} of sales"
    monthly = month_factor(days)
    money = _money_of(group.check, group.rows, days)
    of_spend = money / (found.spend * monthly) if found.spend else None
    of_sales = money / (found.sales * monthly) if found.sales else None
    if group.check.money in (Money.MISSED, Money.GAIN):
        return f"{figures.rate(of_sales)} of sales"
    return f"{figures.rate(of_spend)} of spend, {figures.rate(of_sales)} of sales"


def finding_line(row: Mapping[str, Any], group: Group, largest: int, days: int, figures: Figures) -> FindingLine:
    """A row of a check as its group shows it. largest: the most that is at stake in a row of the group."""
    check = group.check
    if check.reads.named:
        return _named_line(row, group, largest, days, figures)
    if check.subject is Subject.PHRASE:
        return _word_line(row, largest, figures)
    sells, money = check.money is Money.EARNED, _money(check, row, days)
    name, where = named(check, row)
    return FindingLine(
        row_id=row["row_id"],
        open=row["members"][0],
        name=name,
        kind="" if check.gathers or check.subject is Subject.TERM else row["match_type"],
        where=where,
        mark="within" if sells else mark_of(row, "evidence"),
        amount=figures.count(from_micro(money)),
        weight=0 if sells else round(100 * row["stake"] / largest, 1),
        why=_why(row, group, figures),
        members=",".join(row["members"]),
        news="",
    )


def _word_line(row: Mapping[str, Any], largest: int, figures: Figures) -> FindingLine:
    hit = "none within target"
    if row["good_terms"]:
        hit = f"{figures.count(row['good_terms'])} within target with {figures.counted(row['good_orders'], 'order')}"
    return FindingLine(
        row_id=row["row_id"],
        open=row["members"][0],
        name=row["spelt"],
        kind="",
        where=f"in {figures.counted(row['word_terms'], 'search term')}, {hit}",
        mark=mark_of({**row, "verdict": Verdict.ABOVE.value}, "evidence"),
        amount=figures.count(from_micro(row["stake"])),
        weight=round(100 * row["stake"] / largest, 1),
        why=word_fact(row, figures),
        members=",".join(row["members"]),
        news="",
    )


def _named_line(row: Mapping[str, Any], group: Group, largest: int, days: int, figures: Figures) -> FindingLine:
    name, where = named(group.check, row)
    sells, money = group.check.money is Money.EARNED, _money(group.check, row, days)
    by_campaign = opens(group.check).key == "campaign"
    return FindingLine(
        row_id=row["row_id"],
        open=row["campaign"] if by_campaign else row["members"][0],
        name=name,
        kind="",
        where=where,
        mark="within" if group.check.money in _GOOD else "above",
        amount=figures.count(from_micro(money)),
        weight=0 if sells else round(100 * row["stake"] / largest, 1),
        why=_why(row, group, figures),
        members=row["row_id"],
        news="",
    )


def _why(row: Mapping[str, Any], group: Group, figures: Figures) -> str:
    if group.check.gathers:
        many = "{clicks:counted click}, {orders:counted order}, ACOS {acos:rate 0}"
        return f"{figures.counted(len(row['members']), 'target')}, {filled(many, row, figures)}"
    return filled((group.check.sentence or bought)(row), row, figures)


def answer(found: Findings, days: int, figures: Figures, unread: Sequence[str] = ()) -> Answer:
    """
    What is wasted per 30 days, the same money counted once, and whether that matters. unread: what could not be
    checked, since no report of it is loaded.
    """
    missing = [f"{each[0].upper()}{each[1:]}: not checked, no report loaded." for each in unread]
    if not found.groups:
        rest = "Every target and search term is within target, too early to tell, or snoozed."
        return Answer("No problems found in this period.", " ".join([rest, *missing]))
    monthly = month_factor(days)
    of_spend, of_sales = (ratio(found.overspend, each * monthly) for each in (found.spend, found.sales))
    parts = [
        f"{figures.rate(of_spend)} of spend, {figures.rate(of_sales)} of sales, in"
        f" {figures.counted(found.count(), 'finding')}."
    ]
    if found.missed:
        parts.append(f"Missed sales: {figures.micro(found.missed)}.")
    return Answer(f"{figures.micro(found.overspend)} wasted above target per 30 days.", " ".join([*parts, *missing]))


@dataclass(frozen=True, slots=True)
class Gone:
    """A finding of the last audit that is none any more; amount: what was at stake then."""

    name: str
    where: str
    title: str
    amount: str


@dataclass(frozen=True, slots=True)
class SinceLast:
    """An audit against the last one closed: in a sentence, and what is gone."""

    at: str
    words: str
    gone: tuple[Gone, ...]
    gone_more: int
    came: str = ""


def _days_of(address: str) -> int | None:
    """How many days a closed audit looked at, where it was written down."""
    return MultiDict(parse_qsl(address)).get("looked_at", type=whole)


def since_last(
    found: Findings, recurring: Recurring, figures: Figures, days: int | None = None, most: int = SHOWN
) -> SinceLast | None:
    """
    What changed since the last audit that was closed; None where none was. days: those looked at now:
    over another number of them, what is new or gone may be so for that alone, which is said instead.
    """
    last = recurring.last
    if last is None:
        return None
    before = _days_of(last.address)
    if days is not None and before is not None and before != days:
        return SinceLast(
            figures.day(last.at.date()),
            f"it covered {before} days, this one {days}. Choose {before} days to see what is new or gone.",
            (),
            0,
        )
    changed = recurring.since
    gone = sorted(
        (each for each in last.found if (each["check"], each["row"]) in changed.gone),
        key=lambda each: each["stake"],
        reverse=True,
    )
    return SinceLast(
        figures.day(last.at.date()),
        f"{figures.counted(changed.count(News.NEW), 'finding')} new, {figures.count(changed.count(News.BACK))} "
        f"back, {figures.count(len(gone))} gone. Wasted spend {figures.micro(last.overspend)} → "
        f"{figures.micro(found.overspend)} per 30 days.",
        tuple(
            Gone(
                each["name"],
                each["where"],
                CHECKS[each["check"]].title if each["check"] in CHECKS else "",
                figures.micro(each["stake"]),
            )
            for each in gone[:most]
        ),
        max(0, len(gone) - most),
    )


@dataclass(frozen=True, slots=True)
class Past:
    """An audit that was closed."""

    id: int
    at: str
    by: str
    address: str
    settings: str
    count: str
    overspend: str


def _bare(address: str) -> str:
    return urlencode([pair for pair in parse_qsl(address) if pair[0] != "looked_at"])


def past(before: Sequence[Closing], figures: Figures) -> list[Past]:
    """The closed audits, newest first, each with the address that looks the same way again."""
    return [
        Past(
            each.id,
            f"{each.at:%Y-%m-%d %H:%M}",
            each.by,
            _bare(each.address),
            ", ".join(f"{name} {value}" for name, value in parse_qsl(_bare(each.address))) or "the usual",
            figures.count(len(each.found)),
            figures.micro(each.overspend),
        )
        for each in before
    ]


def usual_end(today: date) -> date:
    """The day that the form suggests."""
    return today + timedelta(days=SNOOZE_DAYS)


@dataclass(frozen=True, slots=True)
class FindingsView:
    """
    Everything found, by what to do. hidden, ticked: what is out of sight; until, clicks: what a form to put findings
    away suggests; newest_closing: the audit closed last, which another person may have closed meanwhile.
    """

    answer: Answer
    blocks: Sequence[FindingBlock]
    since: SinceLast | None
    past: Sequence[Past]
    hidden: Sequence[Hidden]
    ticked: Sequence[Ticked]
    until: date
    clicks: int
    newest_closing: int


def page(ask: Context, found: Findings, today: date, unfolded: str) -> FindingsView:
    """The view. unfolded: the check of which all rows are listed."""
    recurring, days, figures = since(ask, found), monthly_days(ask), ask.figures
    return FindingsView(
        answer(found, days, figures, _unread(ask)),
        blocks(found, days, unfolded, figures, recurring.since.news, purposes.set_apart(ask.facts, ask.selection)),
        _with_what_came(since_last(found, recurring, figures, ask.scope.window.days), ask, recurring),
        past(recurring.closings, figures),
        *put_aside.put_aside(ask, found.hidden),
        usual_end(today),
        SNOOZE_CLICKS,
        closed_audits.newest_id(ask.facts.store, ask.account.id),
    )


def _with_what_came(since: SinceLast | None, ask: Context, recurring: Recurring) -> SinceLast | None:
    """What the changes since the last audit promised and brought beside it."""
    if since is None or recurring.last is None:
        return since
    found = judged.outcomes(ask.facts, ask.selection)
    own = audit_rounds.sent_since(found, recurring.last.at.date())
    if not own:
        return since
    words = promised_and_came(listed.sums(found, own), ask.figures)
    sent = ask.figures.counted(len(own), "change")
    return replace(since, came=f"{sent} sent since. {words or 'It is too early to tell what came of them.'}")


def since(ask: Context, found: Findings) -> Recurring:
    """What changed since the audit closed last."""
    return recurring_since(ask.facts, ask.account, found, ask.scope.part)


def monthly_days(ask: Context) -> int:
    """The days that sums of search terms are scaled to 30 days from."""
    return ask.days("search_term_daily")


def _unread(ask: Context) -> list[str]:
    """What findings could not be looked for, since no report of it is held in this period."""
    kinds = {"targets": TARGET_SOURCES, "search terms": ("search_term_daily",), "products": ("product_ad_daily",)}
    return [name for name, of in kinds.items() if lacking(ask.facts, ask.account, ask.scope.window, of)]
