"""
Why a figure moved, split exactly: price, conversion, order value, mix, entered and left.

The parts of a split always sum to the change. Formulas: "Why a ratio moved" in
docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
import numpy.typing as npt
import polars as pl

Floats = npt.NDArray[np.float64]

ACOS_PARTS: Final = ("cpc", "cvr", "aov", "mix", "unsplit", "entered")
"""Price per click, conversion, order value, mix, rate unsplit, entered or left."""
NET_SHARE_FROM: Final = 0.2
"""A share of the net change is told only where it is this much of the gross."""


def log_mean(x: Floats, y: Floats) -> Floats:
    """The logarithmic mean L(x, y) = (x − y)/ln(x/y) of positive numbers; L(x, x) = x."""
    with np.errstate(divide="ignore", invalid="ignore"):
        relative = (x - y) / y
        found = (x - y) / np.log1p(relative)
    return np.where(x == y, x, found)


@dataclass(frozen=True, slots=True)
class RowSplit:
    """A single row's change of ACOS by factor; reason says why there is none."""

    cpc: float = 0.0
    cvr: float = 0.0
    aov: float = 0.0
    reason: str = ""

    @property
    def total(self) -> float:
        """The change of ACOS."""
        return self.cpc + self.cvr + self.aov


def split_row(then: Mapping[str, float], now: Mapping[str, float]) -> RowSplit:
    """
    Why the cost of sale of one row moved, exactly: ΔACOS = L(A1, A0)·[ln CPC1/CPC0 - ln CVR1/CVR0 - ln AOV1/AOV0].

    Parameters
    ----------
    then, now : mapping
        clicks, orders, spend and sales of both windows, money in one unit.

    Returns
    -------
    RowSplit
        No split, but the reason, where one of them is 0 in either window.

    References
    ----------
    docs/calculations.md, “Why a figure moved”: the logarithmic mean Divisia index.
    """
    for label, row in (("before", then), ("now", now)):
        for name in ("clicks", "orders", "spend", "sales"):
            if not row[name]:
                return RowSplit(reason=f"no {name} {label}")
    a0, a1 = then["spend"] / then["sales"], now["spend"] / now["sales"]
    mean = float(log_mean(np.array([a1]), np.array([a0]))[0])

    def part(top: str, bottom: str) -> float:
        return mean * float(np.log((now[top] / now[bottom]) / (then[top] / then[bottom])))

    return RowSplit(part("spend", "clicks"), -part("orders", "clicks"), -part("sales", "orders"))


def split_group(items: pl.DataFrame) -> pl.DataFrame | None:
    """
    The change of a group's ratio R = Σ num / Σ den by item: mix, rate, entered (or left).

    Parameters
    ----------
    items : frame
        num0, den0, num1, den1 and whatever names them.

    Returns
    -------
    frame or None
        With part (an item's whole Δv), mix, rate, entered, and pull (its part measured against the group's own level
        then, which ranks who moved it; pulls sum to ΔR too). None where the group's denominator is 0 in either window.
    """
    num0, den0, num1, den1 = (items[name].cast(pl.Float64).to_numpy() for name in ("num0", "den0", "num1", "den1"))
    all0, all1 = den0.sum(), den1.sum()
    if not all0 or not all1:
        return None
    v0, v1, w0, w1 = num0 / all0, num1 / all1, den0 / all0, den1 / all1
    whole = (num0 > 0) & (den0 > 0) & (num1 > 0) & (den1 > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = log_mean(v1, v0)
        mix = np.where(whole, mean * np.log(w1 / w0), 0.0)
        # What is left of the whole is the rate: exact to the last bit, where two logarithms are not.
        rate = np.where(whole, (v1 - v0) - mix, 0.0)
    level = num0.sum() / all0
    return items.with_columns(
        part=pl.Series(v1 - v0),
        mix=pl.Series(mix),
        rate=pl.Series(rate),
        entered=pl.Series(np.where(whole, 0.0, v1 - v0)),
        pull=pl.Series((v1 - w1 * level) - (v0 - w0 * level)),
    )


def split_acos(items: pl.DataFrame) -> pl.DataFrame | None:
    """
    The account's change of ACOS by item and factor.

    Parameters
    ----------
    items : frame
        spend0, sales0, clicks0, orders0 and the same with 1, money in one unit.

    Returns
    -------
    frame or None
        With `ACOS_PARTS`, part and pull, fractions of 1: the rate of an item is split by its price per click,
        conversion and order value; one with no clicks or orders keeps it whole as `unsplit`. None where nothing was
        sold in either window.
    """
    named = items.with_columns(
        num0=pl.col("spend0"), den0=pl.col("sales0"), num1=pl.col("spend1"), den1=pl.col("sales1")
    )
    split = split_group(named)
    if split is None:
        return None
    value = {
        f"{name}{when}": split[f"{name}{when}"].cast(pl.Float64).to_numpy()
        for name in ("spend", "sales", "clicks", "orders")
        for when in (0, 1)
    }
    counted = np.all([each > 0 for each in value.values()], axis=0)
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = log_mean(value["spend1"] / value["sales1"].sum(), value["spend0"] / value["sales0"].sum())

    def factor(top: str, bottom: str) -> pl.Series:
        with np.errstate(divide="ignore", invalid="ignore"):
            moved = (value[f"{top}1"] / value[f"{bottom}1"]) / (value[f"{top}0"] / value[f"{bottom}0"])
            return pl.Series(np.where(counted, mean * np.log(moved), 0.0))

    return split.with_columns(
        cpc=factor("spend", "clicks"),
        cvr=-factor("orders", "clicks"),
        aov=-factor("sales", "orders"),
        unsplit=pl.Series(np.where(counted, 0.0, split["rate"].to_numpy())),
    ).drop("num0", "den0", "num1", "den1")


def additive(items: pl.DataFrame) -> pl.DataFrame:
    """The change of a sum by item: part = its own Δ. items: value0, value1."""
    return items.with_columns(part=pl.col("value1") - pl.col("value0"))


def in_order(parts: pl.DataFrame) -> pl.DataFrame:
    """
    Parts of a change with the largest first, either way.

    Parameters
    ----------
    parts : frame
        With part.

    Returns
    -------
    frame
        With running (the total so far), share_of_gross (of all movement) and share_of_net (of the change as a whole,
        null where that is under a fifth of the gross).
    """
    part = pl.col("part")
    gross, net = part.abs().sum(), part.sum()
    return parts.sort(part.abs(), descending=True, maintain_order=True).with_columns(
        running=part.cum_sum(),
        share_of_gross=pl.when(gross > 0).then(part.abs() / gross),
        share_of_net=pl.when((net.abs() >= NET_SHARE_FROM * gross) & (net != 0)).then(part / net),
    )
