"""
What a click is worth, the bid that follows for every target at once, and why a bid stays.

aim = target ACOS × worth of a click × what is bid for each unit paid; a bid goes half of the way there, in ratios.
Formulas: "Bids" in docs/calculations.md. Money here is in units of currency.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import numpy as np
import polars as pl
from scipy.optimize import brentq
from scipy.special import betainc

from nimbus_reef.core.cases import first_that_holds
from nimbus_reef.core.reasons import Reason, ReasonKey
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.windows import month_factor

STEP_DOWN = 0.30
STEP_UP = 0.20
OPENING = (0.5, 1.5)
LOSES_AT: Final = 0.90
"""From this chance on a row that had its own test loses money."""
WAIT_DAYS: Final = 10
"""A bid that anybody changed fewer days ago stays."""
NEAR_AIM: Final = 0.03
_PAID_RATIO: Final = 1.2
"""What is bid for each unit paid where nothing was paid yet."""
_RATIO_ENDS: Final = (0.5, 2.0)
_MOST_RAISE: Final = 2.0
_NO_BID_LEFT: Final = 10
"""An aim below the bid by more than this leaves no bid."""
QUIET_DAYS: Final = 7
"""Without an impression for so long, a live target is without traffic."""
CARRIES: Final = 0.95


class Goal(StrEnum):
    """What bids are to bring; leave: nothing is proposed."""

    SALES = "most sales"
    PROFIT = "most profit"
    LEAVE = "leave"


class Pace(StrEnum):
    """How far a bid moves at once: half of the way in ratios, all of it, or at most the account's largest steps."""

    HALF = "half way"
    AT_ONCE = "at once"
    STEPS = "steps"


class Held(StrEnum):
    """Why a bid stays; the first that applies."""

    NOT_LIVE = "paused or ended"
    LEFT = "left as you asked"
    YOUNG = "campaign too young"
    NO_BID = "bid unknown"
    NO_WORTH = "worth of a click unknown"
    JUST_MOVED = "changed lately"
    ON_AIM = "bid is right"
    PRICE = "price is right"
    ABOVE_TARGET = "above target"
    OWN_BRAND = "own brand"
    OUT_OF_BUDGET = "out of budget"
    PAGE = "page broke"
    FLOOR = "at lowest bid"
    CEILING = "at highest bid"
    SPEND = "spend limit"
    SMALL = "less than a cent"
    TINY = "a few cents a month"


class BidMove(StrEnum):
    """What is advised for a target."""

    BID = "bid"
    PAUSE = "pause"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class BidLimits:
    """
    Bid limits of the account: floor, ceiling, largest steps (None: none). opening_least, opening_most: limits of an
    opening bid, in parts of what its clicks cost.
    """

    floor: float = 0.02
    ceiling: float = 10.0
    step_down: float | None = None
    step_up: float | None = None
    opening_least: float = OPENING[0]
    opening_most: float = OPENING[1]


STANDARD_LIMITS = BidLimits()


@dataclass(frozen=True, slots=True)
class BidRule:
    """
    How an account's bids move. most_spend: what all changes of bids together may spend, in parts of the spend now;
    raises_brand: whether bids on the own brand rise too; coin: the smallest step of a bid; least_gain: in 30 days, what
    gains less is not proposed.
    """

    pace: Pace = Pace.HALF
    most_spend: float = 1.10
    raises_brand: bool = False
    coin: float = 0.01
    least_gain: float = 0.05


STANDARD_RULE: Final = BidRule()


@dataclass(frozen=True, slots=True)
class BidAdvice:
    """The proposed bid (equal to the present one when it should stay) and its reasons."""

    bid: float
    proposed: float
    aim: float
    reasons: tuple[Reason, ...]


