"""What many deeds would do, before they are done: counts, effect, harm, what is left out, what is asked about."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

from nimbus_reef.analysis.deeds import Together
from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.proposals import Proposed
from nimbus_reef.core.proposals import Move
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.judged_rows import deed_words, name_of, where, why_nothing
from nimbus_reef.web.kit.previews import DeedLine, DeedsPreview
from nimbus_reef.web.kit.verdicts import mark_of

SHOWN: Final = 200
_KINDS: Final[Mapping[str, tuple[str, str]]] = {
    "pause": ("pause", "pauses"), "enable": ("start again", "starts again"), "cut": ("bid lowered", "bids lowered"),
    "raise": ("bid raised", "bids raised"), "negative": ("negative", "negatives"),
    "promote": ("target of its own", "targets of their own"),
}  # fmt: skip


def preview(view: View, opened: Sequence[Proposed], told: Together, figures: Figures) -> DeedsPreview:
    """What deeds on rows of a table would do."""
    acts = [each for each in opened if each.proposal.move is not Move.NONE]
    largest = sorted(acts, key=lambda each: abs(each.proposal.projected.spend.middle), reverse=True)
    asked = {id(each) for each in told.asks}
    done = [
        f"{figures.count(told.counts[key])} {words[0] if told.counts[key] == 1 else words[1]}"
        for key, words in _KINDS.items()
        if told.counts.get(key)
    ]
    harm = [f"the rows stopped made {figures.counted(told.lost, 'order')} in these days"] if told.lost else []
    hurt = [each for each in told.stops if each.orders]
    if told.stops:
        with_orders = (
            f", {figures.counted(sum(each.orders for each in hurt), 'order')} among them"
            if hurt
            else ", none with an order"
        )
        harm.append(
            f"negatives also stop {figures.counted(len(told.stops), 'other search', 'other searches')}{with_orders}"
        )
    thing = view.thing if len(opened) == 1 else view.things
    return DeedsPreview(
        title=f"{figures.count(len(opened))} {thing}, before it is done",
        thing=view.thing,
        done=", ".join(done) or "nothing",
        effect=_effect(told, figures),
        harm=_sentence(harm) or "Nothing that made an order in these days is stopped.",
        skipped=tuple(
            f"{figures.count(count)}: {why_nothing(key)}" for key, count in sorted(told.skipped.items(), key=lambda each: -each[1])
        ),
        asks=_asks(told.asks, figures),
        raises=told.skipped.get("raise_without_order", 0),
        stops=tuple(
            f"“{each.by}” also stops “{each.term}”: {figures.counted(each.clicks, 'click')}, {figures.counted(each.orders, 'order')}"
            for each in told.stops[:12]
        ),
        stops_more=max(0, len(told.stops) - 12),
        lines=tuple(_line(view, each, figures, asks=id(each) in asked) for each in largest[:SHOWN]),
        more=max(0, len(acts) - SHOWN),
        count=len(acts),
    )  # fmt: skip


def _effect(told: Together, figures: Figures) -> str:
    """Of all of it; empty where nothing is known."""
    spend, sales = told.projected.spend, told.projected.sales
    if not any((spend.low, spend.high, sales.low, sales.high)):
        return ""
    return f"{figures.span(spend)} spend, {figures.span(sales)} sales per 30 days"


def _sentence(parts: Sequence[str]) -> str:
    said = "; ".join(parts)
    return f"{said[0].upper()}{said[1:]}." if said else ""


def _asks(asks: Sequence[Proposed], figures: Figures) -> str:
    if not asks:
        return ""
    most = max(asks, key=lambda each: each.proposal.projected.spend.high)
    advice = most.proposal.advice
    assert advice is not None
    return (
        f"{figures.counted(len(asks), 'bid')} would rise beyond what the settings let pass unasked; the largest from "
        f"{figures.money(advice.bid, 2)} to {figures.money(advice.proposed, 2)}, with up to "
        f"{figures.money(most.proposal.projected.spend.high)} more spend in 30 days."
    )


def _line(view: View, each: Proposed, figures: Figures, *, asks: bool) -> DeedLine:
    row, effect = each.row, each.proposal.projected
    stops = each.proposal.move in (Move.PAUSE, Move.NEGATIVE) and row["orders"]
    return DeedLine(
        name_of(view, row), where(view, row, figures), deed_words(each, figures),
        figures.span(effect.spend), figures.span(effect.sales),
        f"{figures.counted(row['orders'], 'order')} stopped" if stops else "", asks, row["row_id"], mark_of(row, "evidence"),
    )  # fmt: skip
