"""Tables of judged rows as data: their fields, columns and order, and what leaves as a file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.brands import NEITHER, OWN, RIVAL
from nimbus_reef.analysis.tables import NO, YES, Field, metric_fields, word_count, yes_or_no
from nimbus_reef.core import evidence
from nimbus_reef.core.bids import BidMove, Goal, Held
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.costly_words import WordAdvice
from nimbus_reef.core.metrics import METRICS, Unit, is_money
from nimbus_reef.core.model import MICRO, MatchType, SimpleVerdict, State, Verdict
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.tables import Table

STAYS: Final = "stays"
_VERDICTS = tuple(verdict.value for verdict in Verdict)
_POSITIVE_MATCHES = tuple(match.value for match in MatchType if not match.negative)


@dataclass(frozen=True, slots=True)
class View:
    """
    A table of judged rows. text_columns: what is searched; named_by: the column that rows are called by. typed: rows
    have a match type of their own, and a trend; adds_up: no money stands in two rows, so that sums and days before mean
    something.
    columns: its sets of columns, the usual one first; by_default: what it is sorted by. named, settings: what stands
    before and behind the figures where it leaves as a file.
    """

    name: str
    title: str
    subject: Subject
    thing: str
    things: str
    text_columns: tuple[str, ...]
    named_by: str
    columns: Mapping[str, tuple[str, ...]]
    named: tuple[str | pl.Expr, ...]
    settings: tuple[str | pl.Expr, ...] = ()
    by_default: str = "-stake"
    typed: bool = False
    adds_up: bool = True


COLUMN_SETS: Final[dict[str, tuple[str, ...]]] = {
    "usual": ("stake", "clicks", "orders", "cvr", "cpc", "rpc", "acos", "spend"),
    "evidence": ("stake", "clicks", "orders", "cvr", "needed_cvr", "p_over", "acos", "spend"),
    "value of a click": ("stake", "clicks", "cpc", "rpc", "aov", "roas", "acos", "spend"),
    "reach": ("impressions", "ctr", "clicks", "share_of_spend", "spend", "sales", "units", "acos"),
    "all metrics": tuple(METRICS),
}
_WORD_SETS: Final[Mapping[str, tuple[str, ...]]] = {
    "usual": ("waste", "due", "came", "factor", "p_word", "terms", "good_terms", "spend"),
    "plain sums": ("stake", "terms", "idle_terms", "idle_spend", "clicks", "orders", "cvr", "acos", "spend"),
    **{name: keys for name, keys in COLUMN_SETS.items() if name != "usual"},
}
BIDS: Final = "bids"
"""The set of columns that shows what bids are, what they should be, and why they stay."""
PRICES: Final = "prices"
"""The set that shows what clicks cost beside what they may, and what a change of the bid adds or spares."""
_PLACE: Final = ("campaign", "ad_group", "target", "match_type")
TARGETS = View(
    "targets",
    "Targets",
    Subject.TARGET,
    "target",
    "targets",
    ("target", "campaign", "ad_group"),
    "target",
    {
        **COLUMN_SETS,
        BIDS: ("bid", "next_bid", "aim", "cpc", "may_cost", "rpc", "worth", "gain", "held", "decided"),
        PRICES: ("clicks", "cpc", "may_cost", "bid", "next_bid", "more_clicks", "more_sales", "more_spend"),
    },
    named=_PLACE,
    settings=("state", pl.col("bid") / MICRO),
    typed=True,
)
TERMS = View(
    "terms",
    "Search terms",
    Subject.TERM,
    "search term",
    "search terms",
    ("term", "campaign", "ad_group"),
    "term",
    COLUMN_SETS,
    named=(*_PLACE, "term"),
)
WORDS = View(
    "words",
    "Words",
    Subject.PHRASE,
    "phrase",
    "phrases",
    ("phrase", "spelt"),
    "spelt",
    _WORD_SETS,
    named=(
        "phrase",
        "spelt",
        pl.col("length").alias("words"),
        "terms",
        "idle_terms",
        pl.col("idle_spend") / MICRO,
        "due",
        "came",
        "factor",
        "p_word",
        pl.col("waste") / MICRO,
        "good_terms",
        "good_orders",
        "fate",
    ),
    by_default="-waste",
    adds_up=False,
)
VIEWS: Final = {view.name: view for view in (TARGETS, TERMS, WORDS)}


P_OVER: Final = Field(
    "p_over", "chance above target", pl.col("p_over") * 100, "%", "Chance that the true ACOS is above target", digits=0
)


def fields(view: View, judge: str) -> dict[str, Field]:
    """What the rows can be filtered and sorted by."""
    stake = "excess" if judge == "simple" else "stake"
    metrics = {field.key: field for field in metric_fields()}
    own = [
        Field(
            "stake",
            "wasted",
            pl.col(stake) / 1e6,
            "¤",
            "Per 30 days: "
            + ("spend − target × sales, as observed" if judge == "simple" else "likely spend above target"),
            digits=0,
        ),
        P_OVER,
        Field(
            "needed_cvr",
            "needed CVR",
            pl.col("needed_cvr") * 100,
            "%",
            "Conversion at which its CPC meets target ACOS",
            digits=1,
        ),
        Field(
            "share_of_spend",
            "share of spend",
            pl.col("share_of_spend") * 100,
            "%",
            "Share of the spend of all rows",
            digits=1,
        ),
        Field("name", view.thing, pl.col(view.text_columns[0]), text=True),
        Field(
            "verdict",
            "verdict",
            pl.col("verdict"),
            options=_VERDICTS,
            definition="By the chance of being above target: ≥ 90 % above, ≥ 75 % likely above, ≤ 25 % within",
        ),
        Field(
            "simple",
            "simple rule",
            pl.col("simple_verdict"),
            options=tuple(verdict.value for verdict in SimpleVerdict),
            definition="Enough clicks, then ACOS above target or no order",
        ),
        Field(
            "planned",
            "in the plan",
            pl.col("planned"),
            options=(YES, NO),
            definition="Whether the plan already changes it",
        ),
        Field(
            "brand",
            "brand",
            pl.col("brand"),
            options=(OWN, RIVAL, NEITHER),
            definition="Whether it contains your brand or a rival's",
        ),
    ]
    return metrics | {field.key: field for field in (*own, *_OWN_FIELDS[view.name])}


_RISES: Final = pl.col("proposed") > pl.col("bid") / MICRO
_NEXT_BID: Final = pl.when(pl.col("move") != BidMove.PAUSE.value).then(pl.col("proposed"))
_ADDED: Final = "What the proposed change is expected to add in 30 days. Below 0 for a cut"
ADVISED: Final = (
    Field(
        "advice",
        "proposal",
        pl.when(pl.col("move") == BidMove.PAUSE.value)
        .then(pl.lit("pause"))
        .when(pl.col("move") == BidMove.NONE.value)
        .then(pl.lit(STAYS))
        .when(_RISES)
        .then(pl.lit("raise"))
        .otherwise(pl.lit("cut")),
        options=("raise", "cut", "pause", STAYS),
        definition="What is proposed for its bid",
    ),
    Field(
        "held",
        "why it stays",
        pl.col("held"),
        options=tuple(Held),
        digits=0,
        definition="The first reason for which its bid stays. Empty where it moves",
    ),
    Field("next_bid", "next bid", _NEXT_BID, "¤", "The proposed bid, or the present one", digits=2),
    Field("aim", "aim", pl.col("aim"), "¤", "The bid at which a click costs what it may", digits=2),
    Field("may_cost", "may cost", pl.col("may_cost"), "¤", "What a click may cost: goal ACOS × worth", digits=2),
    Field("worth", "worth", pl.col("worth"), "¤", "Sales that a click is expected to bring", digits=2),
    Field("gain", "gain", pl.col("gain"), "¤", "Expected gain of the change in 30 days, in profit", digits=2),
    Field(
        "carries",
        "carries the gain",
        pl.when("carries").then(pl.lit(YES)).otherwise(pl.lit(NO)),
        options=(YES, NO),
        definition="Whether it is among the changes that bring 95 % of all expected gain",
    ),
    Field("more_clicks", "added clicks", pl.col("more_clicks"), "", _ADDED, digits=0),
    Field("more_sales", "added sales", pl.col("more_sales"), "¤", _ADDED, digits=0),
    Field("more_spend", "added spend", pl.col("more_spend"), "¤", _ADDED, digits=0),
    yes_or_no(
        "over_price", "costs too much", pl.col("cpc") > pl.col("may_cost"), "Its CPC is above what a click may cost"
    ),
    yes_or_no(
        "quiet", "no traffic", pl.col("quiet"), "Live, eligible and in budget, but no impressions in the last 7 days"
    ),
    Field("goal", "goal", pl.col("goal"), options=tuple(Goal), definition="What its bid is to bring"),
    Field(
        "decided", "decided before", pl.col("decided"), "", "The latest change of it from the plan", digits=0, text=True
    ),
)
"""What is worked out on a target's bid, where it is asked for."""
_MATCH = Field("match", "match type", pl.col("match_type"), options=_POSITIVE_MATCHES)
_OWN_FIELDS: Final[Mapping[str, tuple[Field, ...]]] = {
    "terms": (
        _MATCH,
        word_count("term"),
        Field(
            "loses",
            "loses money",
            pl.when("loses").then(pl.lit(YES)).otherwise(pl.lit(NO)),
            options=(YES, NO),
            definition="At least 90 % sure that its clicks cost more than the margin of its orders, after a fair test",
        ),
    ),
    "targets": (
        _MATCH,
        Field("bid", "bid", pl.col("bid") / 1e6, "¤", "the bid on the last day of the period", digits=2),
        Field("bid_room", "CPC ÷ bid", pl.col("cpc") / (pl.col("bid") / 1e6), "", "CPC ÷ bid", digits=2),
        Field("state", "state", pl.col("state"), options=tuple(State)),
        *ADVISED,
    ),
    "words": (
        Field(
            "waste",
            "waste",
            pl.col("waste") / MICRO,
            "¤",
            "Likely spend per 30 days above what its orders pay for",
            digits=0,
        ),
        Field(
            "due",
            "due",
            pl.col("due"),
            "",
            "Orders expected of its searches without the word, from product, ad group, target and other words",
            digits=1,
        ),
        Field("came", "came", pl.col("came"), "", "Orders that came", digits=0),
        Field(
            "factor",
            "factor",
            pl.col("factor"),
            "×",
            "Conversion of its searches ÷ that of comparable searches without the word",
            digits=2,
        ),
        Field("p_word", "P", pl.col("p_word") * 100, "%", "Chance that its orders do not pay for its clicks", digits=0),
        Field(
            "good_terms",
            "good terms",
            pl.col("good_terms"),
            "",
            "Search terms that sell within target and would be blocked too",
            digits=0,
        ),
        Field("good_orders", "orders of good terms", pl.col("good_orders"), "", "Their orders", digits=0),
        Field(
            "fate",
            "proposal",
            pl.col("fate"),
            options=tuple(WordAdvice),
            definition="The proposal for the word, or the reason against one",
        ),
        Field("terms", "terms", pl.col("terms"), "", "Search terms with these words", digits=0),
        Field("idle_terms", "terms without order", pl.col("idle_terms"), "", "Search terms without an order", digits=0),
        Field(
            "idle_spend",
            "spend without order",
            pl.col("idle_spend") / MICRO,
            "¤",
            "Spend on search terms without an order",
            digits=0,
        ),
        Field("length", "words", pl.col("length"), "", "words in the phrase, one to three", digits=0),
    ),
}


