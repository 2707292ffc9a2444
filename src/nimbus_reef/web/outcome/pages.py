"""Outcome as its pages show it: sums by kind, changes, one change opened; audits."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import taking_back
from nimbus_reef.analysis.outcome import judged, listed
from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome, Outcomes
from nimbus_reef.analysis.outcome.listed import AWAY, PROFIT, SumBy, SumLine
from nimbus_reef.analysis.outcome.wholes import whole_of
from nimbus_reef.analysis.tables import Field, by_key, choice
from nimbus_reef.core.control import Control
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.core.profit_outcome import ProfitOutcome, WholeFigures
from nimbus_reef.core.windows import month_of, per_month
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.kit.lists import listed as listed_rows
from nimbus_reef.web.kit.promises_kept import MONEY
from nimbus_reef.web.kit.tables import Head, TableView, head_of, table_of
from nimbus_reef.web.outcome import wording
from nimbus_reef.web.outcome.money_axis import SMALL, AxisMark, MoneyAxis, axis

VIEW: Final = taking_back.VIEW
_GROUPINGS: Final = tuple(each.value for each in SumBy)
_MOST_SUMS: Final = 6
"""So many lines are shown of each kind of money where they are campaigns."""


def _rows(ask: Context) -> pl.DataFrame:
    return listed.rows(judged.outcomes(ask.facts, ask.selection))


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What changes are filtered and sorted by."""
    return by_key(
        Field("what", "change", pl.col("what"), text=True),
        Field("verdict", "verdict", pl.col("verdict"), options=tuple(each.value for each in OutcomeVerdict)),
        choice("kind", "kind", pl.col("kind"), rows),
        Field("money", "judged by", pl.col("money"), options=(PROFIT, AWAY)),
        Field("promised", "promised", pl.col("promised"), "¤", "Per 30 days, as accepted", digits=0),
        Field("result", "result", pl.col("result"), "¤", "Per 30 days, middle of the 80 % range", digits=0),
        Field("miss", "result less promise", pl.col("result") - pl.col("promised"), "¤", "Per 30 days", digits=0),
        Field("clicks", "clicks", pl.col("clicks") * 100, "%", "What the change did to clicks", digits=0),
        Field("price", "CPC", pl.col("price") * 100, "%", "How the price of a click moved", digits=0),
        Field("worth", "worth of a click", pl.col("worth") * 100, "%", "By the orders since", digits=0),
        Field("sent", "sent", pl.col("sent"), day=True),
        Field("sending", "sending", pl.col("sending"), digits=0),
        Field("until", "too early until", pl.col("until"), day=True),
        choice("campaign", "campaign", pl.col("campaign"), rows),
        choice("why", "why not judged", pl.col("unjudged"), rows),
    )


LIST: Final = ListSpec(
    _rows, fields, ("what", "where", "campaign", "kind"), "miss", lambda _, rows: listed.table(rows), view=VIEW
)
_READY: Final = (("all", ()), *((each.value, (f"verdict:is:{each.value}",)) for each in OutcomeVerdict))


@dataclass(frozen=True, slots=True)
class SumRow:
    """A sum on the page. mark: of its verdict; drawn: its promise and result, None where nothing has a result."""

    name: str
    whole: bool
    changes: str
    promised: str
    result: str
    verdict: str
    mark: str
    until: str
    drawn: AxisMark | None
    href: str = ""


@dataclass(frozen=True, slots=True)
class OutcomeLine:
    """A change in the table."""

    key: str
    name: str
    where: str
    mark: str
    href: str
    moved: str
    clicks: str
    price: str
    worth: str
    price_tone: str
    worth_tone: str
    away: str
    promised: str
    result: str
    tone: str
    drawn: AxisMark | None
    verdict: str
    under: str


@dataclass(frozen=True, slots=True)
class OutcomeView:
    """
    The changes: the answer, sums on one axis with its ticks, and the table. narrowed: ready filters; by: what the sums
    are by; more: how many of them are left out.
    """

    answer: Answer
    sums: Sequence[SumRow]
    axis: MoneyAxis
    ticks: Sequence[tuple[float, str]]
    small: MoneyAxis
    table: TableView
    narrowed: Sequence[tuple[str, str, bool]]
    by: str
    more: str
    groupings: tuple[str, ...] = _GROUPINGS
    accepts: bool = True


