"""One's own rules as they are typed: condition, action, value."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

from nimbus_reef.analysis.tables import Field
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.tiers import ALWAYS, NEEDS_VALUE, NO_ORDER, ON_TARGETS, ON_TERMS, NoSale, RowAction, Tier, tier_of
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.typed import number

RULES: Final = 3
_FIRST: Final = ("acos", "clicks", "orders", "spend", "stake", "cvr", "cpc", "rpc", "bid")
"""What rules ask about most; any other figure of a row can be asked about too."""
_WORDS: Final[Mapping[RowAction, str]] = {
    RowAction.PAUSE: "pause",
    RowAction.ENABLE: "enable",
    RowAction.BID_BY: "change the bid by, %",
    RowAction.BID_TO: "set the bid to",
    RowAction.BID_TO_AIM: "set the bid that meets target ACOS",
    RowAction.NEGATIVE_EXACT: "negative, exact",
    RowAction.NEGATIVE_PHRASE: "negative, phrase",
    RowAction.OWN_TARGET: "promote to exact",
}


@dataclass(frozen=True, slots=True)
class RuleFields:
    """One rule as it is in the form."""

    metric: str
    least: str
    most: str
    action: str
    value: str
    no_sale: str = ""


def actions_of(subject: Subject) -> tuple[tuple[str, str], ...]:
    """What can be done to rows of a subject, with words; nothing by hand for phrases, which stand in many places."""
    offered = {Subject.TARGET: ON_TARGETS, Subject.TERM: ON_TERMS}.get(subject, ())
    return tuple((each.value, _WORDS[each]) for each in offered)


def metrics_of(fields: Mapping[str, Field], symbol: str) -> tuple[tuple[str, str], ...]:
    """What rules can ask about."""
    asked = [
        (key, f"{fields[key].label} {symbol if fields[key].unit == '¤' else fields[key].unit}".strip())
        for key in _asked(fields)
    ]
    return (ALWAYS, "all of them"), (NO_ORDER, "without an order"), *asked


def _asked(fields: Mapping[str, Field]) -> tuple[str, ...]:
    """The figures of a row by their keys."""
    return tuple(key for key in dict.fromkeys((*_FIRST, *fields)) if key in fields and fields[key].digits is not None)


def given(form: Mapping[str, str]) -> tuple[RuleFields, ...]:
    """The rules of a form as they were typed."""
    return tuple(
        RuleFields(*(form.get(f"{name}{place}", "").strip() for name in ("if", "from", "to", "do", "by", "none")))
        for place in range(1, RULES + 1)
    )


def tiers(rules: Sequence[RuleFields], subject: Subject, fields: Mapping[str, Field], locale: str) -> list[Tier]:
    """The rules that do something; BadInput for what cannot be meant, or where none does."""
    offered = dict(actions_of(subject))
    entries = [_tier(rule, offered, fields, locale) for rule in rules if rule.action]
    if not entries:
        raise BadInput("No rule has an action.", remedy="Choose an action.")
    return entries


def _tier(rule: RuleFields, offered: Mapping[str, str], fields: Mapping[str, Field], locale: str) -> Tier:
    if rule.action not in offered:
        raise BadInput(f"“{rule.action}” is not an action here.", remedy=f"Choose {', '.join(offered)}.")
    if rule.metric not in (ALWAYS, NO_ORDER, *_asked(fields)):
        raise BadInput(f"“{rule.metric}” is not a metric here.", remedy="Choose from the list.")
    least, most = (_figure(text, locale) for text in (rule.least, rule.most))
    if rule.metric not in (ALWAYS, NO_ORDER) and least is None and most is None:
        raise BadInput(f"{fields[rule.metric].label}: enter from or to.", remedy="Enter at least one of the two.")
    if least is not None and most is not None and most < least:
        raise BadInput(f"From {rule.least} to {rule.most} is empty.", remedy="Swap the two.")
    action, value = RowAction(rule.action), _figure(rule.value, locale)
    if action in NEEDS_VALUE and value is None:
        raise BadInput(f"“{offered[rule.action]}” needs a figure.", remedy="Enter a number such as -20 or 0.85.")
    if action is RowAction.BID_BY and value is not None:
        value = value / 100
        if not -1 < value <= 9:
            raise BadInput(f"A bid cannot change by {rule.value} %.", remedy="Enter -99 to 900.")
    if action is RowAction.BID_TO and value is not None and value <= 0:
        raise BadInput("A bid must be above 0.", remedy="Pause it to stop it.")
    if rule.no_sale not in tuple(NoSale):
        raise BadInput(f"“{rule.no_sale}” is not an option for rows without a sale.", remedy="Choose from the list.")
    return Tier(rule.metric, least, most, action, value, NoSale(rule.no_sale))


def no_sale_notices(
    rules: Sequence[Tier], rows: pl.DataFrame, worth: Mapping[str, pl.Expr], figures: Figures
) -> dict[str, str]:
    """
    The questions that rules on ACOS leave open: by the name of the field that answers each, how many rows without a
    sale it is about, and on what clicks.
    """
    asked = {}
    for place, rule in enumerate(rules, 1):
        if not rule.endless or rule.no_sale is not NoSale.ASK:
            continue
        earlier = [*rules[: place - 1], replace(rule, no_sale=NoSale.ABOVE)]
        meant = rows.with_columns(tier_of(earlier, dict(worth))).filter(
            (pl.col("tier") == place - 1) & (pl.col("sales") <= 0)
        )
        if meant.is_empty():
            continue
        few = int((meant["clicks"] < _FEW).sum())
        asked[f"none{place}"] = (
            f"{figures.counted(len(meant), 'row')} spent and sold nothing, {figures.count(few)} of them on fewer than"
            f" {_FEW} clicks. Are they above {rule.least:g} % ACOS?"
        )
    return asked


_FEW: Final = 10


def _figure(text: str, locale: str) -> float | None:
    if not text:
        return None
    read = number(text.removesuffix("%").strip().replace("−", "-"), locale)
    if read is None:
        raise BadInput(f"“{text}” is not a number.", remedy="Enter a number such as 60 or -20.")
    return float(read)


def in_words(rule: Tier, fields: Mapping[str, Field]) -> str:
    """A rule in a few words, as the change sheet has it for a reason."""
    text = {ALWAYS: "chosen by hand", NO_ORDER: "no order"}.get(rule.metric)
    if text is None:
        ends = [f"from {rule.least:g}"] if rule.least is not None else []
        ends += [f"to {rule.most:g}"] if rule.most is not None else []
        text = f"{fields[rule.metric].label} {' '.join(ends)}"
    return f"own rule: {text} → {rule.action.value}" + ("" if rule.value is None else f" {_value(rule)}")


def _value(rule: Tier) -> str:
    assert rule.value is not None
    return f"{rule.value * 100:+g} %" if rule.action is RowAction.BID_BY else f"{rule.value:g}"
