"""What Movement's views ask in common: by which grouping, against which days, and the rows of both windows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis import movement
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.tables import Field, by_key, yes_or_no
from nimbus_reef.core import glossary
from nimbus_reef.core.metrics import METRICS, Metric, Unit
from nimbus_reef.core.model import Format
from nimbus_reef.core.movement import Movement
from nimbus_reef.core.windows import Window, month_factor
from nimbus_reef.errors import BadInput
from nimbus_reef.store.reading.facts import TOTAL_SOURCES
from nimbus_reef.web.kit import movers, product
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.product import ProductDrawer
from nimbus_reef.web.params import OWN_OF_A_TABLE


def grouping(ask: Context) -> str:
    """The grouping chosen, else the first that the reports held can tell of both windows."""
    windows = [ask.scope.window, *([ask.scope.against] if ask.scope.against else [])]
    return ask.scope.choice("by", movement.groupings(ask.facts, ask.account, windows))


def against(ask: Context) -> Window:
    """The days compared with; BadInput where there are none."""
    if ask.scope.against is None:
        raise BadInput("Movement needs a comparison period.", remedy="Choose one under “against”.")
    return ask.scope.against


def compared(ask: Context) -> Selection:
    """What is asked about, where there are days to compare with."""
    return ask.selection.against_days(against(ask))


def sides(ask: Context, by: str) -> pl.DataFrame:
    """What rows did in both windows."""
    return movement.sides(ask.facts, compared(ask), by)


def days(ask: Context, by: str) -> tuple[int, int]:
    """The held days of the windows that a grouping's sums are of: then, now."""
    return movement.held_days(ask.facts, compared(ask), by)


def ranked(ask: Context, by: str) -> pl.DataFrame:
    """The same rows, what moved most first."""
    return movers.ranked(sides(ask, by), *days(ask, by))


def are_made(ask: Context) -> bool:
    """Whether the rows of both windows are worked out already."""
    return movement.is_made(ask.facts, compared(ask), grouping(ask))


def reads(ask: Context) -> Sequence[tuple[str, Window]]:
    """What both windows are read from: report and days."""
    both = movement.both(compared(ask))
    source = movement.source_of(ask.facts, ask.account, both, grouping(ask))
    return [(source, window) for window in both]


def fields(ask: Context, by: str) -> dict[str, Field]:
    """What rows that moved are filtered by: every metric now and its change (sums per 30 days), class and effect."""
    then, now = (month_factor(each) for each in days(ask, by))
    found: list[Field | None] = [Field("name", by, pl.col("name"), text=True)]
    for metric in METRICS.values():
        before, value = _value(metric, 0, then), _value(metric, 1, now)
        unit = "%" if metric.unit is Unit.RATE else "¤" if metric.unit is Unit.MONEY else ""
        definition = glossary.definition(metric.label)
        found.append(Field(metric.key, metric.label, value, unit, definition, digits=metric.digits))
        found.append(
            Field(f"{metric.key}_moved", f"change of {metric.label}", value - before, unit, digits=metric.digits)
        )
    effect = Field("profit", "effect on profit", pl.col("profit"), "¤", "Per 30 days", digits=0)
    click = _value(METRICS["rpc"], 1, now)
    aim = pl.coalesce("target_acos", pl.lit(ask.scope.target_acos))
    may = Field("may_cost", "may cost", click * aim, "¤", "What a click may cost now: target ACOS × RPC", digits=2)
    kinds = Field("movement", "movement", pl.col("movement").cast(pl.String), options=tuple(Movement))
    return by_key(*found, effect, may, kinds, yes_or_no("thin", "thin", pl.col("thin"), "Too few clicks or orders"))


def _value(metric: Metric, when: int, per: float) -> pl.Expr:
    """A metric of rows of both windows, in the unit it is written in."""
    if not metric.is_ratio:
        return pl.col(f"{metric.key}{when}") * per
    part, whole = pl.col(f"{metric.numerator}{when}"), pl.col(f"{metric.denominator}{when}")
    value = pl.when(whole != 0).then(part / whole)
    return value * 100 if metric.unit is Unit.RATE else value


CLICKS: Final = "clicks"
COLUMNS: Final[Mapping[str, tuple[str, ...]]] = {
    "usual": (),
    CLICKS: ("clicks", "ctr", "cpc", "rpc", "may_cost"),
    "orders": ("orders", "cvr", "aov", "acos"),
    "all metrics": tuple(METRICS),
}
"""Sets of metrics that are shown besides."""


def need_both(ask: Context, *, trend: bool = False) -> None:
    """NoFigures where the reports hold nothing of one of the windows; of a trend only the one looked at counts."""
    kinds = TOTAL_SOURCES if trend else movement.sources(grouping(ask))
    need(ask.facts, ask.scope, kinds, ask.figures)
    if not trend and ask.scope.against is not None:
        need(ask.facts, ask.scope, kinds, ask.figures, against(ask))


def drawer(ask: Context) -> ProductDrawer | None:
    """The product that is open, if any."""
    return product.drawer(ask.facts, ask.scope, ask.scope.open, "", ask.figures) if ask.scope.open else None


def ways(ask: Context, by: str, here: str) -> movers.Ways:
    """A product opens its drawer, a keyword its evidence, a campaign its trend, the rest their drift."""
    scope, url = ask.scope, ask.url
    if by == "product":
        evidence = scope.link(url("standing.evidence"), open="", own=())
        return movers.Ways(scope.link(here, open="") + "&open=", evidence + "&open=")
    if by == "keyword":
        return movers.Ways(scope.elsewhere(url("targeting.table", name="targets")) + "&open=")
    if by == "campaign":
        return movers.Ways(scope.elsewhere(url("movement.view", name="trends")) + "&whose=campaign%3A")
    drift = url("movement.view", name="drift")
    # In place of the one that is chosen: the first of two would count.
    if by == "portfolio":
        return movers.Ways(f"{scope.elsewhere(drift, portfolio='')}&{by}=", only=frozenset())
    if by == "format":
        begin = scope.link(drift, **OWN_OF_A_TABLE, formats=())
        return movers.Ways(f"{begin}&{by}=", only=frozenset(Format))
    return movers.Ways()