@dataclass(frozen=True, slots=True)
class TargetAdvice:
    """
    The advice on one target: a row of `advised` with what it was told, and whether more is behind it: see there.
    cohort_mean: what similar targets convert.
    """

    bid: float | None
    proposed: float | None
    aim: float | None
    move: BidMove
    held: str
    worth: float | None = None
    ratio: float = 1.0
    ratio_end: str = ""
    multiplier: float = 1.0
    may_cost: float | None = None
    goal: str = Goal.SALES.value
    goal_acos: float = 0.0
    margin: float | None = None
    p_lose: float | None = None
    doubled: bool = False
    at_floor: bool = False
    at_ceiling: bool = False
    stepped: bool = False
    share_of_raise: float = 1.0
    floor: float = 0.0
    ceiling: float = 0.0
    step_down: float | None = None
    step_up: float | None = None
    moved_days: int | None = None
    cohort_mean: float | None = None
    quiet: bool = False
    history_clicks: int | None = None
    history_orders: int | None = None

    def because(self, rule: BidRule, response: ClickResponse) -> tuple[Reason, ...]:
        """The sentence on its bid, and every limit that bit."""
        if self.bid is None or self.aim is None:
            return ()
        peaks = self.goal == Goal.PROFIT.value and self.margin is not None
        half = rule.pace is Pace.HALF and self.move is BidMove.BID
        why = [
            Reason(
                ReasonKey.AIM,
                (
                    self.worth,
                    self.goal_acos,
                    self.may_cost,
                    self.aim,
                    self.ratio,
                    self.ratio_end,
                    int(self.multiplier != 1),
                    self.bid if half else None,
                    self.margin if peaks else None,
                    response.e,
                ),
            )
        ]
        if self.move is not BidMove.BID:
            return tuple(why)
        rises = (self.proposed or 0.0) > self.bid
        if rises and self.quiet:
            why.append(Reason(ReasonKey.NO_TRAFFIC, (QUIET_DAYS,)))
            if self.history_clicks and not self.history_orders:
                why.append(Reason(ReasonKey.NEVER_SOLD, (self.history_clicks,)))
        why += [
            Reason(key, figures)
            for bit, key, figures in (
                (self.stepped and rises, ReasonKey.STEP_UP, (self.step_up,)),
                (self.stepped and not rises, ReasonKey.STEP_DOWN, (self.step_down,)),
                (self.doubled, ReasonKey.DOUBLED, ()),
                (self.at_floor, ReasonKey.FLOOR, (self.floor,)),
                (self.at_ceiling, ReasonKey.CEILING, (self.ceiling,)),
                (rises and self.share_of_raise < 1, ReasonKey.SPEND_LIMIT, (self.share_of_raise, rule.most_spend - 1)),
                (
                    not peaks and self.margin is not None and self.goal_acos > self.margin,
                    ReasonKey.ABOVE_MARGIN,
                    (self.margin,),
                ),
            )
            if bit
        ]
        return tuple(why)


def value_per_click(expected_cvr: float, aov: float) -> float:
    """V = E[CVR] · AOV, what one click earns in sales."""
    return expected_cvr * aov


def bid_ratio(bid: float, cpc: float) -> float:
    """r: what is bid for each unit paid for a click, clipped 0.5…2."""
    return min(max(bid / cpc, _RATIO_ENDS[0]), _RATIO_ENDS[1])


def opening(
    *, value: float, target_acos: float, cpc: float, ratio: float, limits: BidLimits = STANDARD_LIMITS
) -> BidAdvice:
    """
    The opening bid of a promoted term, close to what its clicks cost so far, and its reasons.

    A few lucky clicks show a high worth; opening near today's price finds out at today's cost.

    Parameters
    ----------
    value : money a click
        What a click brings.
    target_acos : fraction
    cpc : money a click
        What its clicks cost where it was bought.
    ratio : number
        What is bid there for each unit paid.
    limits : BidLimits
        At most `opening_most` (1.5) times and at least `opening_least` (half) of today's price.

    Returns
    -------
    BidAdvice
        Money in the unit of `cpc`.

    References
    ----------
    docs/calculations.md, “Bids”.
    """
    paid = cpc * ratio
    aim = target_acos * value * ratio
    near = min(max(aim, limits.opening_least * paid), limits.opening_most * paid)
    bid = round(min(max(near, limits.floor), limits.ceiling), 2)
    reasons = [Reason(ReasonKey.OPENING_BID, (bid, value, target_acos))]
    if near != aim:
        reasons.append(
            Reason(ReasonKey.OPENING_NEAR, (cpc, limits.opening_most if near < aim else limits.opening_least))
        )
    if bid != round(near, 2):
        reasons.append(Reason(ReasonKey.FLOOR if bid > near else ReasonKey.CEILING, (bid,)))
    return BidAdvice(bid, bid, aim, tuple(reasons))