def page(ask: Context) -> OutcomeView:
    """The view of changes."""
    figures, scope = ask.figures, ask.scope
    found = judged.outcomes(ask.facts, ask.selection)
    of = listed_rows(ask, LIST)
    by = SumBy(scope.choice("by", _GROUPINGS))
    every = listed.sums(found, by=by)
    lines = _largest(every) if by is SumBy.CAMPAIGN else every
    money = axis([range_of(line) for line in lines if line.total.changes])
    shown = of.found.shown
    small = axis([(row["low"], row["high"]) for row in shown.to_dicts() if row["low"] is not None], SMALL)
    here = ask.url("outcome.view", name=VIEW)
    columns = ("promised", "result")
    heads = (
        head_of(of.fields["what"], of.found.sort, figures, css="first", rises=True),
        Head("old → new", css="words"),
        *(head_of(of.fields[name], of.found.sort, figures) for name in ("clicks", "price", "worth")),
        *(head_of(of.fields[name], of.found.sort, figures) for name in columns),
        head_of(of.fields["verdict"], of.found.sort, figures, css="words"),
        Head("", spoken="result on an axis"),
    )
    table = table_of(
        ask,
        of,
        [_line(ask, row, small, here) for row in shown.to_dicts()],
        heads,
        here=here,
        name="outcome",
        things="changes",
        picks=ask.writes,
        empty="No change was carried out yet." if of.rows.is_empty() else "No changes match.",
        totals=_totals(found, of.found.rows, figures),
    )
    narrowed = tuple(
        (
            f"{words} {figures.count(len(of.rows) if not where else int((of.rows['verdict'] == words).sum()))}",
            scope.link(here, where=where, page=1, open=""),
            set(where) == set(scope.where),
        )
        for words, where in _READY
    )
    mature = figures.day(found.mature) if found.mature else ""
    answer = (
        Answer(*wording.lead(listed.sums(found), figures, mature))
        if len(of.rows)
        else Answer(
            "No change was carried out yet.",
            "Send changes from the plan, or mark a downloaded sheet as carried out. Each is judged after two weeks.",
        )
    )
    return OutcomeView(
        answer,
        [sum_row(line, money, figures, scope.link(here, where=_where(line, by), page=1, open="")) for line in lines],
        money,
        [(place, figures.short(amount)) for place, amount in money.ticks()],
        small,
        table,
        narrowed,
        by.value,
        f"{figures.counted(len(every) - len(lines), 'smaller sum')} not shown" if len(every) > len(lines) else "",
    )


def _largest(lines: Sequence[SumLine]) -> list[SumLine]:
    """The first lines of profit and of spend that stays away, each after its whole."""
    wholes = [place for place, line in enumerate(lines) if line.whole]
    ends = [*wholes[1:], len(lines)]
    return [
        line for first, end in zip(wholes, ends, strict=True) for line in lines[first : min(end, first + _MOST_SUMS)]
    ]


def _where(line: SumLine, by: SumBy) -> tuple[str, ...]:
    """The filters that leave the changes of a sum."""
    if by is SumBy.CAMPAIGN:
        return (f"money:is:{line.money}", f"campaign:is:{line.name}")
    if line.month is None:
        return (f"kind:is:{line.name}",)
    days = month_of(line.month)
    return (f"kind:is:{line.name}", f"sent:ge:{days.first}", f"sent:le:{days.last}")


def range_of(line: SumLine) -> tuple[float, float]:
    """What an axis has to hold of a sum, per 30 days."""
    low, high = line.total.range
    ends = (low, high, line.total.promised)
    return per_month(min(ends), 1), per_month(max(ends), 1)


def sum_row(line: SumLine, money: MoneyAxis, figures: Figures, href: str = "") -> SumRow:
    """A sum as its table shows it."""
    total = line.total
    verdict = total.verdict if total.changes else OutcomeVerdict.TOO_EARLY
    low, high = (per_month(end, 1) for end in total.range)
    early = verdict is OutcomeVerdict.TOO_EARLY
    return SumRow(
        f"{line.name}, {figures.month_and_year(line.month)}" if line.month else line.name,
        line.whole,
        f"{figures.count(total.changes)} of {figures.count(line.changes)}"
        if total.changes != line.changes
        else figures.count(line.changes),
        figures.number(per_month(total.promised, 1), 0) if total.changes else "–",
        figures.number(per_month(total.result, 1), 0) if total.changes else "–",
        verdict.value,
        wording.MARKS[verdict.value],
        f"until {figures.day(line.until)}" if early and line.until else "",
        money.mark(per_month(total.promised, 1), per_month(total.result, 1), low, high, verdict.value)
        if total.changes
        else None,
        "" if line.whole else href,
    )


