"""What the drawer says about one row: sentence, company, proposal, what else is hit, rows behind."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis import brands
from nimbus_reef.analysis.deeds import Stopped
from nimbus_reef.analysis.destinations import Destination
from nimbus_reef.analysis.proposals import Proposed
from nimbus_reef.core import costly_words, evidence
from nimbus_reef.core.bids import Reason
from nimbus_reef.core.projection import Projected
from nimbus_reef.core.proposals import Move
from nimbus_reef.web.kit import luck
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.luck import Luck
from nimbus_reef.web.kit.verdicts import mark_of, word_fact


def sentence(row: Mapping[str, Any], figures: Figures) -> tuple[str, str]:
    """The verdict in a sentence: the bold fact, and what it is measured by."""
    if row.get("factor") is not None:
        return f"{word_fact(row, figures)}.", word_measure(row, figures)
    clicks, orders = row["clicks"], row["orders"]
    brought = figures.counted(orders, "order") if orders else "no order"
    fact = f"{figures.counted(clicks, 'click')} brought {brought}."
    if not clicks:
        return "No clicks in these days.", "There is nothing to judge yet."
    if row["prior_a"] is None:
        return (
            fact,
            (
                "The account is too small to say what is usual: it takes 300 clicks and 5 orders "
                "in the window before luck can be told from fact."
            ),
        )
    usual = row["prior_a"] / (row["prior_a"] + row["prior_b"])
    if not orders:
        chance = evidence.miss_chance(clicks, usual)
        measure = (
            f"Similar ones convert {figures.rate(usual)}: a miss this long happens "
            f"{figures.one_in(chance)} {'times' if chance > 0.5 else 'by luck'}."
        )
        if chance > 0.5:
            measure = (
                f"Similar ones convert {figures.rate(usual)}: so few clicks miss {figures.rate(chance, 0)} of the time."
            )
    else:
        measure = (
            f"Similar ones would have made about {figures.number(usual * clicks, 0 if usual * clicks >= 3 else 1)}."
        )
    return fact, f"{measure} {_need_words(row, figures)}"


def _need_words(row: Mapping[str, Any], figures: Figures) -> str:
    needed, p_over = row["needed_cvr"], row["p_over"]
    if needed is None or p_over is None:
        return "Nothing of its kind has sold yet, so what an order is worth is unknown."
    must = (
        f"To meet {figures.aim(row['target_acos'])} at {figures.money(row['cpc'], 2)} a click "
        f"it must convert {figures.rate(needed)}"
    )
    if p_over >= 0.5:
        return f"{must}; the chance that it does is {figures.one_in(1 - p_over)}."
    return f"{must}; the chance that it falls short is {figures.one_in(p_over)}."


def picture(row: Mapping[str, Any], posterior: tuple[float, float], figures: Figures) -> Luck:
    """What the verdict of a row rests on, drawn."""
    tone = {"costly": ("loss", True), "leaning": ("loss", False), "fine": ("gain", True)}.get(
        mark_of(row, "evidence"), ("", False)
    )
    if row.get("factor") is not None:
        return luck.of_word(row, f"{figures.counted(row['came'], 'order')} came", tone, figures)
    brought = figures.counted(row["orders"], "order") if row["orders"] else "no order"
    return luck.of_row(row, posterior, f"{figures.counted(row['clicks'], 'click')}, {brought}", tone, figures)


def _against_others(factor: float, figures: Figures) -> str:
    """How a word's searches convert against the others."""
    if factor < 1:
        return f"{figures.rate(1 - factor, 0)} below"
    return f"{figures.rate(factor - 1, 0)} above"


def word_measure(row: Mapping[str, Any], figures: Figures) -> str:
    """A word's factor against what its clicks cost."""
    said = (
        f"Searches with “{row['word']}” convert {_against_others(row['factor'], figures)} this account’s others, after "
        "product, ad group and target."
    )
    if row["p_word"] is None:
        return f"{said} Nothing of its kind has sold yet, so what an order is worth is unknown."
    needed = figures.rate(row["limit"], 0)
    if row["p_word"] >= 0.5:
        return (
            f"{said} At what their clicks cost {needed} of what was due must come; the chance that it does "
            f"is {figures.one_in(1 - row['p_word'])}."
        )
    return (
        f"{said} At what their clicks cost {needed} of what was due must come; the chance that it falls short "
        f"is {figures.one_in(row['p_word'])}."
    )


def brand_words(brand: str) -> str:
    """Whose brand a row names; empty for nobody's."""
    return {brands.OWN: "It names one of your own brands.", brands.RIVAL: "It names a rival’s brand."}.get(brand, "")


