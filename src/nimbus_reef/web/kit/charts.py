"""
Chart options, built in Python beside the pages that show them.

Colours are names of the theme (`@coral`); the script turns them into the theme's values,
so that light and dark are decided in one place, the style sheet.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from types import MappingProxyType
from typing import Any

from nimbus_reef.formats.figures import Figures

_HIDDEN_AXIS = {
    "axisLine": {"show": False},
    "axisTick": {"show": False},
    "axisLabel": {"show": False},
    "splitLine": {"show": False},
}


@dataclass(frozen=True, slots=True)
class Marked:
    """
    A change to be marked on a trend: its day, and what it was in words; at_length: the same where
    there is room, empty where that says no more.
    """

    day: date
    words: str
    at_length: str = ""


def bid_changes(days: Sequence[date], bids: Sequence[float | None], figures: Figures) -> list[Marked]:
    """The days on which a bid was another than on the day before."""
    return [
        Marked(day, f"bid {figures.number(before)} → {figures.number(after)}")
        for day, before, after in zip(days[1:], bids, bids[1:], strict=False)
        if before is not None and after is not None and abs(before - after) > 0.001
    ]


def change_marks(days: Sequence[date], changes: Sequence[Marked]) -> list[dict[str, Any]]:
    """Upright lines at the newest changes, the last of them in words."""
    newest = sorted((each for each in changes if each.day in set(days)), key=lambda each: each.day)[-8:]
    return [
        {
            "xAxis": each.day.isoformat(),
            "lineStyle": {"color": "@ink-2", "type": "dotted", "width": 1},
            "label": {
                "formatter": each.words if each is newest[-1] else "",
                "color": "@ink-2",
                "position": "end",
                "align": "right" if days.index(each.day) > len(days) / 2 else "left",
            },
        }
        for each in newest
    ]


def money_and_bid(
    days: Sequence[date],
    spend: Sequence[float],
    bids: Sequence[float | None],
    *,
    figures: Figures,
    first_shown: date,
    changes: Sequence[Marked] = (),
) -> dict[str, Any]:
    """Spend a day above, the bid as steps below; changes marked, the newest in words."""
    labels = [day.isoformat() for day in days]
    marks = change_marks(days, changes)
    with_bids = any(bid is not None for bid in bids)
    bare = {"type": "category", "data": labels, "boundaryGap": False, **_HIDDEN_AXIS}
    dated = {
        **bare,
        "axisLine": {"show": True, "lineStyle": {"color": "@hairline"}},
        "axisLabel": {
            "show": True,
            "color": "@ink-3",
            "fontSize": 10.5,
            "interval": max(0, len(labels) - 2),
            "alignMinLabel": "left",
            "alignMaxLabel": "right",
        },
    }
    spend_line = {
        "name": f"spend {figures.symbol}",
        "type": "line",
        "xAxisIndex": 0,
        "yAxisIndex": 0,
        "showSymbol": len(spend) < 3,
        "data": [round(value, 2) for value in spend],
        "lineStyle": {"color": "@ink", "width": 1.3},
        "itemStyle": {"color": "@ink"},
        "markLine": {"symbol": "none", "silent": True, "data": marks},
        "markArea": {
            "silent": True,
            "itemStyle": {"color": "@lagoon", "opacity": 0.06},
            "data": [[{"xAxis": first_shown.isoformat()}, {"xAxis": labels[-1]}]],
        },
    }
    bid_line = {
        "name": f"bid {figures.symbol}",
        "type": "line",
        "step": "end",
        "xAxisIndex": 1,
        "yAxisIndex": 1,
        "showSymbol": False,
        "data": list(bids),
        "connectNulls": True,
        "lineStyle": {"color": "@lagoon", "width": 1.5},
        "itemStyle": {"color": "@lagoon"},
    }
    value_axis = {"type": "value", "min": 0, **_HIDDEN_AXIS}
    upper = {"left": 2, "right": 4, "top": 20 if marks else 6, "height": 46}
    lower = {"left": 2, "right": 4, "top": 78, "height": 26}
    axes = [{**bare, "gridIndex": 0}, {**dated, "gridIndex": 1}] if with_bids else [{**dated, "gridIndex": 0}]
    return {
        "grid": [upper, lower] if with_bids else [upper],
        "xAxis": axes,
        "yAxis": [{**value_axis, "gridIndex": index} for index in range(len(axes))],
        "tooltip": {"trigger": "axis", "confine": True},
        "axisPointer": {"link": [{"xAxisIndex": "all"}]},
        "series": [spend_line, bid_line] if with_bids else [spend_line],
    }


def with_lone(values: Sequence[float | None]) -> list[Any]:
    """A line's values; one that stands alone between gaps would not be seen, so it gets a point."""
    around = [None, *values, None]
    return [
        (
            {"value": value, "symbol": "circle", "symbolSize": 4}
            if value is not None and around[n] is None and around[n + 2] is None
            else value
        )
        for n, value in enumerate(values)
    ]