def _totals(found: Outcomes, rows: pl.DataFrame, figures: Figures) -> tuple[tuple[str, str], ...]:
    """What the rows that match come to, as their sums say it."""
    match = set(rows["row_id"])
    lines = listed.sums(found, [each for each in found.entries if str(each.done.id) in match])
    return tuple(
        (
            f"{MONEY[line.money]} per 30 days",
            " of ".join(figures.money(per_month(each, 1)) for each in (line.total.result, line.total.promised)),
        )
        for line in lines
        if line.whole and line.total.changes
    )


def _line(ask: Context, row: Mapping[str, Any], small: MoneyAxis, here: str) -> OutcomeLine:
    figures = ask.figures
    until = figures.day(row["until"]) if row["until"] else ""
    verdict, under = wording.verdict_words(row["verdict"], row["unjudged"], until)
    drawn = None
    if row["result"] is not None:
        promised = row["promised"] if row["promised"] > 0 else None
        drawn = small.mark(promised, row["result"], row["low"], row["high"], row["verdict"])

    def moved(name: str) -> str:
        return "" if row[name] is None else figures.relative(row[name], 0)

    share = row["away"]
    return OutcomeLine(
        row["row_id"],
        row["what"],
        " · ".join(filter(None, (row["where"], row["campaign"] if row["campaign"] != row["what"] else ""))),
        wording.MARKS[row["verdict"]],
        ask.scope.link(here, open=row["row_id"]),
        f"{row['old']} → {row['new']}" if row["old"] else row["new"],
        moved("clicks"),
        moved("price"),
        moved("worth"),
        _tone(row["price"], rises=False),
        _tone(row["worth"], rises=True),
        f"{figures.rate(min(max(1 - share, 0.0), 1.0), 0)} came back" if share is not None else "",
        figures.number(row["promised"], 0) if row["promised"] else "–",
        "–" if row["result"] is None else figures.number(row["result"], 0),
        {"kept": "gain", "did not": "loss"}.get(row["verdict"], ""),
        drawn,
        verdict,
        under,
    )


def _tone(moved: float | None, *, rises: bool) -> str:
    """Whether a move earns or costs; a small one does neither."""
    if moved is None or abs(moved) < 0.05:
        return ""
    return "gain" if (moved > 0) is rises else "loss"


@dataclass(frozen=True, slots=True)
class SideRow:
    """A figure before and after a change, and of the control."""

    name: str
    before: str
    after: str
    control: str


@dataclass(frozen=True, slots=True)
class WeighedRow:
    """A change of clicks with its range on one line; mark: hollow for the parts, solid for both together."""

    name: str
    text: str
    at: float
    low: float
    high: float
    solid: bool


@dataclass(frozen=True, slots=True)
class OutcomeDetail:
    """What the drawer shows of one outcome. zero: where no change lies on the line of clicks; reason:
    why it was proposed.
    """

    period: str
    sides: tuple[SideRow, ...]
    weighed: tuple[WeighedRow, ...]
    zero: float
    control: str
    note: str
    reason: str


_LINE: Final = 150.0


def drawer(ask: Context, row_id: str) -> Drawer:
    """One change opened: what it did, before and after beside its control, and what takes it back."""
    found = judged.outcomes(ask.facts, ask.selection)
    each = found.of(int(row_id)) if row_id.isdecimal() else None
    if each is None:
        raise NotFound("This change was not carried out.", remedy="Choose one in the list.")
    figures = ask.figures
    change = each.change
    bold, rest = wording.sentence(each, figures)
    (proposal,) = taking_back.proposals(ask.facts, ask.selection, [row_id])
    row = listed.rows(Outcomes((each,), found.response, found.mature)).to_dicts()[0]
    since = f"sent {figures.day(each.done.sent)}, sheet {each.done.sending_id}, row {change.row}"
    links = (
        (
            "All changes of this sheet",
            ask.scope.link(
                ask.url("outcome.view", name=VIEW), where=(f"sending:eq:{each.done.sending_id}",), page=1, open=""
            ),
        ),
        ("The sheet and its answers", ask.scope.elsewhere(ask.url("sending.one", sending_id=each.done.sending_id))),
    )
    moved = f"{change.old_value} → {change.new_value}" if change.old_value else change.new_value
    return Drawer(
        row_id,
        f"{row['what']}, {moved}",
        " · ".join(filter(None, (row["where"], change.campaign, since))),
        bold,
        rest,
        offered(ask, proposal),
        links=links,
        outcome=_detail(each, figures),
        acts="Take back",
    )


