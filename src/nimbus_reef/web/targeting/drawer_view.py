"""The drawer of a judged row: its evidence, its trend, what is proposed on it and what else that touches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import polars as pl

from nimbus_reef.analysis import earlier_decisions, judged_proposals, order, own_actions
from nimbus_reef.analysis.acceptance import InPlan
from nimbus_reef.analysis.brands import brand_of
from nimbus_reef.analysis.judged_proposals import JudgedRow
from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.wording import home_words, reason_words, worded
from nimbus_reef.core.changes import Change
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import State, from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.recommendations import Move
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.reading import row_frames
from nimbus_reef.web.kit import charts, luck, settled_first
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Offered
from nimbus_reef.web.kit.luck import Luck
from nimbus_reef.web.kit.marks import changes_of_row
from nimbus_reef.web.kit.settled_first import First
from nimbus_reef.web.kit.splits import Why
from nimbus_reef.web.kit.verdicts import mark_of, verdict_at_length
from nimbus_reef.web.targeting import context, drawer
from nimbus_reef.web.targeting.drawer import Elsewhere


@dataclass(frozen=True, slots=True)
class Harm:
    """What a negative on a term would also stop, exactly and as a phrase, and where else the term sells."""

    exact: Sequence[Elsewhere] = ()
    phrase: Sequence[Elsewhere] = ()
    sells: str = ""
    sells_in: Sequence[tuple[str, str, str]] = ()


@dataclass(frozen=True, slots=True)
class PastBid:
    """A bid that worked once: as it is typed, and what it brought."""

    bid: str
    words: str


@dataclass(frozen=True, slots=True)
class RowDrawer:
    """A judged row, opened; see the template for where each of it stands."""

    id: str
    name: str
    where: str
    mark: str
    verdict: str
    by_words: str
    brand: str
    fact: str
    measure: str
    cohort: str
    picture: Luck | None
    trend: Any
    needs_days: str
    changes: Sequence[tuple[str, str]]
    has_bids: bool
    why: Why | None
    strips: Any
    offer: Offered
    destinations: Sequence[tuple[str, str]]
    elsewhere: Sequence[Elsewhere]
    all_terms: str
    harm: Harm
    products: Sequence[Elsewhere]
    places: int
    before: Sequence[First]
    break_even: str
    simple: str
    decided: Sequence[tuple[str, str]] = ()
    back_to: PastBid | None = None


def opened(ask: Context, view: View, row_id: str) -> JudgedRow:
    """The row of a key with what is recommended for it; NotFound where it did nothing in the window."""
    rows = judged_proposals.judged(ask.facts, ask.selection, view.subject).filter(pl.col("row_id") == row_id)
    if rows.is_empty():
        raise NotFound(
            f"This {view.thing} has no activity in this period.", remedy="Choose another period, or close it."
        )
    return judged_proposals.recommended(ask.facts, ask.selection, view.subject, rows)[0]


def proposal_of(ask: Context, view: View, row_id: str, destination: str = "") -> Proposal:
    """What is proposed on a row. destination: the ad group that was chosen for a term that gets a target of its own."""
    found = opened(ask, view, row_id)
    found = found.sent_to(destination) if destination else found
    return judged_proposals.proposal_of(ask.selection, view.subject, found)


def row_drawer(ask: Context, view: View, row_id: str) -> RowDrawer:
    """The drawer of a row."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    found = opened(ask, view, row_id)
    row, name = found.row, str(found.row[view.named_by])
    proposal = judged_proposals.proposal_of(selection, view.subject, found)
    fact, measure = drawer.sentence(row, figures, view.things)
    trend = _trend(ask, view, found)
    if view.subject is Subject.TARGET:
        worked = judged_proposals.worked_at(selection, trend, row["target_acos"])
        proposal = replace(proposal, reasons=(*proposal.reasons, *worked))
    stepped = [None if bid is None else from_micro(bid) for bid in trend["bid"]]
    changes = changes_of_row(
        row,
        charts.bid_changes(trend["day"].to_list(), stepped, figures),
        row_frames.changes(facts, ask.account.id, judged_proposals.history(selection)),
    )
    phrase = view.subject is Subject.PHRASE
    place = reason_words(judged_proposals.place_of(view.subject, row), figures)
    return RowDrawer(
        row_id,
        name,
        place if phrase else f"{row['match_type']} · {row['campaign']} · {row['ad_group']}",
        mark_of(row, "evidence"),
        verdict_at_length(row),
        drawer.decided_by_words(row, judged_proposals.deciding(facts, selection, view.subject, row), figures),
        drawer.brand_words(brand_of(facts, selection, name)),
        fact,
        measure,
        drawer.cohort(row, figures, view.things),
        luck.of_judged(row, figures),
        (
            charts.money_and_bid(
                trend["day"].to_list(),
                [from_micro(value) for value in trend["spend"]],
                stepped,
                figures=figures,
                first_shown=max(selection.window.first, *trend["day"].head(1).to_list()),
                changes=changes,
            )
            if len(trend)
            else None
        ),
        _needs_days(ask, view),
        [(figures.day(each.day), each.words) for each in reversed(changes[-6:])],
        any(bid is not None for bid in stepped),
        context.why_it_moved(facts, view, ask.scope, row, figures),
        context.against_peers(facts, ask.scope, row, figures),
        Offered(worded(proposal, figures), _in_plan(ask, proposal), len(proposal.package)),
        [(each.key, home_words(each.campaign, each.ad_group, each.new)) for each in found.destinations],
        _elsewhere(ask, view, row),
        " ".join(judged_proposals.beginnings(row["phrase"])) if phrase else "",
        _harm(ask, row) if view.subject is Subject.TERM else Harm(),
        (
            drawer.products_hit(found.products, figures, len(found.places))
            if found.recommendation.move in (Move.NEGATIVE, Move.PAUSE)
            else ()
        ),
        len(found.places),
        _before(ask, found, proposal),
        drawer.break_even_words(judged_proposals.break_even(facts, ask.account, row), figures),
        row["simple_verdict"],
        _decided(ask, row) if view.subject is Subject.TARGET else (),
        _back_to(ask, found, trend) if view.subject is Subject.TARGET else None,
    )