def loses(clicks: pl.Series, spend: pl.Series, needed: pl.Series, a: pl.Series, b: pl.Series) -> pl.DataFrame:
    """
    Whether rows lose money for sure enough to be stopped.

    Parameters
    ----------
    clicks, spend : a row each
        Of the window.
    needed : money an order
        What an order may cost at most: order value × margin, or × target where no margin is known.
    a, b : counts
        The posterior of its conversion.

    Returns
    -------
    frame
        p_lose, the chance that an order costs more than that (null where it cannot be told), and loses: from 90 % on,
        where its own clicks would have brought an order (n·π ÷ needed ≥ 1).

    References
    ----------
    docs/calculations.md, “Bids”.
    """
    frame = pl.DataFrame({"n": clicks, "spend": spend, "needed": needed, "a": a, "b": b}).cast(pl.Float64)
    price, worth, alpha, beta = (
        frame.select(pl.col("spend") / pl.col("n"), "needed", "a", "b").fill_null(float("nan")).to_numpy().T
    )
    with np.errstate(divide="ignore", invalid="ignore"):
        chance = betainc(alpha, beta, np.minimum(price / worth, 1.0))
    p_lose = pl.Series("p_lose", chance, nan_to_null=True)
    tested = (frame["spend"] >= frame["needed"]).fill_null(False)
    return pl.DataFrame({"p_lose": p_lose, "loses": tested & (p_lose >= LOSES_AT).fill_null(False)})


def advised(rows: pl.DataFrame, response: ClickResponse, rule: BidRule = STANDARD_RULE, days: int = 30) -> pl.DataFrame:
    """
    The bid that every target of an account should have next, or why it stays.

    Parameters
    ----------
    rows : frame
        One row a target, money in units: clicks, orders, spend of the window; a, b (posterior of its conversion), aov
        (what an order is worth); bid (in force, null where unknown), window_bid (click-weighted over the window),
        multiplier (what adjustments in force multiply bids by); target_acos, margin (fractions, margin null where it
        is unknown), goal; floor, ceiling; step_down, step_up (fractions, null for none); booleans above_target,
        own_brand, out_of_budget, page_broke, live, waits, quiet (live without an impression for a week: its bid rises
        step by step however little that gains); moved_days (since anybody changed the bid, null for never).
    response : ClickResponse
        How clicks and prices answer bids.
    rule : BidRule
    days : days
        Of the window, from which gains are scaled to 30.

    Returns
    -------
    frame
        In the same order: worth (v), ratio (r), ratio_end (“most” or “least” where r was held there, else empty), peak
        (ACOS of most profit, null without a margin), goal_acos (T*), may_cost (T*·v), aim, p_lose, move (of
        `BidMove`), proposed (the new bid; the present one where it stays), held (of `Held`, empty where it moves),
        doubled, at_floor, at_ceiling, stepped (which limit bit), share_of_raise (how much of each raise the limit on
        spend leaves, 1 for all), more_clicks, more_sales, more_spend (what the change is expected to add in 30 days, in
        units, less than 0 for a cut), gain (the same in profit, at the margin at which its goal ACOS is the peak),
        carries (whether it is among those that bring 95 % of all gain).

    References
    ----------
    docs/calculations.md, “Bids”.
    """
    worth = _worth(rows, response)
    margin = pl.coalesce("margin", "target_acos")
    needed = worth.select((pl.col("aov") * margin).alias("needed"))["needed"]
    lost = loses(worth["clicks"], worth["spend"], needed, worth["a"], worth["b"])
    wanted = _with_cost(_wanted(worth.hstack(lost), rule))
    share = _share_of_raise(wanted, response, rule)
    gained = _with_gain(_settled(wanted, share, rule), response, rule, days)
    return gained.with_columns(carries=carries(gained["gain"])).select(_ADVISED)


