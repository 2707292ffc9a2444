"""What is said of an outcome."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Final

from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome
from nimbus_reef.analysis.outcome.listed import PROFIT, SumLine
from nimbus_reef.core.change_periods import NoVerdict
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.core.stopped_spend import sales_it_may_have_cost
from nimbus_reef.core.windows import per_month
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.promises_kept import monthly_range, range_words

WHY: Final[Mapping[str, str]] = {
    NoVerdict.NOT_APPLIED: "not applied: the settings do not show it",
    NoVerdict.CHANGED_TWICE: "changed twice within a fortnight",
    NoVerdict.FEW_DAYS: "too few complete days yet",
    NoVerdict.OUT_OF_BUDGET: "its budget set its clicks, not its bid",
    NoVerdict.NO_CLICKS: "no clicks yet",
    NoVerdict.NO_TERMS: "the reports do not say where its searches went",
    NoVerdict.NO_DAYS: "it needs targets by day, not as a sum of several days",
    NoVerdict.PROMISED_NOTHING: "it promised no profit",
    NoVerdict.OFF: "it was off on too many days",
    NoVerdict.OUT_OF_STOCK: "its product was out of stock on too many days",
    NoVerdict.WITH_ANOTHER: "judged with another row of its sheet",
}
MARKS: Final[Mapping[str, str]] = {"kept": "within", "did not": "above", "too early": "open", "no verdict": "none"}


def sentence(each: ChangeOutcome, figures: Figures) -> tuple[str, str]:
    """What a change did: a bold sentence, and the figures behind it."""
    if each.result is None or each.low is None or each.high is None:
        why = WHY[each.unjudged] if each.unjudged else "no verdict"
        if each.with_row:
            why = f"judged with row {each.with_row} of its sheet"
        return f"{why[0].upper()}{why[1:]}.", ""
    result, low, high = (per_month(value, 1) for value in (each.result, each.low, each.high))
    promised = f"It promised {figures.money(per_month(each.promised, 1))}." if each.promised > 0 else ""
    if each.kind.stops:
        share = each.stopped.share if each.stopped else 0.0
        bold = f"{figures.rate(share, 0)} of its spend stayed away: {figures.money(result)} per 30 days."
        rest = f"80 % range {range_words(low, high, figures)}. {promised} {_back(each, figures)}"
        return bold, " ".join(rest.split())
    word = "earns" if result >= 0 else "loses"
    bold = f"It {word} {figures.money(abs(result))} per 30 days; 80 % range {range_words(low, high, figures)}."
    return bold, " ".join(f"{promised} {_parts(each, figures)} {_close(each, figures)}".split())


def _back(each: ChangeOutcome, figures: Figures) -> str:
    if each.stopped is None:
        return ""
    came = each.stopped.back
    words = f"{figures.number(came, 1)} clicks a day" if came > 0 else "No clicks"
    text = f"{words} came back on the same searches under other targets."
    if each.worth is None:
        return text
    low, _, high = (per_month(amount, 1) for amount in sales_it_may_have_cost(each.stopped, each.worth))
    return f"{text} It may have cost {figures.money(low)} to {figures.money(high)} of sales per 30 days."


def _parts(each: ChangeOutcome, figures: Figures) -> str:
    """Clicks, price and worth of a click, in a sentence each."""
    if each.price is None or each.worth is None:
        return ""
    moved = each.price.clicks
    before, after = each.price.paid
    word = "rose" if moved.mean > 0 else "fell"
    text = f"Clicks {word} {figures.rate(abs(math.exp(moved.mean) - 1), 0)}"
    if before > 0:
        dearer = "more" if after > before else "less"
        text += f" and cost {figures.rate(abs(after / before - 1), 0)} {dearer} each"
    value = figures.money(each.price.worth.value, 2)
    return f"{text}. A click is worth {value} in {'margin' if each.margin_known else 'sales at the target ACOS'}."


def _close(each: ChangeOutcome, figures: Figures) -> str:
    """What the verdict follows from."""
    if each.within and each.chance is not None and each.price is not None:
        more, chance = figures.money(per_month(each.price.extra_sales, 1)), figures.rate(each.chance, 0)
        return f"It brings {more} more sales per 30 days. The chance that it is above target is {chance}."
    if each.chance is not None:
        return f"The chance that it loses money is {figures.rate(each.chance, 0)}."
    if each.verdict is OutcomeVerdict.DID_NOT:
        return "Even the top of the range is under half of the promise."
    return ""


def verdict_words(verdict: str, unjudged: str | None, until: str) -> tuple[str, str]:
    """A verdict and what stands under it."""
    if verdict == OutcomeVerdict.TOO_EARLY.value:
        return "too early", f"until {until}" if until else WHY.get(unjudged or "", "alone it cannot be judged")
    return verdict, WHY.get(unjudged or "", "")


def lead(lines: Sequence[SumLine], figures: Figures, mature: str) -> tuple[str, str]:
    """The answer that the page begins with."""
    wholes = [line for line in lines if line.whole and line.total.changes]
    if not wholes:
        return "Nothing can be judged yet.", f"Changes are judged from two weeks on; complete days end on {mature}."
    first = wholes[0].total
    if wholes[0].money == PROFIT:
        bold = (
            f"{figures.counted(first.changes, 'change')} {'earn' if first.result >= 0 else 'lose'}"
            f" {figures.money(per_month(abs(first.result), 1))} per 30 days, of"
            f" {figures.money(per_month(first.promised, 1))} promised."
        )
    else:
        bold = f"{figures.money(per_month(first.result, 1))} of spend per 30 days stays away."
    said = [f"80 % range {monthly_range(first, figures)}."]
    kept, did_not, early = (
        [line.name for line in lines if not line.whole and line.total.verdict is verdict]
        for verdict in (OutcomeVerdict.KEPT, OutcomeVerdict.DID_NOT, OutcomeVerdict.TOO_EARLY)
    )
    if kept:
        said.append(f"{_listed(kept)} kept their promise.")
    if did_not:
        said.append(f"{_listed(did_not)} did not: take them back.")
    if early:
        said.append(f"{_listed(early)}: too early to tell.")
    return bold, " ".join(said)


def _listed(names: Sequence[str]) -> str:
    lower = [names[0], *(name.lower() for name in names[1:])]
    return lower[0] if len(lower) == 1 else f"{', '.join(lower[:-1])} and {lower[-1]}"