_LEAVING: Final = tuple(each for each in METRICS.values() if each.leaves and not is_money(each.key))
_RATES: Final = (*(each.key for each in _LEAVING if each.unit is Unit.RATE), "needed_cvr", "p_over", "p_free", "p_word")
_AMOUNTS: Final = (
    *(each.key for each in METRICS.values() if each.unit is Unit.MONEY),
    *("stake", "likely_overspend", "excess", "bid", "idle_spend", "waste", "due", "factor"),
    *("next_bid", "aim", "may_cost", "worth", "gain", "more_sales", "more_spend"),
)
_JUDGED: Final = (
    *("needed_cvr", "p_over", "p_free", "own_test", "own_fault", "by_words"),
    *("verdict", "simple_verdict"),
)


_DIGITS: Final = 6
"""Of money that is worked out, as of money that is counted in micro-units."""


def table_to_export(view: View, rows: pl.DataFrame, window: Window) -> Table:
    """Every column that the table can show, money in units, rates as fractions."""
    # The stake of a row counts where it is costly or leaning, as the page's total has it.
    likely = pl.col("stake").alias("likely_overspend")
    amounts = (pl.col("spend"), pl.col("sales"), evidence.counted_stake(), likely, pl.col("excess"))
    money = [each.cast(pl.Float64) / MICRO for each in amounts]
    plain = (*(each.key for each in _LEAVING), *_JUDGED)
    advised = [
        (each.expr.round(_DIGITS) if each.unit == "¤" else each.expr).alias(each.key)
        for each in (ADVISED if "proposed" in rows.columns else ())
    ]
    return Table(
        f"{view.name}-{window.first}-{window.last}",
        rows.select(*view.named, *plain, *view.settings, *money, *advised).with_columns(
            pl.col(pl.Categorical).cast(pl.String)
        ),
        dict.fromkeys(_RATES, "0.0%") | dict.fromkeys(_AMOUNTS, "0.00"),
    )


def usual_sort(view: View, judge: str) -> str:
    """What a view is sorted by when nothing is asked; the simple rule knows no waste."""
    return view.by_default if judge != "simple" else "-stake"