def carries(gain: pl.Series) -> pl.Series:
    """Which of the gains bring 95 % of their sum, the largest first."""
    rows = pl.DataFrame({"gain": gain}).with_row_index().sort("gain", descending=True, maintain_order=True)
    positive = pl.col("gain").clip(lower_bound=0.0)
    needed = positive.cum_sum().shift(fill_value=0.0) < CARRIES * positive.sum()
    return rows.with_columns(carries=needed & (pl.col("gain") > 0)).sort("index")["carries"]


_ADVISED: Final = (
    "worth",
    "ratio",
    "ratio_end",
    "peak",
    "goal_acos",
    "may_cost",
    "aim",
    "p_lose",
    "move",
    "proposed",
    "held",
    "doubled",
    "at_floor",
    "at_ceiling",
    "stepped",
    "share_of_raise",
    "more_clicks",
    "more_sales",
    "more_spend",
    "gain",
    "carries",
)


def _worth(rows: pl.DataFrame, response: ClickResponse) -> pl.DataFrame:
    """With what a click is worth, what it may cost and the bid at which it costs that."""
    clicked = pl.col("spend") > 0
    price = pl.when(clicked).then(pl.col("spend") / pl.col("clicks"))
    paid = pl.col("window_bid") / pl.col("price")
    least, most = (end / pl.col("multiplier") for end in _RATIO_ENDS)
    peak = pl.col("margin") * response.peak
    to_peak = (pl.col("goal") == Goal.PROFIT.value) & pl.col("margin").is_not_null()
    return (
        rows.with_columns(
            price=price,
            worth=pl.col("aov") * pl.col("a") / (pl.col("a") + pl.col("b")),
            peak=peak,
            goal_acos=pl.when(to_peak).then(pl.min_horizontal("target_acos", peak)).otherwise("target_acos"),
        )
        .with_columns(
            ratio=pl.when(clicked).then(paid.clip(least, most)).otherwise(_PAID_RATIO / pl.col("multiplier")),
            ratio_end=pl.when(clicked & (paid > most))
            .then(pl.lit("most"))
            .when(clicked & (paid < least))
            .then(pl.lit("least"))
            .otherwise(pl.lit("")),
            may_cost=pl.col("goal_acos") * pl.col("worth"),
        )
        .with_columns(aim=pl.col("may_cost") * pl.col("ratio"))
    )


def _wanted(rows: pl.DataFrame, rule: BidRule) -> pl.DataFrame:
    """With the bid that is wanted within each row's own limits, whether it is paused, and why it stays."""
    bid, aim = pl.col("bid"), pl.col("aim")
    step = (bid * aim).sqrt() if rule.pace is Pace.HALF else aim
    least, most = bid * (1 - pl.col("step_down").fill_null(1.0)), bid * (1 + pl.col("step_up"))
    stepped = pl.max_horizontal(pl.min_horizontal(step, most), least)
    limited = pl.min_horizontal("stepped_bid", _MOST_RAISE * bid)
    floored = pl.min_horizontal(pl.max_horizontal(limited, "floor"), pl.max_horizontal("ceiling", "floor"))
    # Where the bid is not known, its price stands in: then the ratio between them is no matter.
    too_dear = pl.coalesce(aim < bid / _NO_BID_LEFT, pl.col("may_cost") < pl.col("price") / _NO_BID_LEFT)
    no_bid_left = too_dear | (aim < pl.col("floor")).fill_null(False)
    placed = (
        rows.with_columns(step=step, stepped_bid=stepped)
        .with_columns(wanted=floored, limited=limited)
        .with_columns(
            stepped=(pl.col("stepped_bid") != pl.col("step")).fill_null(False),
            doubled=(pl.col("limited") < pl.col("stepped_bid")).fill_null(False),
            at_floor=(pl.col("wanted") > pl.col("limited")).fill_null(False),
            at_ceiling=(pl.col("wanted") < pl.col("limited")).fill_null(False),
        )
    )
    why = _why_held(rule)
    free = pl.col("live") & ~pl.col("waits") & (pl.col("goal") != Goal.LEAVE.value)
    stops = (free & pl.col("loses") & no_bid_left).fill_null(False)
    return placed.with_columns(stops=stops, held=pl.when(stops).then(pl.lit("")).otherwise(why))