def panels(
    days: Sequence[date],
    lines: Sequence[tuple[str, Sequence[float | None]]],
    bids: Sequence[float | None],
    changes: Sequence[Marked],
    *,
    first_shown: date,
    figures: Figures,
    beside: Mapping[str, tuple[str, Sequence[float | None]]] = MappingProxyType({}),
) -> dict[str, Any]:
    """
    Metrics one under the other over the same days, each on its own scale, the bid as steps
    beneath; changes marked through all of them, the newest in words on the first. beside: by a metric's label what is
    drawn dashed in its panel, and how that is called.
    """
    labels = [day.isoformat() for day in days]
    rows = [*lines, *([(f"bid {figures.symbol}", bids)] if any(bid is not None for bid in bids) else [])]
    height = 100 / len(rows)
    marks = change_marks(days, changes)
    silent = [{**mark, "label": {"show": False}} for mark in marks]
    grids, x_axes, y_axes, series = [], [], [], []
    for number, (label, values) in enumerate(rows):
        last, is_bid = number == len(rows) - 1, number >= len(lines)
        grids.append(
            {
                "left": 62,
                "right": 12,
                "top": f"{number * height + 0.28 * height:.2f}%",
                "height": f"{height * 0.6:.2f}%",
            }
        )
        x_axes.append(
            {
                "type": "category",
                "data": labels,
                "gridIndex": number,
                "boundaryGap": False,
                "axisLine": {"lineStyle": {"color": "@hairline"}},
                "axisTick": {"show": False},
                "axisLabel": {"show": last, "color": "@ink-3", "fontSize": 10.5, "hideOverlap": True},
            }
        )
        y_axes.append(
            {
                "type": "value",
                "gridIndex": number,
                "scale": True,
                "splitNumber": 2,
                "name": f"{label}, dashed: {beside[label][0]}" if label in beside else label,
                "nameLocation": "end",
                "nameGap": 8,
                "nameTextStyle": {"color": "@ink", "align": "left", "padding": [0, 0, 0, -58], "fontSize": 11.5},
                "axisLabel": {"color": "@ink-3", "fontSize": 10.5},
                "splitLine": {"lineStyle": {"color": "@faint"}},
            }
        )
        colour = "@lagoon" if is_bid else "@ink"
        series.append(
            {
                "name": label,
                "type": "line",
                "xAxisIndex": number,
                "yAxisIndex": number,
                "symbol": "none",
                "data": list(values) if is_bid else with_lone(values),
                "connectNulls": is_bid,
                **({"step": "end"} if is_bid else {}),
                "lineStyle": {"color": colour, "width": 1.4},
                "itemStyle": {"color": colour},
                "markLine": {"symbol": "none", "silent": True, "data": marks if number == 0 else silent},
                "markArea": {
                    "silent": True,
                    "itemStyle": {"color": "@lagoon", "opacity": 0.06},
                    "data": [[{"xAxis": max(first_shown, days[0]).isoformat()}, {"xAxis": labels[-1]}]],
                },
            }
        )
        if label in beside:
            name, other = beside[label]
            series.append(
                {
                    "name": name,
                    "type": "line",
                    "xAxisIndex": number,
                    "yAxisIndex": number,
                    "symbol": "none",
                    "data": list(other),
                    "lineStyle": {"color": "@lagoon", "width": 1.2, "type": "dashed"},
                    "itemStyle": {"color": "@lagoon"},
                }
            )
    return {
        "grid": grids,
        "xAxis": x_axes,
        "yAxis": y_axes,
        "series": series,
        "tooltip": {"trigger": "axis", "confine": True},
        "axisPointer": {"link": [{"xAxisIndex": "all"}]},
    }