def _back_to(ask: Context, found: JudgedRow, trend: pl.DataFrame) -> PastBid | None:
    """The bid that worked, of a target that sells little since it has another."""
    best = judged_proposals.dried_up(ask.selection, trend, found.bid, found.row["target_acos"])
    if best is None or found.row["state"] not in (None, State.ENABLED.value):
        return None
    figures = ask.figures
    return PastBid(
        figures.number(best.bid),
        f"At {figures.money(best.bid, 2)} it once brought {figures.counted(best.orders, 'order')} in 14 days, within"
        " target; since then less than half of that. Three orders in two weeks can be luck.",
    )


def _decided(ask: Context, row: Mapping[str, Any]) -> list[tuple[str, str]]:
    """What was decided on a target before, newest first: what, when and what became of it, and why."""
    return [
        (earlier_decisions.in_words(each), each.change.reason)
        for each in earlier_decisions.on_row(ask.facts, ask.account, row)
    ]


def _in_plan(ask: Context, proposal: Proposal) -> InPlan:
    """Whatever the plan does to the same things, be it another value than is proposed."""
    wanted = {_about(change) for change in proposal.changes}
    own = [each for each in ask.planned() if _about(each.change) in wanted]
    return InPlan(own, 0 if own else len(proposal.package))


def _about(change: Change) -> tuple[str, ...]:
    return (change.entity, change.campaign, change.ad_group, change.target, change.match_type)


def _elsewhere(ask: Context, view: View, row: Mapping[str, Any]) -> Sequence[Elsewhere]:
    """The terms a target paid for or a phrase stands in, or the targets that brought a term."""
    facts, account = ask.facts, ask.account
    if view.subject is Subject.TARGET:
        return drawer.elsewhere_terms(
            row_frames.terms_of(facts, account.id, row["target_id"], ask.selection.window), ask.figures
        )
    if view.subject is Subject.PHRASE:
        return drawer.terms_hit(judged_proposals.phrase_terms(facts, ask.selection, row["phrase"]), ask.figures)
    rows = row_frames.term_keys(facts, account.id, row["ad_group_id"], row["normal_id"])
    sums = facts.sums(account.id, "search_term_daily", ask.selection.window).join(rows, on="target_term_id")
    return drawer.elsewhere_targets(sums, ask.figures)


def _trend(ask: Context, view: View, found: JudgedRow) -> pl.DataFrame:
    """Day, spend and bid of the row over its history."""
    facts, row = ask.facts, found.row
    if view.subject is Subject.TARGET:
        return judged_proposals.history_of(facts, ask.selection, row["target_id"])
    if view.subject is Subject.PHRASE:
        rows = judged_proposals.phrase_terms(facts, ask.selection, row["phrase"]).select("ad_group_id", "normal_id")
    else:
        rows = pl.DataFrame([{name: row[name] for name in ("ad_group_id", "normal_id")}]).cast(pl.UInt32)
    keys = row_frames.keys_of_terms(facts, ask.account.id, rows)["target_term_id"].to_list()
    days = row_frames.daily(facts, ask.account.id, "search_term_daily", judged_proposals.history(ask.selection), keys)
    return days.with_columns(bid=pl.lit(None, pl.Int64))


def _harm(ask: Context, row: Mapping[str, Any]) -> Harm:
    figures, home = ask.figures, (str(row["campaign"]), str(row["ad_group"]))
    exact, phrase = (
        own_actions.stopped(ask.facts, ask.selection, [(row["row_id"], row["term"], home, as_phrase)]).get(
            row["row_id"], ()
        )
        for as_phrase in (False, True)
    )
    elsewhere = own_actions.sells_elsewhere(ask.facts, ask.selection, row)
    return Harm(
        drawer.stopped_lines(exact, figures),
        drawer.stopped_lines(phrase, figures),
        figures.counted(sum(each["orders"] for each in elsewhere), "order") if elsewhere else "",
        [
            (f"{each['campaign']} · {each['ad_group']}", figures.counted(each["orders"], "order"), each["row_id"])
            for each in elsewhere[:4]
        ],
    )


def _needs_days(ask: Context, view: View) -> str:
    """Says that a trend and the bid that worked need days, where the window's figures are sums of several."""
    kind = judged_proposals.source(ask.facts, ask.selection, view.subject)
    if ask.facts.by_day_only(ask.account.id, kind, ask.selection.window):
        return ""
    return f"Trend and past bids need {KINDS[kind].title.lower()} by day. One total is loaded."


def _before(ask: Context, found: JudgedRow, proposal: Proposal) -> Sequence[First]:
    """
    What is better settled before the proposal on a row, in its ad group; of phrases, which stand in many, in the
    dearest.
    """
    if not proposal.package:
        return ()
    dearest = max(found.places, key=lambda each: each.spend, default=None)
    home = (dearest.campaign, dearest.ad_group) if dearest else found.home
    before = order.before(ask.facts, ask.selection, [home], ask.planned_changes())
    return settled_first.first_for(proposal, before.get(home, []), ask.figures)