def _why_held(rule: BidRule) -> pl.Expr:
    """The first reason, without the limit on spend, for which a bid stays; empty where it moves."""
    bid, aim, wanted = pl.col("bid"), pl.col("aim"), pl.col("wanted")
    near = (aim - bid).abs() <= pl.max_horizontal(pl.lit(rule.coin), NEAR_AIM * bid) + _ALIKE
    rises, falls = wanted > bid + _ALIKE, wanted < bid - _ALIKE
    price_is_right = ((pl.col("ratio_end") != "") & (pl.col("spend") > 0)) & (
        (falls & (pl.col("price") <= pl.col("may_cost") * (1 + _ALIKE)))
        | (rises & (pl.col("price") >= pl.col("may_cost") * (1 - _ALIKE)))
    )
    lately = pl.col("moved_days") < WAIT_DAYS if rule.pace is not Pace.AT_ONCE else pl.lit(False)
    brand = pl.col("own_brand") if not rule.raises_brand else pl.lit(False)
    cases = (
        (Held.NOT_LIVE, ~pl.col("live")),
        (Held.LEFT, pl.col("goal") == Goal.LEAVE.value),
        (Held.YOUNG, pl.col("waits")),
        (Held.NO_BID, bid.is_null()),
        (Held.NO_WORTH, aim.is_null()),
        (Held.JUST_MOVED, lately),
        (Held.ON_AIM, near),
        (Held.PRICE, price_is_right),
        (Held.ABOVE_TARGET, rises & pl.col("above_target")),
        (Held.OWN_BRAND, rises & brand),
        (Held.OUT_OF_BUDGET, rises & pl.col("out_of_budget")),
        (Held.PAGE, rises & pl.col("page_broke")),
        (Held.FLOOR, ~rises & ~falls & pl.col("at_floor")),
        (Held.CEILING, ~rises & ~falls & pl.col("at_ceiling")),
    )
    return first_that_holds(cases, "")


_ALIKE: Final = 1e-9


def _with_cost(rows: pl.DataFrame) -> pl.DataFrame:
    """
    With the clicks and spend to expect of each row at its bid, due_clicks and cost: those it had. A live row without
    clicks counts as the clicks of rows with exactly one, shared out among all like it.
    """
    idle = pl.col("live") & (pl.col("clicks") == 0) & pl.col("bid").is_not_null()
    once = (pl.col("clicks") == 1).sum()
    each = pl.when(idle.sum() > 0).then(once / idle.sum()).otherwise(0.0)
    paid = pl.col("bid") * pl.col("multiplier") / _PAID_RATIO
    return rows.with_columns(
        due_clicks=pl.when(idle).then(each).otherwise(pl.col("clicks").cast(pl.Float64)),
        cost=pl.when(idle).then(paid * each).otherwise(pl.col("spend")).fill_null(0.0),
    )


