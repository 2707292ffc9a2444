"""The plan as a table: its changes by campaign, or sorted and filtered; what a sheet read back would change."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from nimbus_reef.analysis.delivery import plan_prices
from nimbus_reef.analysis.tables import PAGE_ROWS, page_of
from nimbus_reef.analysis.wording import rise_words, together_words
from nimbus_reef.core.changes import ChangeState, named, word_of
from nimbus_reef.core.conflicts import BLOCKS, ConflictKind, PlanConflict
from nimbus_reef.core.plan import ReadBack
from nimbus_reef.core.promises import projected
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import marketplace_links, plan_steps, sendings
from nimbus_reef.store.people.plan_steps import Step, StepKind
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.people.sendings import SERVICE, Sending, SendingState
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.planned import PlanStrip, account_strip, lines, made_under
from nimbus_reef.web.kit.tables import Head, TableView
from nimbus_reef.web.plan.layout_pages import LayoutLink, links

_SORTS: Final[Mapping[str, Callable[[Planned], Any]]] = {
    "row": lambda each: each.change.row,
    "what": lambda each: named(each.change),
    "change": lambda each: (word_of(each.change), each.change.row),
    "spend": lambda each: projected(each.change, each.promise).spend.middle,
    "sales": lambda each: projected(each.change, each.promise).sales.middle,
}


def campaigns(planned: Sequence[Planned]) -> int:
    """How many campaigns the plan changes."""
    return len({each.change.campaign for each in planned})


def kinds(planned: Sequence[Planned]) -> list[tuple[str, int]]:
    """The kinds of change there are, and how many of each, most first."""
    counts: dict[str, int] = {}
    for each in planned:
        counts[word_of(each.change)] = counts.get(word_of(each.change), 0) + 1
    return sorted(counts.items(), key=lambda each: (-each[1], each[0]))


def fitting(planned: Sequence[Planned], query: str, kind: str) -> list[Planned]:
    """Those of a kind (all where none is named) in which every word that is searched for stands somewhere."""
    wanted = query.casefold().split()
    return [
        each
        for each in planned
        if (not kind or word_of(each.change) == kind) and all(word in _text(each) for word in wanted)
    ]


def _text(each: Planned) -> str:
    change = each.change
    entries = (
        change.campaign,
        change.ad_group,
        change.target,
        change.sku,
        change.match_type,
        change.reason,
        word_of(change),
    )
    return " ".join(entries).casefold()


def table(
    planned: Sequence[Planned],
    shown: Sequence[Planned],
    number: int,
    here: str,
    sort: str,
    figures: Figures,
    *,
    picks: bool,
) -> TableView:
    """
    A page of what is shown of the plan: by campaign, or in the order asked for; the last page where there are not so
    many.
    """
    key = sort.removeprefix("-")
    if key and key not in _SORTS:
        raise BadInput(f"The plan is not sorted by “{key}”.", remedy=f"Sort by {', '.join(_SORTS)}.")
    if key:
        ordered = sorted(shown, key=_SORTS[key], reverse=sort.startswith("-"))
    else:
        order = {name: place for place, name in enumerate(dict.fromkeys(p.change.campaign for p in shown))}
        ordered = sorted(shown, key=lambda each: order[each.change.campaign])
    under = made_under(shown)
    folded = {each.id for own in under.values() for each in own}
    ordered = [each for each in ordered if each.id not in folded]
    number, pages = page_of(len(ordered), number)
    cut = ordered[(number - 1) * PAGE_ROWS : number * PAGE_ROWS]
    groups = lines(cut, figures, planned, under)
    flat = {"": [line for each in cut for line in lines([each], figures, planned, under)[each.change.campaign]]}
    return TableView(
        here=here,
        name="plan",
        heads=_heads(figures.symbol, sort),
        groups=flat if key else groups,
        page=number,
        pages=pages,
        opens=False,
        picks=picks,
        things="changes",
        shown=figures.count(len(shown)),
        of=figures.count(len(planned)),
    )


def _heads(symbol: str, sort: str) -> tuple[Head, ...]:
    def head(key: str, label: str, *, rises: bool = True, css: str = "") -> Head:
        now = "ascending" if sort == key else "descending" if sort == f"-{key}" else ""
        after = (f"-{key}" if sort == key else key) if rises else (key if sort == f"-{key}" else f"-{key}")
        return Head(label, sorted=now, sort=after, css=css)

    return (
        head("what", "what", css="first"),
        head("row", "row", css="num"),
        head("change", "change", css="words"),
        Head("old"),
        Head("new"),
        head("spend", f"spend {symbol} per 30 days"),
        head("sales", f"sales {symbol} per 30 days", rises=False),
        Head("reason", css="words"),
        Head("", spoken="take out"),
    )


@dataclass(frozen=True, slots=True)
class StepLine:
    """Something done to the plan, to be undone."""

    id: int
    words: str


_STEPS: Final[Mapping[StepKind, str]] = {
    StepKind.ACCEPTED: "accepted",
    StepKind.REMOVED: "taken out",
    StepKind.READ_BACK: "uploaded in a sheet",
    StepKind.EDITED: "changed by hand",
    StepKind.DONE: "carried out",
}


def step_lines(steps: Sequence[Step], figures: Figures) -> list[StepLine]:
    """What was done to the plan since its last sheet."""
    return [
        StepLine(
            each.id,
            f"{figures.counted(each.changes, 'change')}"
            f" {_STEPS[each.what]}{f' by {each.person}' if each.person else ''}, {each.at:%Y-%m-%d %H:%M}",
        )
        for each in steps
    ]


@dataclass(frozen=True, slots=True)
class SendingLine:
    """A sheet that left; waits: it is not known yet what became of its changes."""

    id: int
    words: str
    waits: bool


def sending_lines(entries: Sequence[Sending], figures: Figures) -> list[SendingLine]:
    """The sheets that left and hold changes, newest first."""
    return [
        SendingLine(
            each.id,
            f"{figures.counted(each.changes, 'change')} {_SHEETS.get(each.sheet, each.sheet)}"
            f"{f' by {each.person}' if each.person else ''}, {each.at:%Y-%m-%d %H:%M}"
            + "".join(
                f"; {figures.count(count)} {state.value}"
                for state, count in each.results.items()
                if state is not ChangeState.SENT
            ),
            bool(each.waiting) and each.state is SendingState.SHEET,
        )
        for each in entries
        if each.changes
    ]


_SHEETS: Final = {"csv": "as CSV", "xlsx": "as XLSX", "own": "as a sheet in your layout", SERVICE: "to the marketplace"}


@dataclass(frozen=True, slots=True)
class ReadLine:
    """What a sheet read back would do to one change."""

    row: int
    what: str
    where: str
    planned: str
    becomes: str


def read_lines(planned: Sequence[Planned], answer: ReadBack) -> list[ReadLine]:
    """The values that would change, then the changes that would leave the plan."""
    before = {each.change.row: each.change for each in planned}
    return [ReadLine(each.row, *named(each), before[each.row].new_value, each.new_value) for each in answer.edited] + [
        ReadLine(each.row, *named(each), each.new_value, "removed from the plan") for each in answer.unplanned
    ]


@dataclass(frozen=True, slots=True)
class WayOut:
    """A way to resolve a conflict: the words of its button and the ids of the changes it takes out."""

    words: str
    ids: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class ConflictLine:
    """Changes that do not go together. title: what it is; words: why; blocks: the sheet does not leave with it."""

    title: str
    words: str
    ways: tuple[WayOut, ...]
    blocks: bool


_TITLES: Final[Mapping[ConflictKind, str]] = {
    ConflictKind.PRICE: "A click above target would cost more than today",
    ConflictKind.SAME_THING: "Two changes of the same thing",
    ConflictKind.ADJUSTMENT_AND_BID: "Adjustment and bid both raise the same click",
    ConflictKind.BOOSTS: "Two boosts at the same time",
    ConflictKind.BOOST_WHILE_PAUSED: "A boost on a paused campaign",
    ConflictKind.STOPS_PROMOTED: "A negative stops a promoted search term",
}
_MOST_WAYS: Final = 4


def conflict_lines(found: Sequence[PlanConflict], planned: Sequence[Planned], figures: Figures) -> list[ConflictLine]:
    """The conflicts of the plan, each with ways to resolve it."""
    by_row = {each.change.row: each for each in planned}
    return [
        ConflictLine(
            _TITLES[each.kind],
            _conflict_words(each, by_row, figures),
            tuple(_way_out(rows, by_row, figures) for rows in each.ways[:_MOST_WAYS]),
            each.kind in BLOCKS,
        )
        for each in found
    ]


def _conflict_words(each: PlanConflict, by_row: Mapping[int, Planned], figures: Figures) -> str:
    changes = [by_row[row].change for row in each.rows if row in by_row]
    campaign = changes[0].campaign if changes else ""
    if each.rise is not None:
        text = rise_words(each.rise, figures) if each.kind is ConflictKind.PRICE else together_words(each.rise, figures)
        return f"{campaign}: {text}."
    if each.kind is ConflictKind.BOOSTS:
        beside = "two planned boosts" if len(each.rows) > 1 else "a planned boost and one in force"
        return f"{campaign}: {beside} run at the same time. Together they raise by {figures.number(each.percent, 0)} %."
    if each.kind is ConflictKind.BOOST_WHILE_PAUSED:
        return (
            f"{campaign} is paused, so {figures.counted(sum(change.field == 'percent' for change in changes), 'boost')}"
            " on it has no effect."
        )
    if each.kind is ConflictKind.STOPS_PROMOTED:
        negative, target = changes[0], changes[-1]
        where = negative.ad_group or "the whole campaign"
        return (
            f"“{negative.target}” as a {negative.match_type.replace('_', ' ')} in {where} stops “{target.target}”,"
            " which the plan makes a target there."
        )
    name, _ = named(changes[0])
    return f"{name} in {campaign} is changed in rows {' and '.join(str(row) for row in each.rows)}."


def _way_out(rows: Sequence[int], by_row: Mapping[int, Planned], figures: Figures) -> WayOut:
    planned = [by_row[row] for row in rows if row in by_row]
    first = planned[0].change
    if len(planned) == 1:
        text = f"Remove row {first.row}, {word_of(first)} {first.old_value} → {first.new_value}".replace("  →", " →")
    else:
        text = f"Remove {figures.counted(len(planned), 'change')} from row {first.row} on"
    return WayOut(text, tuple(each.id for each in planned))


@dataclass(frozen=True, slots=True)
class PlanView:
    """
    The plan. kind: of which alone changes are shown; waiting: how many there are in all; answer: what a sheet read back
    would change; steps: what was accepted and can be taken back; sendings: sheets that left; layouts: those of one's
    own, in which the sheet is offered; linked: the account has a marketplace that changes can be sent to.
    """

    conflicts: Sequence[ConflictLine]
    table: TableView
    summary: Answer
    kinds: Sequence[tuple[str, int]]
    kind: str
    waiting: int
    answer: ReadBack | None
    steps: Sequence[StepLine]
    sendings: Sequence[SendingLine]
    layouts: Sequence[LayoutLink]
    linked: bool


def summary(strip: PlanStrip, campaigns: int, figures: Figures) -> Answer:
    """What the waiting changes come to."""
    bold = f"{figures.counted(strip.count, 'change')} in {figures.counted(campaigns, 'campaign')}."
    rest = [f"Together {strip.spend} spend and {strip.sales} sales per 30 days (80 % range)."]
    if strip.acos:
        rest.append(f"ACOS {strip.acos}.")
    if strip.unknown:
        rest.append(f"The effect of {figures.counted(strip.unknown, 'change')} is unknown.")
    return Answer(bold, " ".join(rest))


def page(ask: Context, planned: Sequence[Planned], answer: ReadBack | None = None) -> PlanView:
    """All waiting changes by campaign."""
    scope, figures, store = ask.scope, ask.figures, ask.facts.store
    kind, offered = scope.own_value("what"), links(ask, planned)
    found = plan_prices.conflicts_of(ask.facts, ask.selection, [each.change for each in planned])
    planned = fitting(planned, scope.query, kind)
    return PlanView(
        conflict_lines(found, planned, figures),
        table(planned, planned, scope.page, ask.url("plan.index"), scope.sort, figures, picks=ask.writes),
        summary(account_strip(ask.facts, scope, figures), campaigns(planned), figures),
        kinds(planned),
        kind,
        len(planned),
        answer,
        step_lines(plan_steps.steps(store, ask.account.id), figures) if ask.writes else [],
        sending_lines(sendings.sendings(store, ask.account.id), figures),
        offered,
        marketplace_links.link(store, ask.account.id) is not None,
    )
