"""Deeds of one's own on judged rows, and what many deeds together come to: counts, effect, harm, what is asked about."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import proposals
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.proposals import Proposed, core_row, own_exact
from nimbus_reef.core import projection, tiers, words
from nimbus_reef.core.bids import Reason
from nimbus_reef.core.changes import Change, Promise, raises_beyond
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import State, from_micro
from nimbus_reef.core.projection import Projected
from nimbus_reef.core.proposals import Move, Proposal
from nimbus_reef.core.tiers import Deed, Tier
from nimbus_reef.store.reading import product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

_NO_TIER: Final = Proposal(Move.NONE, (Reason("no_tier"),))


def opened(
    facts: Facts, look: Look, subject: Subject, rows: pl.DataFrame, rules: Sequence[Tier], fields: Mapping[str, pl.Expr], *,
    raises: bool,
) -> list[Proposed]:  # fmt: skip
    """
    The rows with what one's own rules do on each; in their order. fields: what their metrics are worth; raises: also of what never
    made an order.
    """
    placed = rows.with_columns(tiers.tier_of(rules, dict(fields)))
    days = proposals.monthly_days(facts, look, subject)
    limits = look.account.settings.bid_limits
    products = product_frames.product_rows(facts, look.account.id, look.window)
    of_group = {key[0]: part for key, part in products.partition_by("ad_group_id", as_dict=True).items()}
    homes = {}
    if any(rule.deed is Deed.OWN_TARGET for rule in rules):
        homes = {
            row[0]: (row[2], row[3])
            for row in target_frames.homes(facts, look.account.id, look.window).rows()
        }
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
            proposal = tiers.on_target(
                core, rule.deed, rule.value, bid=bid, state=state, limits=limits, raises=raises
            )
            made.append(Proposed(row, bid, proposal, None, own))
        else:
            proposal = tiers.on_term(core, rule.deed, limits, own_exact=own_exact(row))
            home = homes.get(row["ad_group_id"], (str(row["campaign"]), str(row["ad_group"])))
            made.append(Proposed(row, None, proposal, None, own, home=home))
    return made


def rule_of(rows: pl.DataFrame, rules: Sequence[Tier], fields: Mapping[str, pl.Expr]) -> list[int | None]:
    """The place of the rule that fits each row, None where none does."""
    return rows.with_columns(tiers.tier_of(rules, dict(fields)))["tier"].to_list()


def without_raises_of_nothing(opened_rows: Sequence[Proposed]) -> list[Proposed]:
    """The proposals less raises of rows that never made an order: those are asked for alone."""
    kept = []
    for each in opened_rows:
        advice = each.proposal.advice
        raised = each.proposal.move is Move.BID and advice is not None and advice.proposed > advice.bid
        if raised and not each.row["orders"]:
            each = replace(each, proposal=Proposal(Move.NONE, (Reason("raise_without_order"),)))
        kept.append(each)
    return kept


@dataclass(frozen=True, slots=True)
class Stopped:
    """Another term that a negative would stop too: which negative, the term, clicks, orders, spend (micro-units)."""

    by: str
    term: str
    clicks: int
    orders: int
    spend: int


@dataclass(frozen=True, slots=True)
class Together:
    """
    What many deeds come to. counts: how many rows by kind of deed; skipped: by reason; projected: all of it in 30 days; lost: orders of
    the window that the rows stopped or paused made; stops: other terms that negatives stop, the most orders first; asks: changes
    beyond what the account's settings let pass unasked.
    """

    counts: Mapping[str, int]
    skipped: Mapping[str, int]
    projected: Projected
    lost: int
    stops: tuple[Stopped, ...]
    asks: tuple[Proposed, ...]


def kind_of(proposal: Proposal) -> str:
    """What a deed is counted as."""
    if proposal.move is Move.BID and proposal.advice is not None:
        return "raise" if proposal.advice.proposed > proposal.advice.bid else "cut"
    return proposal.move.value


def together(facts: Facts, look: Look, subject: Subject, opened_rows: Sequence[Proposed]) -> Together:
    """What deeds on rows come to together."""
    acts = [each for each in opened_rows if each.proposal.move is not Move.NONE]
    stopping = (Move.PAUSE, Move.NEGATIVE)
    return Together(
        Counter(kind_of(each.proposal) for each in acts),
        Counter(each.why for each in opened_rows if each.proposal.move is Move.NONE),
        projection.total(each.proposal.projected for each in acts),
        sum(int(each.row["orders"]) for each in acts if each.proposal.move in stopping),
        stops(facts, look, acts) if subject is Subject.TERM else (),
        tuple(each for each in acts if asks(look, each.proposal)),
    )


def asks(look: Look, proposal: Proposal) -> bool:
    """Whether a deed is beyond what the account's settings let pass unasked."""
    settings, advice = look.account.settings, proposal.advice
    if proposal.move is not Move.BID or advice is None:
        return False
    return raises_beyond(
        advice.bid, advice.proposed, proposal.projected.spend.high, settings.asks_raise, settings.asks_spend
    )


def stops(facts: Facts, look: Look, acts: Sequence[Proposed]) -> tuple[Stopped, ...]:
    """
    Other terms of an ad group that its new negatives would stop: an exact one those of the same words, a phrase those that hold its
    words in their order.
    """
    negatives = [each for each in acts if each.proposal.move is Move.NEGATIVE]
    if not negatives:
        return ()
    taken = {each.row["row_id"] for each in negatives}
    terms = proposals.judged(facts, look, Subject.TERM).select(
        "row_id", "ad_group_id", "term", "clicks", "orders", "spend"
    )
    groups = pl.Series([each.row["ad_group_id"] for each in negatives]).unique()
    near = terms.filter(pl.col("ad_group_id").is_in(groups.implode()), ~pl.col("row_id").is_in(list(taken)))
    held = {key[0]: part.to_dicts() for key, part in near.partition_by("ad_group_id", as_dict=True).items()}
    found: dict[str, Stopped] = {}
    for each in negatives:
        phrase = each.proposal.match == "negative_phrase"
        for row in held.get(each.row["ad_group_id"], []):
            if _stopped(each.row["term"], row["term"], phrase=phrase):
                found.setdefault(
                    row["row_id"],
                    Stopped(each.row["term"], row["term"], row["clicks"], row["orders"], row["spend"]),
                )
    return tuple(sorted(found.values(), key=lambda each: (-each.orders, -each.spend, each.term)))


def _stopped(negative: str, term: str, *, phrase: bool) -> bool:
    own, other = words.words(negative), words.words(term)
    if not phrase:
        return own == other
    return bool(own) and any(
        other[place : place + len(own)] == own for place in range(len(other) - len(own) + 1)
    )


def changes(
    facts: Facts, look: Look, subject: Subject, opened_rows: Sequence[Proposed], reasons: Sequence[str]
) -> list[tuple[Change, Promise]]:
    """All of it as rows of the change sheet with what they promise; reasons: why, in words, of each row."""
    return [
        change
        for each, reason in zip(opened_rows, reasons, strict=True)
        for change in proposals.proposed(facts, look, subject, each, reason)
    ]


def sells_elsewhere(facts: Facts, look: Look, row: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The same term in other ad groups, where it made orders: campaign, ad_group, clicks, orders, spend; most orders first."""
    terms = proposals.judged(facts, look, Subject.TERM)
    same = terms.filter(
        pl.col("normal_id") == row["normal_id"],
        pl.col("ad_group_id") != row["ad_group_id"],
        pl.col("orders") > 0,
    )
    return same.sort("orders", descending=True).to_dicts()