def _with_gain(rows: pl.DataFrame, response: ClickResponse, rule: BidRule, days: int) -> pl.DataFrame:
    """With what each change adds and gains; changes that gain next to nothing stay, but those that look for traffic."""
    margin = pl.col("goal_acos") / response.peak if response.peak else pl.lit(0.0)
    month, x = month_factor(days), pl.col("proposed") / pl.col("bid")
    moves = pl.col("move") == BidMove.BID.value

    def added(name: str, whole: pl.Expr, power: float) -> pl.Expr:
        part = pl.when("stops").then(-1.0).when(moves).then(x**power - 1).otherwise(0.0)
        return (whole * part * month).fill_null(0.0).alias(name)

    gained = rows.with_columns(
        added("more_clicks", pl.col("due_clicks"), response.e),
        added("more_sales", pl.col("worth") * pl.col("due_clicks"), response.e),
        added("more_spend", pl.col("cost"), response.of_spend),
    ).with_columns(gain=(margin * pl.col("more_sales") - pl.col("more_spend")).fill_null(0.0))
    looks = pl.col("quiet") & (x > 1)
    tiny = moves & ~looks.fill_null(False) & (pl.col("gain") < rule.least_gain) & pl.lit(rule.least_gain > 0)
    stays = {"held": pl.lit(Held.TINY.value), "move": pl.lit(BidMove.NONE.value), "proposed": pl.col("bid")}
    nothing = dict.fromkeys(("more_clicks", "more_sales", "more_spend", "gain"), pl.lit(0.0))
    return gained.with_columns(
        pl.when(tiny).then(then).otherwise(name).alias(name) for name, then in (stays | nothing).items()
    )


def _share_of_raise(rows: pl.DataFrame, response: ClickResponse, rule: BidRule) -> float:
    """The part of every raise, in ratios, at which all changes together spend no more than the rule allows."""
    moves = (pl.col("held") == "") & ~pl.col("stops")
    cost, ln, stops = (
        rows.select(
            "cost",
            pl.when(moves).then((pl.col("wanted") / pl.col("bid")).log()).fill_null(0.0).alias("ln"),
            pl.col("stops").cast(pl.Float64),
        )
        .to_numpy()
        .T
    )
    falls = float(np.sum(cost * np.where(ln <= 0, np.exp(ln * response.of_spend), 0.0) * (1 - stops)))
    up = (ln > 0) & (stops == 0)
    rising, ln_up = cost[up], ln[up] * response.of_spend
    most = float(cost.sum()) + (rule.most_spend - 1) * float(rows["spend"].sum())

    def beyond(share: float) -> float:
        return falls + float(np.sum(rising * np.exp(share * ln_up))) - most

    if beyond(1.0) <= 0 or not up.any():
        return 1.0
    return 0.0 if beyond(0.0) >= 0 else float(brentq(beyond, 0.0, 1.0))


def to_coin(money: pl.Expr, rule: BidRule) -> pl.Expr:
    """Money rounded to the smallest coin, half up."""
    return ((money / rule.coin + 0.5 + _ALIKE).floor() * rule.coin).round(6)


def _settled(rows: pl.DataFrame, share: float, rule: BidRule) -> pl.DataFrame:
    """With the bids as they are proposed: raises held to their share, rounded to the smallest coin, half up."""
    bid, wanted = pl.col("bid"), pl.col("wanted")
    raised = pl.max_horizontal(bid * (wanted / bid) ** share, "floor")
    shared = pl.when(wanted > bid).then(raised).otherwise(wanted)
    rounded = to_coin(shared, rule)
    stays = (pl.col("rounded") - to_coin(bid, rule)).abs() < rule.coin / 2
    small = (
        pl.when((wanted > bid + _ALIKE) & pl.lit(share < 1.0))
        .then(pl.lit(Held.SPEND.value))
        .when((wanted <= pl.col("floor")) & (bid <= pl.col("floor") + _ALIKE))
        .then(pl.lit(Held.FLOOR.value))
        .when((wanted >= pl.col("ceiling")) & (bid >= pl.col("ceiling") - _ALIKE))
        .then(pl.lit(Held.CEILING.value))
        .otherwise(pl.lit(Held.SMALL.value))
    )
    held = pl.when((pl.col("held") == "") & ~pl.col("stops") & stays).then(small).otherwise("held")
    move = (
        pl.when("stops")
        .then(pl.lit(BidMove.PAUSE.value))
        .when(pl.col("held") == "")
        .then(pl.lit(BidMove.BID.value))
        .otherwise(pl.lit(BidMove.NONE.value))
    )
    return (
        rows.with_columns(rounded=rounded)
        .with_columns(held=held, share_of_raise=pl.lit(share))
        .with_columns(move=move)
        .with_columns(proposed=pl.when(pl.col("move") == BidMove.BID.value).then("rounded").otherwise(bid))
    )
