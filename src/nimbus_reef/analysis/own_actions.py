"""What one's own actions do on judged rows, and which other searches negatives would stop."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import polars as pl

from nimbus_reef.analysis import bid_response, judged_proposals
from nimbus_reef.analysis.destinations import Destination, places
from nimbus_reef.analysis.judged_proposals import JudgedRow, core_row, own_exact, proposal_of
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import projection, tiers, words
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import State, from_micro
from nimbus_reef.core.proposals import Home, Proposal, Stopped
from nimbus_reef.core.reasons import Reason, ReasonKey
from nimbus_reef.core.recommendations import Move, Recommendation
from nimbus_reef.core.tiers import RowAction
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts


def proposals(
    facts: Facts,
    selection: Selection,
    subject: Subject,
    rows: pl.DataFrame,
    action: RowAction,
    value: float | None,
    *,
    raises: bool,
) -> list[Proposal]:
    """
    What an action does on each judged row, in their order.

    value: the change as a fraction, or what is set, in units; raises: also of what never made an order.
    """
    days = judged_proposals.monthly_days(facts, selection, subject)
    products = product_frames.product_rows(facts, selection.account.id, selection.window)
    of_group = {key[0]: part for key, part in products.partition_by("ad_group_id", as_dict=True).items()}
    homes = places(facts, selection) if action is RowAction.OWN_TARGET else None
    advertised = judged_proposals.advertised(facts, selection, rows["ad_group_id"]) if homes else {}
    ratio = judged_proposals.bid_ratios(facts, selection, rows) if homes else {}
    response = bid_response.learned(facts, selection)
    entries = []
    for row in judged_proposals.limited(selection.account, rows).to_dicts():
        limits = judged_proposals.limits_of(selection.account, row)
        beside, bid = of_group.get(row["ad_group_id"], products.clear()), None
        to: tuple[Destination, ...] = ()
        if subject is Subject.TARGET:
            bid = from_micro(row["bid"]) if row["bid"] is not None else None
            state = str(row["state"] or State.ENABLED.value)
            found = tiers.on_target(
                core_row(row, days),
                action,
                value,
                bid=bid,
                state=state,
                limits=limits,
                raises=raises,
                response=response,
            )
        else:
            found = tiers.on_term(
                core_row(row, days), action, limits, own_exact=own_exact(row), ratio=ratio.get(row["row_id"], 1.0)
            )
            if homes is not None and found.move is Move.PROMOTE:
                here = (row["campaign"], row["ad_group"])
                to = homes.for_term(row["term"], here, advertised.get(row["ad_group_id"], []))
                found = found if to else Recommendation(Move.NONE, (Reason(ReasonKey.NO_DESTINATION),))
        entries.append(proposal_of(selection, subject, JudgedRow(row, bid, found, beside, to, response=response)))
    return entries


def called(proposals: Sequence[Proposal], words: str) -> list[Proposal]:
    """
    The proposals with the words of the rule or the choice that made them as their one reason; what is moved as the
    evidence proposes keeps its own.
    """
    why = (Reason(ReasonKey.OWN_RULE, (words,)),)

    def by_hand(proposal: Proposal) -> bool:
        return bool(proposal.package) and any(each.key is ReasonKey.OWN_ACTION for each in proposal.reasons)

    return [replace(each, fact=None, reasons=why) if by_hand(each) else each for each in proposals]


def with_stops(facts: Facts, selection: Selection, proposals: Sequence[Proposal]) -> list[Proposal]:
    """The proposals on search terms, each with the other searches of its ad group that its negative would stop."""
    negatives = [
        (each.row_id, each.subject.name, each.homes[0], each.changes[0].match_type == "negative_phrase")
        for each in proposals
        if each.kind == "negative"
    ]
    found = stopped(facts, selection, negatives)
    return [replace(each, stops=found.get(each.row_id, ())) for each in proposals]


def stopped(
    facts: Facts, selection: Selection, negatives: Sequence[tuple[str, str, Home, bool]]
) -> dict[str, tuple[Stopped, ...]]:
    """
    Other searches of an ad group that its new negatives would stop, by the row of the negative, the most orders first:
    an exact one those of the same words, a phrase those that hold its words in their order. A search that several would
    stop stands under the first. negatives: row, term, ad group, and whether it is a phrase.
    """
    if not negatives:
        return {}
    taken = [row_id for row_id, *_ in negatives]
    homes = pl.DataFrame(
        list({home for _, _, home, _ in negatives}), schema={"campaign": pl.String, "ad_group": pl.String}, orient="row"
    )
    near = (
        judged_proposals.judged(facts, selection.whole, Subject.TERM)
        .with_columns(pl.col("campaign", "ad_group").cast(pl.String))
        .join(homes, on=["campaign", "ad_group"], how="semi")
        .filter(~pl.col("row_id").is_in(taken))
    )
    days = judged_proposals.monthly_days(facts, selection, Subject.TERM)
    by_key = {key: part.to_dicts() for key, part in near.partition_by("campaign", "ad_group", as_dict=True).items()}
    seen: set[str] = set()
    found: dict[str, tuple[Stopped, ...]] = {}
    for row_id, term, home, phrase in negatives:
        own = [
            row
            for row in by_key.get(home, [])
            if row["row_id"] not in seen and words.stops(term, row["term"], phrase=phrase)
        ]
        seen |= {row["row_id"] for row in own}
        if own:
            stoppeds = [_stopped(row, days) for row in own]
            found[row_id] = tuple(sorted(stoppeds, key=lambda one: (-one.orders, -one.spend, one.term)))
    return found


def _stopped(row: Mapping[str, Any], days: int) -> Stopped:
    basis = core_row(row, days).basis
    return Stopped(
        row["row_id"], row["term"], row["clicks"], row["orders"], row["spend"], row["sales"], projection.stopped(basis)
    )


def sells_elsewhere(facts: Facts, selection: Selection, row: Mapping[str, Any]) -> list[dict[str, Any]]:
    """
    The same term in other ad groups, where it made orders: campaign, ad_group, clicks, orders, spend; most orders
    first.
    """
    terms = judged_proposals.judged(facts, selection, Subject.TERM)
    same = terms.filter(
        pl.col("normal_id") == row["normal_id"], pl.col("ad_group_id") != row["ad_group_id"], pl.col("orders") > 0
    )
    return same.sort("orders", descending=True).to_dicts()