def _detail(each: ChangeOutcome, figures: Figures) -> OutcomeDetail | None:
    if each.after is None or (each.control is None and each.sides is None):
        return None
    period = (
        f"{figures.days(each.before)} against {figures.days(each.after)}" if each.before else figures.days(each.after)
    )
    return OutcomeDetail(
        period,
        _sides(each, figures),
        *_weighed(each, figures),
        _control_words(each, figures),
        _note(each),
        each.change.reason,
    )


def _sides(each: ChangeOutcome, figures: Figures) -> tuple[SideRow, ...]:
    control = each.control
    if each.stopped_sides is not None and each.stopped is not None:
        stop = each.stopped_sides
        growth = figures.relative(control.growth - 1, 0) if control else ""
        return (
            SideRow("days", figures.count(stop.days_before), figures.count(stop.days_after), ""),
            SideRow("its clicks a day", figures.number(stop.clicks_before / stop.days_before, 1), "0", growth),
            SideRow(
                "clicks elsewhere a day",
                figures.number(stop.elsewhere_before / stop.days_before, 1),
                figures.number(stop.elsewhere_after / stop.days_after, 1),
                growth,
            ),
        )
    if each.wholes is not None and each.whole is not None:
        return _whole_sides(each.wholes, each.whole, control, figures)
    sides = each.sides
    if sides is None:
        return ()
    before_days = max(1, sides.days_before)

    def paid(spend: float, clicks: float) -> str:
        return figures.money(ratio(spend, clicks), 2) if clicks else "–"

    known = control is not None and control.rows > 0
    return (
        SideRow("days", figures.count(sides.days_before), figures.count(sides.days_after), ""),
        SideRow(
            "clicks a day",
            figures.number(sides.clicks_before / before_days, 1),
            figures.number(sides.clicks_after / sides.days_after, 1),
            figures.relative(control.growth - 1, 0) if control and known else "",
        ),
        SideRow(
            "CPC",
            paid(sides.spend_before, sides.clicks_before),
            paid(sides.spend_after, sides.clicks_after),
            figures.relative(control.price - 1, 0) if control and known else "",
        ),
        SideRow("orders since", "", figures.count(round(sides.orders_after)), ""),
    )


def _whole_sides(
    sides: tuple[WholeFigures, WholeFigures], result: ProfitOutcome, control: Control | None, figures: Figures
) -> tuple[SideRow, ...]:
    """Clicks, spend, sales and profit a day of a whole before and after."""
    growth = figures.relative(control.growth - 1, 0) if control and control.rows else ""
    then, now = sides

    def row(name: str, before: float, after: float, of_control: str = "") -> SideRow:
        return SideRow(name, figures.number(before, 1), figures.number(after, 1), of_control)

    return (
        SideRow("days", figures.count(then.days), figures.count(now.days), ""),
        row("clicks a day", then.clicks / then.days, now.clicks / now.days, growth),
        row("spend a day", then.spend / then.days, now.spend / now.days),
        row("sales a day", then.sales / then.days, now.sales / now.days),
        row("profit a day, as the control moved", result.before, result.after),
    )


def _weighed(each: ChangeOutcome, figures: Figures) -> tuple[tuple[WeighedRow, ...], float]:
    """The usual answer of clicks, what was seen, and both together, on one line."""
    if each.price is None:
        return (), 0.0
    clicks = each.price.clicks
    entries = (
        ("usual answer", clicks.expected, False),
        ("seen here", clicks.seen, False),
        ("weighed together", (clicks.mean, clicks.variance), True),
    )
    ends = [mean + side * 1.2816 * math.sqrt(variance) for _, (mean, variance), _ in entries for side in (-1, 1)]
    low, high = min(0.0, *ends), max(0.0, *ends)

    def place(value: float) -> float:
        return round(4 + (_LINE - 8) * (value - low) / max(high - low, 1e-9), 1)

    rows = []
    for name, (mean, variance), solid in entries:
        half = 1.2816 * math.sqrt(variance)
        text = figures.relative(math.exp(mean) - 1, 0)
        rows.append(WeighedRow(name, text, place(mean), place(mean - half), place(mean + half), solid))
    return tuple(rows), place(0.0)


def _control_words(each: ChangeOutcome, figures: Figures) -> str:
    if each.control is None:
        return ""
    if not each.control.rows:
        return "Nothing was left untouched to compare with, so the range is wider."
    return f"Control: {figures.counted(each.control.rows, 'target')} that nothing changed in the same days."


def _note(each: ChangeOutcome) -> str:
    said = []
    if each.whole is not None:
        said.append(f"Judged on its whole {whole_of(each.done).level}: what that left after ads, before and after.")
    if not each.margin_known and (each.worth or each.whole) is not None:
        said.append("The margin is not known: sales are valued at the target ACOS.")
    return " ".join(said)