def company(row: Mapping[str, Any], figures: Figures) -> str:
    """What the prior is made of, in a sentence."""
    if row["prior_a"] is None or row.get("factor") is not None:
        return ""
    if row.get("account_cvr") is None:
        return (
            f"Similar to it are the {figures.count(row['group_rows'])} phrases of as many words, "
            f"{figures.counted(row['group_n'], 'click')} and {figures.counted(row['group_k'], 'order')} together."
        )
    worth = row["prior_a"] + row["prior_b"]
    usual = row["prior_a"] / worth
    said = (
        f"Similar ones, its own clicks left out, convert {figures.rate(usual)}; that is worth "
        f"{figures.counted(round(worth), 'click')} of its own."
    )
    if row["clicks"] and abs(row["p_free"] - row["p_over"]) >= _TELLING:
        said += (
            f" Over target with a chance of {figures.rate(row['p_over'], 0)}, "
            f"without its words {figures.rate(row['p_free'], 0)}."
        )
    return said


_TELLING: Final = 0.005
_NEVER = "its words alone say so"


def decided_by_words(row: Mapping[str, Any], words: Sequence[Mapping[str, Any]], figures: Figures) -> str:
    """
    Why the words of a row change its verdict; empty where they do not, or where no word surely does.

    words: see `costly_words.deciding`.
    """
    if not words or evidence.verdict_at(row["p_over"]) == evidence.verdict_at(row["p_free"]):
        return ""
    told = "; ".join(
        f"“{word['word']}” converts {_against_others(word['factor'], figures)} this account’s other searches after"
        f" product, ad group and target ({word_fact({'word_clicks': word['clicks'], **word}, figures)})"
        for word in words
    )
    enough, without = (
        clicks_enough(row[f"{kind}_a"], row[f"{kind}_b"], row["needed_cvr"]) for kind in ("prior", "free")
    )
    clicks = _enough(enough, without, figures)
    return f"{told}: {clicks}." if clicks else f"{told}."


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
        first = "no number of clicks without an order is enough"
    else:
        first = f"{figures.counted(enough, 'click')} without an order are enough"
    if without is None:
        return f"{first}, without its words none"
    return f"{first}, without its words {figures.count(without) if without else 'no click is needed'}"


def reason_words(reason: Reason, figures: Figures) -> str:
    """A limit or ground of a proposal, with its figures."""
    value = reason.figures
    words: Mapping[str, Callable[[], str]] = {
        "aim": lambda: (
            f"aim is {figures.money(value[0], 2)}: a click earns {figures.money(value[1], 2)},"
            f" {figures.rate(value[2], 0)} of it may be paid, and bids here are {figures.number(value[3])} × the price"
            " paid"
        ),
        "step_down": lambda: f"stopped at the step limit, −{figures.rate(value[0], 0)} at a time",
        "step_up": lambda: f"stopped at the step limit, +{figures.rate(value[0], 0)} at a time",
        "floor": lambda: f"stopped at the account's floor, {figures.money(value[0], 2)}",
        "ceiling": lambda: f"stopped at the account's ceiling, {figures.money(value[0], 2)}",
        "no_raise": lambda: "no raise: it is not shown to be fine",
        "best_bid": lambda: (
            f"no further than 10 % past {figures.money(value[0], 2)}, the highest bid at which it worked"
        ),
        "stays": lambda: f"the bid of {figures.money(value[0], 2)} is right as it is",
        "own_test": lambda: f"{figures.count(value[0])} clicks were enough for an order at the rate it needs",
        "own_fault": lambda: f"it converts below similar ones: {figures.rate(value[0])} to expect of it",
        "undecided": lambda: (
            f"about {figures.count(value[0])} more clicks without an order would settle it"
            if value
            else "clicks alone will not settle it"
        ),
        "too_small": lambda: "the account has too few clicks and orders to tell luck from fact",
        "no_clicks": lambda: "no click of it was paid for: there is nothing to go by yet",
        "raise_without_order": lambda: (
            "its bid would rise and it never had an order: raise it by itself where you want that"
        ),
        "is_paused": lambda: "it is paused already",
        "is_enabled": lambda: "it is enabled already",
        "bid_is_there": lambda: "its bid is that already",
        "has_own_target": lambda: "an exact keyword of the same words brings it already",
        "no_worth": lambda: "what a click of it is worth is not known",
        "no_tier": lambda: "no rule fits it",
        "no_destination": lambda: "no ad group can hold it: no manual campaign advertises the product that sold it",
        "no_bid_known": lambda: "its bid is not known: load the targets report to get one proposed",
        "has_orders": lambda: (
            f"it made {figures.counted(value[0], 'order')}: lower the bid of the target that brings it rather than"
            " block it"
        ),
        "no_own_test": lambda: f"{figures.count(value[0])} clicks are too few for an order at the rate it needs",
        "its_product": lambda: (
            f"it converts like similar ones ({figures.rate(value[0])}): the product, its price or its bids are wrong,"
            " not the term"
        ),
        "its_words": lambda: "its words say more than its own clicks: look at the word, not at this search alone",
        "word_unsure": lambda: (
            f"{figures.rate(value[0], 0)} sure that it converts less than its clicks cost: 90 % are asked for"
        ),
        "word_lower": lambda: (
            f"it still brings {figures.rate(value[0], 0)} of the orders that its clicks cost: bid that much on what"
            " brings it rather than shut it out"
        ),
        "word_few": lambda: f"it stands in {figures.counted(value[0], 'search')} only, too few for a phrase",
        "word_factor": lambda: (
            f"{figures.rate(value[0], 0)} of the orders due came, {figures.rate(value[1], 0)} would pay for its clicks"
        ),
        "word_hits": lambda: (
            f"mind: it also takes {figures.counted(value[0], 'good term')} with {figures.counted(value[1], 'order')}"
        ),
        "own_brand": lambda: "it is a word of your own brand",
        "own_exact": lambda: (
            "an exact keyword of just these words brings it: pausing that is the same, and leaves no negative behind"
        ),
        "own_deed": lambda: "chosen by hand",
        "never_shut_out": lambda: "a word in it is never to be shut out, by the account's settings",
        "names_product": lambda: (
            "its words are what an advertised product here is called: a negative would keep its buyers away"
        ),
        "within_target": lambda: "it is within target",
        "wins": lambda: (
            f"{figures.counted(value[0], 'order')} at {figures.rate(value[1])} ACOS, and no live exact target of these"
            " words advertises the product"
        ),
        "opening_bid": lambda: (
            f"it opens at {figures.money(value[0], 2)}: a click earns {figures.money(value[1], 2)}, the target is"
            f" {figures.rate(value[2], 0)}"
        ),
        "opening_near": lambda: (
            f"near the {figures.money(value[0], 2)} that its clicks cost now, at {'most' if value[1] >= 1 else 'least'}"
            f" {figures.rate(value[1], 0)} of it"
        ),
        "places": lambda: f"in the {figures.counted(value[0], 'ad group')} that paid for it",
        "places_spared": lambda: (
            f"not in {figures.counted(value[0], 'ad group')} where an advertised product is called that"
        ),
        "orders_elsewhere": lambda: (
            f"mind: the same term made {figures.counted(value[0], 'order')} in a sibling ad group"
        ),
    }
    return words[reason.key]()


