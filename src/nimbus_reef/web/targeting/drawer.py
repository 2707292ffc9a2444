"""What the drawer says about one row: sentence, cohort, proposal, what else is hit, rows behind."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis import brands
from nimbus_reef.core import costly_words, evidence
from nimbus_reef.core.proposals import Stopped
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.verdicts import word_fact


def sentence(row: Mapping[str, Any], figures: Figures, things: str = "targets") -> tuple[str, str]:
    """The verdict in a sentence: the bold fact, and what it is measured by. things: what similar rows are called."""
    if row.get("factor") is not None:
        return f"{word_fact(row, figures)}.", word_measure(row, figures)
    clicks, orders = row["clicks"], row["orders"]
    brought = figures.counted(orders, "order") if orders else "no order"
    fact = f"{figures.counted(clicks, 'click')} brought {brought}."
    if not clicks:
        return "No clicks in this period.", "There is nothing to judge yet."
    if row["prior_a"] is None:
        return (fact, ("The account is too small to compare with. It needs 300 clicks and 5 orders in this period."))
    usual = row["prior_a"] / (row["prior_a"] + row["prior_b"])
    if not orders:
        chance = evidence.miss_chance(clicks, usual)
        measure = (
            f"Similar {things} convert {figures.rate(usual)}. The odds of no order by luck alone:"
            f" {figures.one_in(chance)}."
        )
        if chance > 0.5:
            measure = (
                f"Similar {things} convert {figures.rate(usual)}. So few clicks bring no order"
                f" {figures.rate(chance, 0)} of the time."
            )
    else:
        expected = figures.number(usual * clicks, 0 if usual * clicks >= 3 else 1)
        measure = f"Similar {things} would have brought about {expected}."
    return fact, f"{measure} {_need_words(row, figures)}"


def _need_words(row: Mapping[str, Any], figures: Figures) -> str:
    needed, p_over = row["needed_cvr"], row["p_over"]
    if needed is None or p_over is None:
        return "No similar product has sold yet, so the value of an order is unknown."
    must = (
        f"At {figures.money(row['cpc'], 2)} a click it needs {figures.rate(needed)} conversion to meet"
        f" {figures.aim(row['target_acos'])}"
    )
    if p_over >= 0.5:
        return f"{must}. The odds that it does: {figures.one_in(1 - p_over)}."
    return f"{must}. The odds that it falls short: {figures.one_in(p_over)}."


def _against_others(factor: float, figures: Figures) -> str:
    """How a word's searches convert against the others."""
    if factor < 1:
        return f"{figures.rate(1 - factor, 0)} below"
    return f"{figures.rate(factor - 1, 0)} above"


def word_measure(row: Mapping[str, Any], figures: Figures) -> str:
    """A word's factor against what its clicks cost."""
    text = (
        f"Searches with “{row['word']}” convert {_against_others(row['factor'], figures)} comparable searches of this"
        " account."
    )
    if row["p_word"] is None:
        return f"{text} No similar product has sold yet, so the value of an order is unknown."
    needed = figures.rate(row["limit"], 0)
    if row["p_word"] >= 0.5:
        return (
            f"{text} To pay for their clicks they need {needed} of the expected orders. The odds that they get"
            f" there: {figures.one_in(1 - row['p_word'])}."
        )
    return (
        f"{text} To pay for their clicks they need {needed} of the expected orders. The odds that they fall"
        f" short: {figures.one_in(row['p_word'])}."
    )


def brand_words(brand: str) -> str:
    """Whose brand a row names; empty for nobody's."""
    return {brands.OWN: "It names one of your own brands.", brands.RIVAL: "It names a rival’s brand."}.get(brand, "")


def cohort(row: Mapping[str, Any], figures: Figures, things: str = "targets") -> str:
    """What the prior is made of, in a sentence."""
    if row["prior_a"] is None or row.get("factor") is not None:
        return ""
    if row.get("account_cvr") is None:
        return (
            f"Compared with {figures.count(row['group_rows'])} phrases of the same length:"
            f" {figures.counted(row['group_n'], 'click')}, {figures.counted(row['group_k'], 'order')}."
        )
    worth = row["prior_a"] + row["prior_b"]
    usual = row["prior_a"] / worth
    text = (
        f"Similar {things} convert {figures.rate(usual)}, without its own clicks. That counts as much as"
        f" {figures.counted(round(worth), 'click')} of its own."
    )
    if row["clicks"] and abs(row["p_free"] - row["p_over"]) >= _TELLING:
        text += (
            f" Chance of being above target: {figures.rate(row['p_over'], 0)}; without its words"
            f" {figures.rate(row['p_free'], 0)}."
        )
    return text


