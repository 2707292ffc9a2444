"""Rows that moved: class and judgement of each in words, and as arrows of the drift chart."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.movement import REST, active
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.movement import Movement
from nimbus_reef.core.windows import month_factor
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.drift import Mover

LARGEST: Final = 14
_GOOD: Final = frozenset({Movement.GAINING.value, Movement.SAVING.value})
_BAD: Final = frozenset({Movement.LEAKING.value, Movement.SLIPPING.value})


def tone_of(row: Mapping[str, Any]) -> str:
    """Whether a movement earns, leaks, or neither."""
    if row["movement"] in _GOOD or row["worth"]:
        return "gain"
    return "loss" if row["movement"] in _BAD or row["worth"] is False else ""


def judgement(row: Mapping[str, Any], figures: Figures) -> str:
    """What a row did, in words: "buying growth: added sales at 200 %, not worth it"."""
    movement = row["movement"]
    spend, sales = (_relative(row, name) for name in ("spend", "sales"))
    if movement == Movement.BUYING.value:
        worth = "worth it" if row["worth"] else "not worth it"
        return f"buying growth: added sales at {figures.rate(row['marginal'], 0)}, {worth}"
    if movement == Movement.SHRINKING.value:
        return f"shrinking: the cut {'saved' if row['worth'] else 'cost'} profit"
    if movement in (Movement.NEW.value, Movement.GONE.value, Movement.STEADY.value):
        return str(movement)
    texts = [
        f"{name} {figures.relative(value, 0)}"
        for name, value in (("spend", spend), ("sales", sales))
        if value is not None
    ]
    return f"{movement}: {', '.join(texts)}" if texts else str(movement)


def _relative(row: Mapping[str, Any], name: str) -> float | None:
    """Change per day, relative."""
    change_of = row[f"{name}_change"]
    base = row[f"{name}0"] * row["per0"]
    return ratio(change_of, base)


def ranked(sides: pl.DataFrame, days_then: int, days_now: int) -> pl.DataFrame:
    """Rows that spent or sold, in the order of `sides`, with per0, per1: to 30 days."""
    count = int(sides.select(active().sum()).item())
    return sides.head(count).with_columns(per0=pl.lit(month_factor(days_then)), per1=pl.lit(month_factor(days_now)))


def movers(rows: pl.DataFrame, figures: Figures) -> list[Mover]:
    """The same rows as arrows."""
    return [
        Mover(
            row["key"],
            row["name"],
            row["spend0"] * row["per0"],
            row["sales0"] * row["per0"],
            row["spend1"] * row["per1"],
            row["sales1"] * row["per1"],
            tone_of(row),
            row["thin"],
            f"{row['name']}: {judgement(row, figures)}; {figures.change(row['profit'])} profit per 30 days"
            + ("; thin" if row["thin"] else ""),
        )
        for row in rows.to_dicts()
    ]


def break_even(sides: pl.DataFrame) -> float | None:
    """The margin of all rows together, weighed by sales; None where none is known."""
    known = sides.filter(pl.col("margin").is_not_null() & (pl.col("sales1") > 0))
    whole = float(known["sales1"].sum())
    return float((known["margin"] * known["sales1"]).sum()) / whole if whole else None


@dataclass(frozen=True, slots=True)
class Ways:
    """
    What a row's name opens. begin: the address up to its key, empty where rows open nothing;
    evidence: that of the drawer alone; only: the keys that have something to open, all when empty.
    """

    begin: str = ""
    evidence: str = ""
    only: frozenset[str] = frozenset()

    def to(self, key: str) -> str:
        """The key to open a row by; empty where there is nothing to open."""
        return "" if not self.begin or key == REST or (self.only and key not in self.only) else key
