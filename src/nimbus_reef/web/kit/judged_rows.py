"""Judged rows in words: what one is called, where it stands, what is done on it, and why nothing is."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, Final

from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.proposals import Proposed
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.proposals import Move
from nimbus_reef.web.kit.figures import Figures


def name_of(view: View, row: Mapping[str, Any]) -> str:
    """What a row is called: a phrase as its dearest term spells it, not as its stem."""
    name: str = row[view.named_by]
    return name


def where(view: View, row: Mapping[str, Any], figures: Figures) -> str:
    """Where a row stands: in which campaign and ad group, or in how many terms."""
    return _WHERE[view.subject](row, figures)


def _place(row: Mapping[str, Any], _: Figures) -> str:
    return f"{row['campaign']} · {row['ad_group']}"


def _in_terms(row: Mapping[str, Any], figures: Figures) -> str:
    return f"in {figures.count(row['terms'])} terms, {figures.count(row['idle_terms'])} without an order"


_WHERE: Final[Mapping[Subject, Callable[[Mapping[str, Any], Figures], str]]] = {
    Subject.TARGET: _place,
    Subject.PHRASE: _in_terms,
    Subject.TERM: lambda row, figures: f"{_brought_by(row)} · {_place(row, figures)}",
}


def _brought_by(row: Mapping[str, Any]) -> str:
    others = row["targets"] - 1
    return f"from {row['target']}{f' +{others}' if others else ''}"


def deed_words(each: Proposed, figures: Figures) -> str:
    """What is done on a row, in a few words; empty for nothing."""
    advice = each.proposal.advice
    bid = figures.number(advice.bid if advice else None), figures.number(advice.proposed if advice else None)
    told: Mapping[Move, str] = {
        Move.NONE: "",
        Move.PAUSE: "pause",
        Move.ENABLE: "enable",
        Move.NEGATIVE: _negative(each),
        Move.BID: f"bid {bid[0]} → {bid[1]}",
        Move.PROMOTE: f"exact target at {bid[1]}{_destination(each)}",
    }
    return told[each.proposal.move]


def _destination(each: Proposed) -> str:
    to = each.destination
    if to is None:
        return ""
    kept = "" if each.here == (to.campaign, to.ad_group) else ", negative exact where it was bought"
    return f" in {f'a new ad group of {to.campaign}' if to.new else f'{to.campaign} · {to.ad_group}'}{kept}"


def _negative(each: Proposed) -> str:
    if each.places:
        return "negative phrase"
    return (each.proposal.match or ("negative_item" if each.item else "negative_exact")).replace("_", " ")


_WHY_NOTHING: Final[Mapping[str, str]] = {
    "no_bid_known": "their bid is not known: load the targets report",
    "undecided": "their clicks do not settle it yet",
    "too_small": "the account has too few clicks and orders",
    "stays": "their bid is right as it is",
    "no_raise": "they are not shown to be fine, so that no raise is proposed",
    "has_orders": "they made orders: lower what brings them",
    "no_own_test": "their clicks are too few for an order",
    "its_product": "they convert like similar ones",
    "is_paused": "they are paused already",
    "is_enabled": "they are enabled already",
    "bid_is_there": "their bid is that already",
    "no_clicks": "no click of them was paid for",
    "raise_without_order": "their bid would rise and they never had an order",
    "no_destination": "no manual campaign advertises the product that sold them",
    "has_own_target": "an exact keyword of the same words brings them already",
    "no_worth": "what a click of them is worth is not known",
    "no_tier": "no rule fits them",
    "never_shut_out": "a word in them is never to be shut out, by the account's settings",
    "names_product": "their words are what an advertised product is called",
    "within_target": "they are within target",
    "word_unsure": "it is not sure yet that they convert less than their clicks cost",
    "word_lower": "they still bring orders: open one to see what brings it, and bid lower there",
    "word_few": "they stand in too few searches for a phrase",
    "own_brand": "they are the brand’s own",
}
"""Why nothing is proposed on several rows; what is not here is said row by row."""


def why_nothing(key: str) -> str:
    """Why nothing is done on several rows, by the key of the reason."""
    return _WHY_NOTHING.get(key, "their evidence says why")
