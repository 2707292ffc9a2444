"""
The words of the trade as the product uses them: one entry a word, with definition, formula and unit.

Column heads, the glossary page, docs and the workbook take their definitions from here. Metrics, verdicts and checks
bring their own entries; what is left is written down in `_WORDS`.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Final

from nimbus_reef.core.checks import CHECKS, Money
from nimbus_reef.core.evidence import meaning
from nimbus_reef.core.metrics import MEASURE_OF, METRICS, SHOP_METRICS, TACOS, Metric, Unit
from nimbus_reef.core.model import SimpleVerdict, Verdict


@dataclass(frozen=True, slots=True)
class Term:
    """A word of the trade: what it is called everywhere, what it means, its formula and unit where it has them."""

    name: str
    definition: str
    formula: str = ""
    unit: str = ""
    group: str = "terms"


UNITS: Final[Mapping[Unit, str]] = {
    Unit.COUNT: "count",
    Unit.MONEY: "money of the account",
    Unit.RATE: "%",
    Unit.FACTOR: "factor",
}
_MONEY: Final[Mapping[Money, str]] = {
    Money.OVERSPEND: "wasted spend per 30 days",
    Money.OWN: "wasted spend per 30 days, beside the total",
    Money.MISSED: "missed sales per 30 days",
    Money.GAIN: "expected gain in profit per 30 days",
    Money.EARNED: "sales per 30 days",
    Money.SPENT: "ad spend per 30 days",
}
_WORDS: Final = (
    ("ad group", "Part of a campaign: targets and the product ads they show."),
    ("aim", "The bid at which a click costs what it may. Bids go half of the way there in one audit."),
    ("automatic target", "A target the marketplace chooses by itself, in an automatic campaign."),
    ("base bid", "The bid before bid adjustments, dynamic bidding and boosts."),
    ("bid adjustment", "A percentage that raises bids in one placement."),
    ("boost", "A planned raise of bids or of a budget for days and hours."),
    ("break-even", "The ACOS at which ads earn nothing. It equals the margin before ads."),
    ("campaign", "Budget, bidding and settings of one or more ad groups."),
    ("catch-all", "One automatic campaign with a low bid for all eligible products."),
    ("complete days", "Days old enough that their sales no longer grow."),
    ("dayparting", "Different bids or budgets by hour and weekday."),
    ("dynamic bidding", "The marketplace raises or lowers a bid by itself, within a limit."),
    ("evidence", "What the row itself and similar rows did, weighed together."),
    ("expected gain", "The profit that another bid is expected to bring in 30 days."),
    ("family", "A parent product with all its variations."),
    ("finding", "A problem or an opportunity, with its money and what to do."),
    ("goal", "What bids are to bring: most sales within target ACOS, or most profit."),
    ("held bid", "A bid that stays, with the reason."),
    ("ineligible", "A product the marketplace does not let you advertise."),
    ("keyword", "A target made of words."),
    ("listing", "The product page: title, pictures, text, price, stock, main offer."),
    ("match type", "How closely a search must match a keyword: exact, phrase or broad."),
    ("maturing days", "Recent days whose sales are still coming in."),
    ("median", "The middle value: half are below, half above."),
    ("missed sales", "Sales that would likely come without the problem. Never added to wasted spend."),
    ("negative keyword", "Words that stop ads: exact stops one search, phrase every search with these words."),
    ("off-site", "Ads shown outside the marketplace."),
    ("out of budget", "The daily budget was used up, so ads did not run."),
    ("own test", "A row with enough clicks of its own to be judged by them."),
    ("peers", "Other brands of the same category and month."),
    ("percentile", "The share of peers that do worse. 80 means better than 80 % of them."),
    ("placement", "Where an ad shows: top of search, rest of search, product pages, off-site."),
    ("plan", "All changes you accepted. It becomes one change sheet."),
    ("portfolio", "A group of campaigns."),
    ("product ad", "A product advertised in an ad group."),
    ("range", "Where the true value lies in 4 of 5 cases, 80 %."),
    ("search term", "What a shopper typed before an ad was clicked."),
    ("similar targets", "Rows with the same words, product, match type or ad group. They tell what is usual."),
    ("target", "What you bid on: a keyword, a product, a category or an automatic group."),
    ("target ACOS", "The highest ACOS you accept."),
    ("top of search", "The first ads on the first page of results."),
    ("variation", "One child of a parent product: a size, a colour, a set."),
    ("worth of a click", "The sales a click is expected to bring: conversion × order value, with luck taken out."),
    ("wasted spend", "Spend that is likely above target ACOS, with luck taken out."),
)


def _of_metric(metric: Metric) -> Term:
    full = f"{metric.long_name[0].upper()}{metric.long_name[1:]}." if metric.long_name else ""
    definition = full or f"{metric.definition[0].upper()}{metric.definition[1:]}."
    return Term(metric.label, definition, metric.definition if metric.long_name else "", UNITS[metric.unit], "metrics")


def _terms() -> Iterator[Term]:
    # What a query funnel counts is the same again, the market's beside yours.
    counted = [each for each in MEASURE_OF.values() if not each.key.startswith(("market_", "own_"))]
    for metric in {each.key: each for each in (*METRICS.values(), TACOS, *SHOP_METRICS, *counted)}.values():
        yield _of_metric(metric)
    for verdict in (*Verdict, *SimpleVerdict):
        yield Term(verdict.value, f"{meaning(verdict.value)}.", group="verdicts")
    for check in CHECKS.values():
        yield Term(check.title, f"{check.question} To do: {check.to_do}.", unit=_MONEY[check.money], group="findings")
    for name, definition in _WORDS:
        yield Term(name, definition)


GLOSSARY: Final[Mapping[str, Term]] = {each.name: each for each in _terms()}
"""All words by what they are called."""


def definition(name: str) -> str:
    """The definition of a word with its formula; empty where the glossary has none."""
    term = GLOSSARY.get(name)
    if term is None:
        return ""
    return f"{term.definition[:-1]}: {term.formula}" if term.formula else term.definition


def groups() -> dict[str, list[Term]]:
    """The words by group, in the alphabet's order within each."""
    found: dict[str, list[Term]] = {}
    for term in sorted(GLOSSARY.values(), key=lambda each: each.name.lower()):
        found.setdefault(term.group, []).append(term)
    return dict(sorted(found.items()))
