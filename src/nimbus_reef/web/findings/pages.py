"""What Findings says: groups by what to do, their weight, and what was put away."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from types import MappingProxyType
from typing import Any, Final
from urllib.parse import parse_qsl, urlencode

from nimbus_reef.core.checks import CHECKS, WITH_ITS_PRODUCT, WORDS_TO_BID_LOWER, WORDS_TO_SHUT_OUT
from nimbus_reef.core.checks.registry import Subject
from nimbus_reef.core.costly_words import Fate
from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.recurring import Key, News
from nimbus_reef.errors import BadInput
from nimbus_reef.jobs.audit import WINNERS, Findings, Group
from nimbus_reef.jobs.products import CHECKS as PRODUCT_CHECKS
from nimbus_reef.jobs.recurring import Recurring
from nimbus_reef.store.away import PutAway
from nimbus_reef.store.closings import Closing
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.strips import TRADE_NAMES, ahead_words, value_words
from nimbus_reef.web.targeting.drawer import word_fact
from nimbus_reef.web.targeting.pages import mark_of

SHOWN: Final = 8
SNOOZE_DAYS: Final = 14
SNOOZE_CLICKS: Final = 30
LONGEST_REASON: Final = 512
_SEE_ALL: Final[Mapping[str, tuple[str, ...]]] = {
    "costly-targets": ("verdict:is:costly", "orders:gt:0"),
    "no-order-targets": ("verdict:is:costly", "orders:eq:0"),
    "wasted-terms": ("verdict:is:costly", "orders:eq:0"),
    WITH_ITS_PRODUCT.key: (),
    WORDS_TO_SHUT_OUT.key: (f"fate:is:{Fate.SHUT_OUT}",),
    WORDS_TO_BID_LOWER.key: (f"fate:is:{Fate.BID_LOWER}",),
    WINNERS: ("orders:ge:2", "verdict:is:fine"),
}
"""Filters that show about the same rows in Targeting."""


_NO_NEWS: Final[Mapping[Key, News]] = MappingProxyType({})


NOT_OF_ONE_ROW: Final = frozenset({WITH_ITS_PRODUCT.key, WORDS_TO_BID_LOWER.key, *PRODUCT_CHECKS})
"""Findings about more than a target or term: nothing to accept at once, no clicks to wait for."""


@dataclass(frozen=True, slots=True)
class Line:
    """One finding. view and row open the evidence; members are the rows an action is for."""

    row_id: str
    view: str
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
class Block:
    """Findings that need the same thing done."""

    key: str
    title: str
    to_do: str
    view: str
    amount: str
    gain: bool
    weighs: str
    lines: tuple[Line, ...]
    more: int
    see_all: tuple[str, ...]
    acceptable: bool


def _view(group: Group) -> str:
    return {
        Subject.TARGET: "targets", Subject.TERM: "terms", Subject.PRODUCT: "products", Subject.CATEGORY: "categories",
        Subject.PHRASE: "words",
    }[group.subject]  # fmt: skip


def blocks(
    found: Findings, days: int, every: str, figures: Figures, news: Mapping[Key, News] = _NO_NEWS
) -> list[Block]:
    """The groups, largest stake first; every: the key of the one shown whole; news: since last time."""
    largest = max((int(group.rows["stake"].max() or 0) for group in found.groups), default=0) or 1  # type: ignore[call-overload]
    return [
        _block(group, found, days, largest, figures, news, whole=group.key == every) for group in found.groups
    ]


def _block(
    group: Group, found: Findings, days: int, largest: int, figures: Figures, news: Mapping[Key, News], *,
    whole: bool,
) -> Block:  # fmt: skip
    gain = group.key == WINNERS
    shown = group.rows if whole else group.rows.head(SHOWN)
    money = int(group.rows["sales"].sum()) * STAKE_DAYS / days if gain else group.stake
    return Block(
        key=group.key,
        title=group.title,
        to_do=group.to_do,
        view=_view(group),
        amount=figures.micro(money),
        gain=gain,
        weighs=_weighs(group, found, days, figures, gain=gain),
        lines=tuple(
            replace(_line(row, group, largest, days, figures), news=news.get((group.key, row["row_id"]), ""))
            for row in shown.to_dicts()
        ),
        more=len(group.rows) - len(shown),
        see_all=_SEE_ALL.get(group.key, ()),
        acceptable=group.key not in NOT_OF_ONE_ROW,
    )


def _weighs(group: Group, found: Findings, days: int, figures: Figures, *, gain: bool) -> str:
    """Whether it matters at this size of account."""
    if gain:
        share = int(group.rows["sales"].sum()) / found.sales if found.sales else None
        return f"{figures.rate(share)} of sales come from them"
    monthly = STAKE_DAYS / days
    of_spend = group.stake / (found.spend * monthly) if found.spend else None
    of_sales = group.stake / (found.sales * monthly) if found.sales else None
    return f"{figures.rate(of_spend)} of spend, {figures.rate(of_sales)} of sales"


def _line(row: Mapping[str, Any], group: Group, largest: int, days: int, figures: Figures) -> Line:
    if group.key in PRODUCT_CHECKS:
        return _product_line(row, group, largest, figures)
    gathered = group.key == WITH_ITS_PRODUCT.key
    gain = group.key == WINNERS
    money = row["sales"] * STAKE_DAYS / days if gain else row["stake"]
    if group.subject is Subject.PHRASE:
        return _word_line(row, group, largest, figures)
    name = row["term"] if group.subject is Subject.TERM else row["target"]
    return Line(
        row_id=row["row_id"],
        view=_view(group),
        open=row["members"][0],
        name=company_name(row["company_level"], row["company"], row["ad_group"]) if gathered else name,
        kind="" if gathered or group.subject is Subject.TERM else row["match_type"],
        where=f"largest: {name}" if gathered else f"{row['campaign']} · {row['ad_group']}",
        mark="fine" if gain else mark_of(row, "evidence"),
        amount=figures.count(from_micro(money)),
        weight=0 if gain else round(100 * row["stake"] / largest, 1),
        why=_why(row, group, figures),
        members=",".join(row["members"]),
        news="",
    )


def _word_line(row: Mapping[str, Any], group: Group, largest: int, figures: Figures) -> Line:
    hit = "none that sells within target"
    if row["good_terms"]:
        hit = f"{figures.count(row['good_terms'])} within target with {figures.counted(row['good_orders'], 'order')}"
    return Line(
        row_id=row["row_id"], view=_view(group), open=row["members"][0], name=row["spelt"], kind="",
        where=f"in {figures.counted(row['word_terms'], 'search term')}, {hit}",
        mark=mark_of(row | {"verdict": "costly"}, "evidence"), amount=figures.count(from_micro(row["stake"])),
        weight=round(100 * row["stake"] / largest, 1), why=word_fact(row, figures), members=",".join(row["members"]),
        news="",
    )  # fmt: skip


def _product_line(row: Mapping[str, Any], group: Group, largest: int, figures: Figures) -> Line:
    return Line(
        row_id=row["row_id"], view=_view(group), open=row["members"][0], name=row["name"], kind="",
        where=row["where"], mark="costly", amount=figures.count(from_micro(row["stake"])),
        weight=round(100 * row["stake"] / largest, 1), why=_product_why(row, figures), members=row["row_id"],
        news="",
    )  # fmt: skip


def _product_why(row: Mapping[str, Any], figures: Figures) -> str:
    """What a product or category did, in a sentence with its figures."""
    kind, *words = row["why"]
    values = row["figures"]
    if kind in ("leaking", "bought"):
        said = f"{figures.change(values[0])} spend, {figures.change(values[1])} sales per 30 days"
        return (
            said
            if kind == "leaking"
            else f"{said}: each further sale cost {figures.rate(values[2], 0)} of it"
        )
    if kind == "fell":
        return f"{words[0]} on {words[1]}; conversion {figures.rate(values[0])} → {figures.rate(values[1])} (coincidence in time, not proof)"
    return "; ".join(
        f"{TRADE_NAMES[metric].lower()} {value_words(metric, value, figures)} against {value_words(metric, typical, figures)}, "
        f"{ahead_words(at, figures).removesuffix(' of peers')}"
        for metric, (at, value, typical) in zip(words, zip(*[iter(values)] * 3, strict=True), strict=True)
    )


def company_name(level: str, company: str, ad_group: str) -> str:
    """What a company that rows are judged in is called."""
    words = {
        "ad_group_id": f"ad group {ad_group}", "main_product": company, "name_part": f"campaigns called {company}",
    }  # fmt: skip
    return words.get(level, company)


def _known_as(row_id: str) -> str:
    """A gathered finding's name from its id, `level:company`."""
    level, divided, company = row_id.partition(":")
    return company_name(level, company, company) if divided else row_id


