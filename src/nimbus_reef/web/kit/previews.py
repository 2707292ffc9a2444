"""What an acceptance would do, before it is done: the same picture wherever more than a handful is accepted."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis.acceptance import Assessed
from nimbus_reef.analysis.wording import change_words, mark, rise_words, value_words, why_nothing, worded
from nimbus_reef.core import projection
from nimbus_reef.core.changes import Change, named
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.projection import Projected
from nimbus_reef.core.promises import projected
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.reasons import ReasonKey
from nimbus_reef.core.settings import Settings
from nimbus_reef.core.windows import per_month
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.settled_first import First, first_for

MOST_LINES: Final = 1_000
"""Rows shown with a tick of their own."""
_KINDS: Final[Mapping[str, tuple[str, str]]] = {
    "pause": ("pause", "pauses"),
    "start": ("start again", "starts again"),
    "cut": ("bid lowered", "bids lowered"),
    "raise": ("bid raised", "bids raised"),
    "negative": ("negative", "negatives"),
    "new target": ("new target", "new targets"),
    "new product ad": ("new product ad", "new product ads"),
    "placement": ("bid adjustment", "bid adjustments"),
    "off-site limited": ("off-site limit", "off-site limits"),
    "bidding": ("bidding strategy", "bidding strategies"),
    "package": ("set of changes", "sets of changes"),
}
_CLICKS: Final = ((0, 0, "no click"), (1, 1, "one click"), (2, 9, "2 to 9 clicks"), (10, 10**12, "10 clicks or more"))


@dataclass(frozen=True, slots=True)
class PreviewLine:
    """
    One row that something is done on. harm: what it also stops; first: what is better settled before; left: it was left
    out by hand.
    """

    key: str
    name: str
    where: str
    headline: str
    spend: str
    sales: str
    harm: str
    first: str
    asks: bool
    left: bool
    mark: str
    changes: tuple[str, ...]
    did: tuple[str, ...] = ()


def did(each: Proposal, figures: Figures) -> tuple[str, ...]:
    """Clicks, orders, spend, ACOS and the chance of being above target of a row; none where it is not judged."""
    found = each.evidence
    if found is None:
        return ()
    acos = figures.percent(ratio(found.spend, found.sales), 0) if found.sales else "no sales" if found.spend else "–"
    chance = figures.percent(found.chance, 0) if found.chance is not None else "–"
    return figures.count(found.clicks), figures.count(found.orders), figures.count(found.spend), acos, chance


@dataclass(frozen=True, slots=True)
class AcceptancePreview:
    """
    All of it in words. title: on what; done: how many changes by kind; effect: of all of it; judged: on what verdicts
    and clicks; harm: what is lost with it; skipped: why, and on how many; refused: prices that would rise; replaced:
    what leaves the plan for it, replaced_effect: what that promised; first: what is better settled before; asks: what
    is beyond the settings, empty where nothing is; raises: raises of what never made an order, left out; stops: other
    searches that negatives stop; count: how many rows are done; changes: how many changes that is; more: rows that are
    not shown.
    """

    title: str
    thing: str
    done: str
    effect: str
    judged: tuple[str, ...]
    harm: str
    lines: tuple[PreviewLine, ...]
    count: int
    changes: int
    skipped: tuple[str, ...]
    refused: tuple[str, ...]
    replaced: tuple[str, ...]
    replaced_rows: tuple[int, ...]
    replaced_effect: str
    first: tuple[First, ...]
    asks: str
    raises: int
    stops: tuple[str, ...]
    more: int = 0

    @property
    def acting(self) -> tuple[str, ...]:
        """The keys of the rows that are done."""
        return tuple(line.key for line in self.lines if not line.left)


def by_kind(kinds: Iterable[str], figures: Figures) -> list[str]:
    """How many changes of each kind, in words: 3 pauses, 12 bids lowered."""
    order = list(_KINDS)
    counts = sorted(Counter(kinds).items(), key=lambda each: order.index(each[0]) if each[0] in _KINDS else len(order))
    return [f"{figures.count(count)} {_named(kind, count)}" for kind, count in counts]


def preview(
    asked: Assessed, title: str, thing: str, days: int, settings: Settings, figures: Figures
) -> AcceptancePreview:
    """What an acceptance would do. days: of the window that it rests on."""
    acting, going, acceptance = asked.acting, asked.going, asked.acceptance
    beyond = {each.row_id for each in going if each.is_beyond(settings.asks_raise, settings.asks_spend)}
    stops = [(each, one) for each in going for one in each.stops]
    shown = {each.row_id for each in going} | asked.left
    ordered = sorted(
        (each for each in asked.offered if each.row_id in shown and each.package),
        key=lambda each: abs(each.whole.spend.middle),
        reverse=True,
    )
    first = {each.row_id: first_for(each, asked.before.get(each.row_id, ()), figures) for each in going}
    before = {(one.area, one.row_id): one for ones in first.values() for one in ones}
    return AcceptancePreview(
        title=title,
        thing=thing,
        done=", ".join(by_kind((each.kind for each in going), figures)) or "nothing",
        effect=_effect(projection.total(each.whole for each in going), figures),
        judged=_judged(going, figures),
        harm=_harm(going, days, figures),
        lines=tuple(
            _line(each, first.get(each.row_id, ()), figures, asks=each.row_id in beyond, left=each.row_id in asked.left)
            for each in ordered[:MOST_LINES]
        ),
        count=len(going),
        changes=sum(len(each.package) for each in going),
        skipped=_skipped(asked, figures),
        refused=tuple(
            f"{worded(acting[place], figures).name}: {rise_words(rise, figures)}"
            for place, rise in sorted((acceptance.refused or {}).items())
        ),
        replaced=tuple(_replaced(change) for change in acceptance.replaced),
        replaced_rows=tuple(asked.replaced_rows),
        replaced_effect=_effect(
            projection.total(
                projected(each.change, each.promise) for each in asked.planned if each.change in acceptance.replaced
            ),
            figures,
        ),
        first=tuple(before.values()),
        asks=_asks([each for each in going if each.row_id in beyond], figures),
        raises=sum(each.why is ReasonKey.RAISE_WITHOUT_ORDER for each in asked.offered),
        stops=tuple(
            f"“{each.name}” also stops “{one.term}”: {figures.counted(one.clicks, 'click')},"
            f" {figures.counted(one.orders, 'order')}, {figures.micro(one.spend)} spent"
            for each, one in sorted(stops, key=lambda pair: (-pair[1].orders, -pair[1].spend))
        ),
        more=max(0, len(ordered) - MOST_LINES),
    )


def _named(kind: str, count: int) -> str:
    one, several = _KINDS.get(kind, (kind, f"{kind}s"))
    return one if count == 1 else several


def _effect(together: Projected, figures: Figures) -> str:
    """Of all of it; empty where nothing is known."""
    spend, sales = together.spend, together.sales
    if not together.known or not any((spend.low, spend.high, sales.low, sales.high)):
        return ""
    return f"{figures.span(spend)} spend, {figures.span(sales)} sales per 30 days"


def _judged(going: Sequence[Proposal], figures: Figures) -> tuple[str, ...]:
    """By verdict, by clicks, and how many have no sale; nothing of rows that are not judged."""
    rows = [each.evidence for each in going if each.evidence is not None]
    if not rows:
        return ()
    verdicts = Counter(each.verdict for each in rows)
    order = [verdict.value for verdict in Verdict]
    by_verdict = ", ".join(
        f"{figures.count(verdicts[each])} {each}"
        for each in sorted(verdicts, key=lambda one: order.index(one) if one in order else 99)
    )
    by_clicks = ", ".join(
        f"{figures.count(count)} with {words}"
        for least, most, words in _CLICKS
        if (count := sum(least <= each.clicks <= most for each in rows))
    )
    no_sale = sum(each.spend > 0 and each.sales <= 0 for each in rows)
    texts = [f"By verdict: {by_verdict}", f"By clicks: {by_clicks}"]
    if no_sale:
        texts.append(f"{figures.count(no_sale)} of them {'has' if no_sale == 1 else 'have'} no sale")
    return tuple(texts)


def _harm(going: Sequence[Proposal], days: int, figures: Figures) -> str:
    """
    What the rows that end brought, as it was and as it is expected, and what else is stopped; the sums agree with the
    effect.
    """
    ending = [each for each in going if each.ends]
    if not ending:
        return ""
    orders = sum(each.evidence.orders for each in ending if each.evidence)
    sold = per_month(sum(each.evidence.sales for each in ending if each.evidence), days)
    stops = [one for each in ending for one in each.stops]
    if not orders:
        text = "The stopped rows made no order in this period."
    else:
        text = f"The stopped rows made {figures.counted(orders, 'order')} and sold {figures.money(sold)} per 30 days."
    expected = -sum(each.effect.sales.middle for each in ending)
    if expected >= 1:
        text += f" Expected sales without luck: {figures.money(expected)} per 30 days."
    if stops:
        hurt = sum(one.orders for one in stops)
        also = per_month(sum(one.sales for one in stops) / 1e6, days)
        text += (
            f" Their negatives also stop {figures.counted(len(stops), 'other search', 'other searches')} with "
            f"{figures.counted(hurt, 'order') if hurt else 'no order'}"
            f"{f', {figures.money(also)} sales per 30 days' if also >= 1 else ''}: included in the effect above."
        )
    return text


def _skipped(asked: Assessed, figures: Figures) -> tuple[str, ...]:
    acceptance = asked.acceptance
    reasons = Counter(why_nothing(each) for each in asked.offered if not each.package)
    reasons["already in the plan"] += len(acceptance.already)
    reasons["the plan pauses them"] += len(acceptance.stopped)
    reasons["the plan changes them together with others. Remove those first"] += len(acceptance.packaged)
    reasons["another row here makes the same change"] += len(acceptance.contradicted)
    reasons["left out by you"] += sum(each.row_id in asked.left for each in asked.offered)
    return tuple(f"{figures.count(count)}: {why}" for why, count in reasons.most_common() if count)


def _replaced(change: Change) -> str:
    name, place = named(change)
    where = " · ".join(part for part in (change.campaign, place) if part and part != name)
    return f"row {change.row}, {change.field.replace('_', ' ')} {value_words(change)}: {name} ({where})"


def _asks(beyond: Sequence[Proposal], figures: Figures) -> str:
    if not beyond:
        return ""
    most = max(beyond, key=lambda each: each.effect.spend.high)
    change, promise = max(most.package, key=lambda pair: projected(*pair).spend.high)
    spend = projected(change, promise).spend.high
    return (
        f"{figures.counted(len(beyond), 'change')} above the limit in your settings. The largest goes"
        f" from {change.old_value} to {change.new_value}, with up to {figures.money(max(0.0, spend))} more spend in 30"
        " days."
    )


def _line(each: Proposal, first: Sequence[First], figures: Figures, *, asks: bool, left: bool) -> PreviewLine:
    effect, evidence, result = each.whole, each.evidence, worded(each, figures)
    harm = (
        [f"{figures.counted(evidence.orders, 'order')} stopped"] if evidence and each.ends and evidence.orders else []
    )
    if each.stops:
        hurt = sum(one.orders for one in each.stops)
        harm.append(
            f"also stops {figures.counted(len(each.stops), 'search', 'searches')}"
            + (f" with {figures.counted(hurt, 'order')}" if hurt else "")
        )
    known = effect.known
    return PreviewLine(
        each.row_id,
        result.name,
        result.where,
        result.headline,
        figures.span(effect.spend) if known else "unknown",
        figures.span(effect.sales) if known else "unknown",
        ", ".join(harm),
        "; ".join(dict.fromkeys(one.short for one in first)),
        asks,
        left,
        mark(each),
        tuple(change_words(change) for change in each.changes) if len(each.package) > 1 else (),
        did(each, figures),
    )