_TELLING: Final = 0.005
_NEVER = "its words alone decide it"


def decided_by_words(row: Mapping[str, Any], words: Sequence[Mapping[str, Any]], figures: Figures) -> str:
    """
    Why the words of a row change its verdict; empty where they do not, or where no word surely does.

    words: see `costly_words.deciding`.
    """
    if not words or evidence.verdict_at(row["p_over"]) == evidence.verdict_at(row["p_free"]):
        return ""
    text = "; ".join(
        f"“{word['word']}” converts {_against_others(word['factor'], figures)} comparable searches of this account"
        f" ({word_fact({'word_clicks': word['clicks'], **word}, figures)})"
        for word in words
    )
    enough, without = (
        clicks_enough(row[f"{kind}_a"], row[f"{kind}_b"], row["needed_cvr"]) for kind in ("prior", "free")
    )
    clicks = _enough(enough, without, figures)
    return f"{text}: {clicks}." if clicks else f"{text}."


def clicks_enough(a: float, b: float, needed: float) -> int | None:
    """How many clicks without an order make a row costly from nothing; 0 where its prior says so alone."""
    nothing = np.array([0])
    return evidence.clicks_needed(nothing, nothing, np.array([a]), np.array([b]), np.array([needed]))[0]


def _enough(enough: int | None, without: int | None, figures: Figures) -> str:
    if enough == 0 == without:
        # At its price any click is costly until orders come: the words change nothing before the first.
        return ""
    if enough == 0:
        first = _NEVER
    elif enough is None:
        first = "no number of clicks without an order settles it"
    else:
        first = f"{figures.counted(enough, 'click')} without an order settle it"
    if without is None:
        return f"{first}, without its words none"
    return f"{first}, without its words {figures.count(without) if without else 'no click is needed'}"


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """Where else a row's money shows up, or what an action would also hit."""

    label: str
    note: str
    amount: str


def _clicks_and_orders(row: Mapping[str, Any], figures: Figures) -> str:
    return f"{figures.counted(row['clicks'], 'click')}, {figures.counted(row['orders'], 'order')}"


def elsewhere_terms(terms: pl.DataFrame, figures: Figures, most: int = 4) -> list[Elsewhere]:
    """The terms a target paid for, in their order; those marked as good are said to be."""
    return [
        Elsewhere(
            f"term “{row['term']}”",
            _clicks_and_orders(row, figures) + (", within target" if row.get("good") else ""),
            figures.micro(row["spend"]),
        )
        for row in terms.head(most).to_dicts()
        if row["spend"]
    ]


def stopped_lines(stops: Sequence[Stopped], figures: Figures) -> list[Elsewhere]:
    """Other searches that a negative would stop, the most orders first."""
    return [
        Elsewhere(
            f"“{each.term}”",
            f"{figures.counted(each.clicks, 'click')}, {figures.counted(each.orders, 'order')}",
            figures.micro(each.spend),
        )
        for each in stops
    ]


def terms_hit(terms: pl.DataFrame, figures: Figures) -> list[Elsewhere]:
    """The judged terms that a phrase would hit, those that sell within target first, then the dearest."""
    marked = terms.with_columns(good=costly_words.good_term())
    ordered = marked.sort(["good", "spend"], descending=True, maintain_order=True)
    return elsewhere_terms(ordered, figures, most=12)


def elsewhere_targets(keys: pl.DataFrame, figures: Figures, most: int = 4) -> list[Elsewhere]:
    """The targets that brought a term."""
    return [
        Elsewhere(
            f"target “{row['target']}” {row['match_type']}",
            _clicks_and_orders(row, figures),
            figures.micro(row["spend"]),
        )
        for row in keys.sort("spend", descending=True).head(most).to_dicts()
    ]


def products_hit(products: pl.DataFrame, figures: Figures, places: int = 1, most: int = 4) -> list[Elsewhere]:
    """The products of so many ad groups, which a pause or negative takes the term from as well."""
    whose = "this ad group" if places <= 1 else "these ad groups"
    return [
        Elsewhere(row["sku"], f"{figures.counted(row['orders'], 'order')} from {whose}", figures.micro(row["sales"]))
        for row in products.sort(["sales", "sku"], descending=[True, False]).head(most).to_dicts()
    ]


def break_even_words(known: tuple[str, float] | None, figures: Figures) -> str:
    """The ACOS at which the main product earns nothing."""
    return f"{known[0]} breaks even at {figures.aim(known[1])} ACOS." if known else ""