def _why(row: Mapping[str, Any], group: Group, figures: Figures) -> str:
    clicks, orders = figures.counted(row["clicks"], "click"), figures.counted(row["orders"], "order")
    spent = f"{figures.micro(row['spend'])} spent"
    acos = row["spend"] / row["sales"] if row["sales"] else None
    if group.key == WITH_ITS_PRODUCT.key:
        return f"{figures.counted(len(row['members']), 'target')}, {clicks}, {orders}, ACOS {figures.rate(acos, 0)}"
    if not row["orders"]:
        return f"{clicks}, no order, {spent}"
    return f"{clicks}, {orders}, ACOS {figures.rate(acos, 0)}"


@dataclass(frozen=True, slots=True)
class Answer:
    """The headline: what all of it comes to, the same money counted once."""

    count: str
    amount: str
    share_of_spend: str
    share_of_sales: str
    looked_at: str


def answer(found: Findings, days: int, figures: Figures, unread: Sequence[str] = ()) -> Answer:
    """
    What is likely spent above target per 30 days, and whether that matters. unread: what could not be
    looked at, since no report of it is held in these days.
    """
    monthly = STAKE_DAYS / days
    return Answer(
        figures.counted(found.count(), "finding"),
        figures.micro(found.overspend),
        figures.rate(found.overspend / (found.spend * monthly) if found.spend else None),
        figures.rate(found.overspend / (found.sales * monthly) if found.sales else None),
        " ".join(
            [
                "Every target and term that was looked at is within target, too young to tell, or put away.",
                *(
                    f"{each[0].upper()}{each[1:]} could not be looked at: no report of these days is held."
                    for each in unread
                ),
            ]
        ),
    )


