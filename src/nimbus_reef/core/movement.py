"""Who moved how: spend against sales, then and now ("Movement classes")."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core.model import MICRO
from nimbus_reef.core.windows import month_factor

_TINY: Final = 1e-9
"""Below any difference that money can make to a marginal cost: what dividing leaves over."""
_PARTS: Final = 10_000


@dataclass(frozen=True, slots=True)
class MovementLimits:
    """flat: the largest change that counts as none, a fraction; clicks, orders: the least in each window."""

    flat: float = 0.05
    clicks: int = 100
    orders: int = 10


STANDARD: Final = MovementLimits()


class Movement(StrEnum):
    """What a product, campaign or keyword did with its money."""

    LEAKING = "leaking"
    BUYING = "buying growth"
    GAINING = "gaining"
    SLIPPING = "slipping"
    STEADY = "steady"
    SHRINKING = "shrinking"
    SAVING = "saving"
    NEW = "new"
    GONE = "gone"


def moved(rows: pl.DataFrame, days_then: int, days_now: int, limits: MovementLimits = STANDARD) -> pl.DataFrame:
    """
    Adds what each row did between two windows, money per 30 days in the unit of the rows.

    Parameters
    ----------
    rows : frame
        spend0, sales0, clicks0, orders0, the same with 1 (ad sales, sums of each window), target_acos and margin
        (fractions, null where unknown).
    days_then, days_now : days
        That the sums are of.
    limits : MovementLimits

    Returns
    -------
    frame
        With movement (see `Movement`, from per-day figures, flat within ±5 %, of the limits, inclusive); spend_change,
        sales_change; acos0, acos1 (null without sales); marginal: Δspend/Δsales of what bought growth or shrank; worth:
        whether that is within the target; profit: margin·Δsales - Δspend, with the target in the margin's place where
        none is known; thin: too few clicks or orders in a window to tell.
    """
    per = {0: month_factor(days_then), 1: month_factor(days_now)}
    spend0, spend1 = (pl.col(f"spend{when}") * per[when] for when in (0, 1))
    sales0, sales1 = (pl.col(f"sales{when}") * per[when] for when in (0, 1))
    acos = [
        pl.when(pl.col(f"sales{when}") > 0).then(pl.col(f"spend{when}") / pl.col(f"sales{when}")) for when in (0, 1)
    ]
    spend, sales = (_direction(name, days_then, days_now, limits.flat) for name in ("spend", "sales"))
    endless = [
        pl.when(pl.col(f"spend{when}") > 0).then(each.fill_null(float("inf"))).otherwise(each)
        for when, each in enumerate(acos)
    ]
    rose, fell = endless[1] > endless[0], endless[1] < endless[0]
    then_idle = (pl.col("spend0") == 0) & (pl.col("sales0") == 0)
    now_idle = (pl.col("spend1") == 0) & (pl.col("sales1") == 0)
    movement = (
        pl.when(then_idle & now_idle)
        .then(pl.lit(Movement.STEADY.value))
        .when(then_idle)
        .then(pl.lit(Movement.NEW.value))
        .when(now_idle)
        .then(pl.lit(Movement.GONE.value))
        .when((spend == 1) & (sales == 1))
        .then(pl.when(rose).then(pl.lit(Movement.BUYING.value)).otherwise(pl.lit(Movement.GAINING.value)))
        .when(spend == 1)
        .then(pl.lit(Movement.LEAKING.value))
        .when((spend == 0) & (sales == -1))
        .then(pl.lit(Movement.SLIPPING.value))
        .when((spend == 0) & (sales == 0))
        .then(pl.lit(Movement.STEADY.value))
        .when((spend == -1) & (sales == -1))
        .then(pl.when(fell).then(pl.lit(Movement.SAVING.value)).otherwise(pl.lit(Movement.SHRINKING.value)))
        .when((spend == -1) & (sales == 0))
        .then(pl.lit(Movement.SAVING.value))
        .otherwise(pl.lit(Movement.GAINING.value))
    )
    earned = pl.coalesce("margin", "target_acos")
    few = pl.lit(False)
    for when in (0, 1):
        few = few | (pl.col(f"clicks{when}") < limits.clicks) | (pl.col(f"orders{when}") < limits.orders)
    return (
        rows.with_columns(
            movement=movement,
            spend_change=spend1 - spend0,
            sales_change=sales1 - sales0,
            acos0=acos[0],
            acos1=acos[1],
            thin=few,
        )
        .with_columns(
            marginal=pl.when(
                pl.col("movement").is_in([Movement.BUYING.value, Movement.SHRINKING.value])
                & (pl.col("sales_change") != 0)
            ).then(pl.col("spend_change") / pl.col("sales_change")),
            profit=earned * pl.col("sales_change") - pl.col("spend_change"),
        )
        .with_columns(
            # Growth is worth buying below the target; a cut is cheap where what was cut cost more.
            worth=pl.when(pl.col("movement") == Movement.BUYING.value)
            .then(pl.col("marginal") <= pl.col("target_acos") + _TINY)
            .when(pl.col("movement") == Movement.SHRINKING.value)
            .then(pl.col("marginal") > pl.col("target_acos") + _TINY)
        )
    )


def stake() -> pl.Expr:
    """
    What a movement costs per 30 days, in the unit of the rows `moved` gave, not below 0: of a leak the profit lost,
    of growth that was bought the spend above what its sales may cost.
    """
    bought = pl.col("spend_change") - pl.col("target_acos") * pl.col("sales_change")
    money = pl.when(pl.col("movement") == Movement.BUYING.value).then(bought).otherwise(-pl.col("profit"))
    return pl.max_horizontal(0.0, money)


def _direction(name: str, days_then: int, days_now: int, flat: float) -> pl.Expr:
    """−1 down, 0 flat, 1 up per day, compared in micro-units; from nothing to something is up."""
    then, now = ((pl.col(f"{name}{when}") * MICRO).round().cast(pl.Int128) for when in (0, 1))
    # Per day without dividing: 100·|now/days_now − then/days_then| ≤ 5·then/days_then, flat as a decimal of four
    # places.
    base = then * days_now
    change, most = (now * days_then - base) * _PARTS, base * round(flat * _PARTS)
    return (
        pl.when(then == 0)
        .then(pl.when(now > 0).then(1).otherwise(0))
        .when(change > most)
        .then(1)
        .when(change < base * -round(flat * _PARTS))
        .then(-1)
        .otherwise(0)
    )