@dataclass(frozen=True, slots=True)
class ProposalWords:
    """The proposal as shown."""

    headline: str
    effect: str
    reasons: tuple[str, ...]
    acceptable: bool


def effect_words(projected: Projected, figures: Figures) -> str:
    """Spend and sales per 30 days, as a range."""
    return f"{figures.span(projected.spend)} spend, {figures.span(projected.sales)} sales per 30 days"


def offer(opened: Proposed, figures: Figures) -> ProposalWords:
    """A proposal in words."""
    proposal, to = opened.proposal, opened.destination
    reasons = tuple(reason_words(reason, figures) for reason in proposal.reasons)
    if proposal.move is Move.NONE:
        lower = any(reason.key == "word_lower" for reason in proposal.reasons)
        return ProposalWords("bid lower on what brings it" if lower else "leave it for now", "", reasons, False)
    if proposal.move is Move.PROMOTE and to is not None:
        bid = figures.number(proposal.new_bid)
        return ProposalWords(f"exact target at {bid} in {place_words(to)}", _sent_words(opened, to), reasons, True)
    headline = {
        Move.PAUSE: (
            "pause its own exact keyword" if any(each.key == "own_exact" for each in proposal.reasons) else "pause it"
        ),
        Move.ENABLE: "enable it",
        Move.NEGATIVE: "negative phrase" if opened.places else "negative exact in this ad group",
        Move.BID: f"bid {figures.number(opened.bid)} → {figures.number(proposal.new_bid)}",
    }[proposal.move]
    return ProposalWords(headline, effect_words(proposal.projected, figures), reasons, True)


def place_words(to: Destination) -> str:
    """Where a new target goes."""
    return f"a new ad group of {to.campaign}" if to.new else f"{to.campaign} · {to.ad_group}"


def _sent_words(opened: Proposed, to: Destination) -> str:
    """Which product it advertises there, and what keeps the term from being bought twice."""
    sold = f"That ad group advertises {to.sku}, which sold it." if to.sku else "It stays in its own ad group."
    if opened.here == (to.campaign, to.ad_group):
        return sold
    return f"{sold} A negative exact in {opened.here[0]} · {opened.here[1]} keeps it from being bought twice."


def source_reason(opened: Proposed) -> str:
    """Why a term that gets a target of its own is kept from where it was bought; empty of what gets none."""
    to = opened.destination
    if to is None:
        return ""
    return (
        f"“{opened.row['term']}” gets an exact target in {place_words(to)}; this keeps it from being bought here as"
        " well."
    )


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


def reason_line(fact: str, offered: ProposalWords) -> str:
    """The reason that goes into the change sheet."""
    return " ".join([fact, "; ".join(offered.reasons) + "." if offered.reasons else ""]).strip()


def break_even_words(known: tuple[str, float] | None, figures: Figures) -> str:
    """The ACOS at which the main product earns nothing."""
    return f"{known[0]} breaks even at {figures.aim(known[1])} ACOS." if known else ""
