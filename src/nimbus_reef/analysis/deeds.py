"""Deeds of one's own on judged rows, and which other searches negatives would stop."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import proposals
from nimbus_reef.analysis.destinations import Destination, places
from nimbus_reef.analysis.look import EVERYTHING, Look
from nimbus_reef.analysis.proposals import Proposed, core_row, own_exact
from nimbus_reef.core import projection, tiers, words
from nimbus_reef.core.bids import Reason, ReasonKey
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import State, from_micro
from nimbus_reef.core.projection import Projected
from nimbus_reef.core.proposals import Move, Proposal
from nimbus_reef.core.tiers import Deed, Tier
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

_NO_TIER: Final = Proposal(Move.NONE, (Reason(ReasonKey.NO_TIER),))


def opened(
    facts: Facts,
    look: Look,
    subject: Subject,
    rows: pl.DataFrame,
    rules: Sequence[Tier],
    fields: Mapping[str, pl.Expr],
    *,
    raises: bool,
) -> list[Proposed]:
    """
    The rows with what one's own rules do on each; in their order. fields: what their metrics are worth; raises: also of
    what never made an order.
    """
    placed = rows.with_columns(tiers.tier_of(rules, dict(fields)))
    days = proposals.monthly_days(facts, look, subject)
    limits = look.account.settings.bid_limits
    products = product_frames.product_rows(facts, look.account.id, look.window)
    of_group = {key[0]: part for key, part in products.partition_by("ad_group_id", as_dict=True).items()}
    homes = places(facts, look) if any(rule.deed is Deed.OWN_TARGET for rule in rules) else None
    advertised = proposals.advertised(facts, look) if homes else {}
    ratio = proposals.bid_ratios(facts, look, rows) if homes else {}
    made = []
    for row in placed.to_dicts():
        own = of_group.get(row["ad_group_id"], products.clear())
        place = row.pop("tier")
        if place is None:
            made.append(Proposed(row, None, _NO_TIER, None, own))
            continue
        rule, core = rules[place], core_row(row, days)
        if subject is Subject.TARGET:
            bid = from_micro(row["bid"]) if row["bid"] is not None else None
            state = str(row["state"] or State.ENABLED.value)
            proposal = tiers.on_target(core, rule.deed, rule.value, bid=bid, state=state, limits=limits, raises=raises)
            made.append(Proposed(row, bid, proposal, None, own))
        else:
            proposal = tiers.on_term(
                core, rule.deed, limits, own_exact=own_exact(row), ratio=ratio.get(row["row_id"], 1.0)
            )
            to: tuple[Destination, ...] = ()
            if homes is not None and proposal.move is Move.PROMOTE:
                here = (row["campaign"], row["ad_group"])
                to = homes.for_term(row["term"], here, advertised.get(row["ad_group_id"], []))
                proposal = proposal if to else Proposal(Move.NONE, (Reason(ReasonKey.NO_DESTINATION),))
            made.append(Proposed(row, None, proposal, None, own, to))
    return made


def rule_of(rows: pl.DataFrame, rules: Sequence[Tier], fields: Mapping[str, pl.Expr]) -> list[int | None]:
    """The place of the rule that fits each row, None where none does."""
    return rows.with_columns(tiers.tier_of(rules, dict(fields)))["tier"].to_list()


def without_raises_of_nothing(opened_rows: Sequence[Proposed]) -> list[Proposed]:
    """The proposals less raises of rows that never made an order: those are asked for alone."""
    kept = []
    for each in opened_rows:
        if is_raise(each.proposal) and not each.row["orders"]:
            each = replace(each, proposal=Proposal(Move.NONE, (Reason(ReasonKey.RAISE_WITHOUT_ORDER),)))
        kept.append(each)
    return kept


def is_raise(proposal: Proposal) -> bool:
    """Whether a proposal raises a bid."""
    advice = proposal.advice
    return proposal.move is Move.BID and advice is not None and advice.proposed > advice.bid


@dataclass(frozen=True, slots=True)
class Stopped:
    """
    Another search that a negative would stop too: its row, the term, clicks, orders, spend and sales (micro-units) of
    the window, and what stopping it does in 30 days.
    """

    row_id: str
    term: str
    clicks: int
    orders: int
    spend: int
    sales: int
    projected: Projected


def collateral(facts: Facts, look: Look, acts: Sequence[Proposed]) -> dict[str, tuple[Stopped, ...]]:
    """
    Other searches of an ad group that its new negatives would stop, by the row of the negative, the most orders first:
    an exact one those of the same words, a phrase those that hold its words in their order. A search that several would
    stop stands under the first.
    """
    negatives = [each for each in acts if each.proposal.move is Move.NEGATIVE and not each.places]
    if not negatives:
        return {}
    taken = {each.row["row_id"] for each in negatives}
    groups = pl.Series([each.row["ad_group_id"] for each in negatives]).unique()
    near = proposals.judged(facts, replace(look, part=EVERYTHING), Subject.TERM).filter(
        pl.col("ad_group_id").is_in(groups.implode()), ~pl.col("row_id").is_in(list(taken))
    )
    days = proposals.monthly_days(facts, look, Subject.TERM)
    held = {key[0]: part.to_dicts() for key, part in near.partition_by("ad_group_id", as_dict=True).items()}
    seen: set[str] = set()
    found: dict[str, tuple[Stopped, ...]] = {}
    for each in negatives:
        phrase = each.proposal.match == "negative_phrase"
        own = [
            row
            for row in held.get(each.row["ad_group_id"], [])
            if row["row_id"] not in seen and words.stops(each.row["term"], row["term"], phrase=phrase)
        ]
        seen |= {row["row_id"] for row in own}
        if own:
            made = [_stopped(row, days) for row in own]
            found[each.row["row_id"]] = tuple(sorted(made, key=lambda one: (-one.orders, -one.spend, one.term)))
    return found


def _stopped(row: Mapping[str, Any], days: int) -> Stopped:
    basis = core_row(row, days).basis
    return Stopped(
        row["row_id"], row["term"], row["clicks"], row["orders"], row["spend"], row["sales"], projection.stopped(basis)
    )


def sells_elsewhere(facts: Facts, look: Look, row: Mapping[str, Any]) -> list[dict[str, Any]]:
    """
    The same term in other ad groups, where it made orders: campaign, ad_group, clicks, orders, spend; most orders
    first.
    """
    terms = proposals.judged(facts, look, Subject.TERM)
    same = terms.filter(
        pl.col("normal_id") == row["normal_id"], pl.col("ad_group_id") != row["ad_group_id"], pl.col("orders") > 0
    )
    return same.sort("orders", descending=True).to_dicts()