def written_down(found: Findings, days: int, figures: Figures) -> list[dict[str, Any]]:
    """Every finding as a closed audit keeps it: check, row, name, where, stake."""
    return [
        {
            "check": group.key,
            "row": row["row_id"],
            "name": line.name,
            "where": line.where,
            "stake": row["stake"],
        }
        for group in found.groups
        for row in group.rows.to_dicts()
        for line in [_line(row, group, 1, days, figures)]
    ]


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


def _days_of(address: str) -> int | None:
    """How many days a closed audit looked at, where it was written down."""
    days = dict(parse_qsl(address)).get("looked_at", "")
    return int(days) if days.isdecimal() else None


def since_last(
    found: Findings, recurring: Recurring, figures: Figures, days: int | None = None, most: int = SHOWN
) -> SinceLast | None:
    """
    What changed since the last audit that was closed; null where none was. days: those looked at now:
    over another number of them, what is new or gone may be so for that alone, which is said instead.
    """
    last = recurring.last
    if last is None:
        return None
    before = _days_of(last.address)
    if days is not None and before is not None and before != days:
        return SinceLast(
            figures.day(last.at.date()),
            f"it looked at {before} days, this looks at {days}: what is new or gone between them cannot be told. "
            f"Choose {before} days to compare.", (), 0,
        )  # fmt: skip
    changed = recurring.since
    gone = sorted(
        (each for each in last.found if (each["check"], each["row"]) in changed.gone),
        key=lambda each: each["stake"], reverse=True,
    )  # fmt: skip
    titles = {key: check.title for key, check in {**CHECKS, **PRODUCT_CHECKS}.items()}
    return SinceLast(
        figures.day(last.at.date()),
        f"{figures.counted(changed.count(News.NEW), 'finding')} new, {figures.count(changed.count(News.BACK))} "
        f"came back, {figures.count(len(gone))} gone; overspend {figures.micro(last.overspend)} → "
        f"{figures.micro(found.overspend)} per 30 days.",
        tuple(
            Gone(
                each["name"],
                each["where"],
                titles.get(each["check"], "A winner"),
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
            each.id, f"{each.at:%Y-%m-%d %H:%M}", each.by, _bare(each.address),
            ", ".join(f"{name} {value}" for name, value in parse_qsl(_bare(each.address))) or "the usual",
            figures.count(len(each.found)), figures.micro(each.overspend),
        )
        for each in before
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class Hidden:
    """A finding put away."""

    id: int
    what: str
    until: str
    reason: str
    by: str


def hidden(away: Sequence[PutAway], names: Mapping[str, str]) -> list[Hidden]:
    """What is away, until when and why; names: what a row is called."""
    return [
        Hidden(
            each.id,
            names.get(each.row_id, _known_as(each.row_id)),
            "for good" if each.for_good
            else f"until {each.until_day}" if each.until_day
            else f"until {each.until_clicks} more clicks",
            each.reason,
            f"{each.by}, {each.since}" if each.by else str(each.since),
        )
        for each in away
    ]  # fmt: skip


@dataclass(frozen=True, slots=True)
class End:
    """When a finding that is put away comes back: a day, so many more clicks, or never."""

    day: date | None = None
    clicks: int | None = None


def end_of(form: Mapping[str, str], today: date) -> End:
    """The end that the form says; BadInput where it cannot be read."""
    until = form.get("until", "")
    if until == "day":
        try:
            day = date.fromisoformat(form.get("day", ""))
        except ValueError:
            raise BadInput(
                f"“{form.get('day', '')}” is no day.", remedy="Write it like 2026-12-01."
            ) from None
        if day <= today:
            raise BadInput(f"{day} is not ahead of today.", remedy="Choose a later day.")
        return End(day=day)
    if until == "clicks":
        clicks = form.get("clicks", "")
        if not clicks.isdecimal() or not 0 < int(clicks) <= 100_000:
            raise BadInput(f"“{clicks}” is no number of clicks.", remedy="Write a whole number above 0.")
        return End(clicks=int(clicks))
    if until == "good":
        if not form.get("reason", "").strip():
            raise BadInput("Dismissing for good needs a reason.", remedy="Say why, for whoever looks next.")
        return End()
    raise BadInput("When should it come back?", remedy="Choose a day, clicks, or for good.")


def usual_end(today: date) -> date:
    """The day that the form suggests."""
    return today + timedelta(days=SNOOZE_DAYS)


def known_checks() -> frozenset[str]:
    """Keys that a finding may be put away under."""
    return frozenset(CHECKS) | {WINNERS} | frozenset(PRODUCT_CHECKS)
