"""Whose trend is shown: the account, a campaign, an ad group, a product or a keyword, day by day."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.judged_proposals import days_with_bids, history, judged
from nimbus_reef.analysis.totals import totals
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.hours import DAY, HOURS_WRITTEN
from nimbus_reef.core.model import MEASURES, PLACEMENTS, Placement, from_micro
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.reading import delivery_frames, product_frames, row_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit import charts
from nimbus_reef.web.kit.charts import Marked
from nimbus_reef.web.kit.marks import changes_of_row
from nimbus_reef.web.kit.product import page_changes
from nimbus_reef.web.kit.splits import Why, why
from nimbus_reef.web.params import Scope

_MOST_OFFERED: Final = 1_500


@dataclass(frozen=True, slots=True)
class Trend:
    """
    One thing's days: name, kind, day and measures (micro), bid (micro) of a keyword, changes.
    sums_left_out: says that a trend needs days where the report has sums of several.
    """

    name: str
    kind: str
    days: pl.DataFrame
    changes: tuple[Marked, ...]
    target_acos: float
    bids: tuple[float | None, ...] = ()
    sums_left_out: str = ""


def trend(facts: Facts, scope: Scope, of: str, figures: Figures) -> Trend:
    """
    The trend of `of`: empty for what the scope shows, else campaign:NAME, group:CAMPAIGN · NAME,
    product:SKU, keyword:ID, placement:NAME or hours:FROM-TO. NotFound where there is no such thing.
    """
    kind, _, name = of.partition(":")
    if not of:
        return _whole(facts, scope)
    if kind == "product":
        return _product(facts, scope, name)
    if kind in ("campaign", "group", "keyword"):
        return _targets(facts, scope, kind, name, figures)
    if kind in ("placement", "hours"):
        return _delivered(facts, scope, kind, name)
    raise NotFound(f"“{of}” has no trend.", remedy="Choose a campaign, a product, a keyword, a placement or hours.")


def _whole(facts: Facts, scope: Scope) -> Trend:
    window = history(scope.selection)
    selection = scope.selection.at(window)
    found = totals(facts, selection)
    if found is None:
        raise NotFound("No report covers these days.", remedy="Choose other days, or load a report.")
    changes = row_frames.changes(facts, scope.account.id, window)
    if selection.part:
        homes = setting_frames.campaign_settings(facts, scope.account.id, window).drop("state")
        changes = changes.join(homes, on="campaign_id", how="left")
        changes = selection.within(facts, changes)
    name = scope.part or f"{scope.account.brand}, {scope.account.country}"
    days, left_out = _only_days(found.now, found.source)
    return Trend(name, "account", days, by_day(changes), scope.target_acos, sums_left_out=left_out)


def _only_days(rows: pl.DataFrame, kind: str) -> tuple[pl.DataFrame, str]:
    """The rows that are one day each, and what to say of those that are not."""
    days = rows.filter(pl.col("first_day") == pl.col("day"))
    if len(days) == len(rows):
        return days, ""
    return (days, f"A trend needs {KINDS[kind].title.lower()}, by day. Totals of several days are left out.")


def why_moved(found: Trend, scope: Scope, figures: Figures) -> Why | None:
    """Why one thing's ACOS moved between the windows; None for the account, which has a page of its own."""
    against = scope.against
    if found.kind == "account" or against is None or found.days.is_empty():
        return None
    if against.first < found.days["day"].min():  # type: ignore[operator]  # a date
        return Why("The comparison period is before the days shown.", ())

    def sums(window: Window) -> dict[str, float]:
        inside = found.days.filter(pl.col("day").is_between(window.first, window.last))
        return {name: float(inside[name].sum()) for name in MEASURES}

    return why(sums(against), sums(scope.window), figures)


def by_day(changes: pl.DataFrame) -> tuple[Marked, ...]:
    """The changes of each day as one mark: how many, and at length what was done how often."""
    moved = pl.col("new").cast(pl.Float64, strict=False) - pl.col("old").cast(pl.Float64, strict=False)
    done = pl.when(moved > 0).then(pl.lit("raised")).when(moved < 0).then(pl.lit("lowered"))
    counted = (
        changes.with_columns(pl.col("field").str.replace_all("_", " "), done=done.otherwise(pl.lit("changed")))
        .group_by("day", "field", "done")
        .len()
        .sort(["day", "len", "field", "done"], descending=[False, True, False, False])
    )
    marks = []
    for (day,), kinds in counted.partition_by("day", as_dict=True, maintain_order=True).items():
        texts = [
            f"{field} {done} {_times(count)}" for field, done, count in kinds.select("field", "done", "len").rows()
        ]
        count = int(kinds["len"].sum())
        marks.append(Marked(day, f"{count} change{'' if count == 1 else 's'}", ", ".join(texts)))
    return tuple(marks)


def _times(count: int) -> str:
    return "once" if count == 1 else "twice" if count == 2 else f"{count} times"


def _product(facts: Facts, scope: Scope, sku: str) -> Trend:
    ads = product_frames.named_ads(facts, scope.account.id, scope.window).filter(pl.col("sku") == sku)
    sums = product_frames.ad_days(facts, scope.account.id, history(scope.selection), ads.select("product_ad_id"))
    if sums.is_empty():
        raise NotFound(f"{sku} has no ads in this period.", remedy="Choose another product.")
    days, left_out = _only_days(sums, "product_ad_daily")
    # As in the drift of products: campaigns that have a target of their own are not asked.
    aim = ads.select(scope.aims.expr(["sku"])).item(0, 0)
    return Trend(sku, "product", days, tuple(page_changes(facts, scope.selection, sku)), aim, sums_left_out=left_out)


def _delivered(facts: Facts, scope: Scope, kind: str, name: str) -> Trend:
    """A placement, or some hours of the day as `18-22`, of the part that is looked at."""
    selection = scope.selection.at(history(scope.selection))
    report = "placement_daily" if kind == "placement" else "hourly"
    if kind == "placement":
        place = name.replace(" ", "_").replace("-", "_")
        if place not in tuple(Placement):
            raise NotFound(f"There is no placement “{name}”.", remedy=f"Choose one of {', '.join(Placement)}.")
        rows = delivery_frames.placement_days(facts, scope.account.id, selection.window, place)
        label = PLACEMENTS[place]
    else:
        first, _, end = name.partition("-")
        if not {first, end} <= HOURS_WRITTEN or int(first) >= int(end):
            raise NotFound(f"“{name}” is not a range of hours.", remedy="Enter hours such as 18-22.")
        rows = delivery_frames.hours_by_day(facts, scope.account.id, selection.window, int(first), int(end))
        label = f"{first}–{end} h"
    sums = selection.within(facts, rows).group_by("day", "first_day").agg(pl.col(MEASURES).sum()).sort("day")
    days, left_out = _only_days(sums, report)
    return Trend(label, kind, days, (), scope.target_acos, sums_left_out=left_out)


def _targets(facts: Facts, scope: Scope, kind: str, name: str, figures: Figures) -> Trend:
    """Made of targets: all of a campaign's, of an ad group's, or one."""
    column = {
        "campaign": pl.col("campaign"),
        "group": pl.concat_str("campaign", pl.lit(" · "), "ad_group"),
        "keyword": pl.col("target_id").cast(pl.String),
    }[kind]
    names = target_frames.targets(facts, scope.account.id).filter(column == name)
    if names.is_empty():
        raise NotFound(f"There is no {kind} “{name}”.", remedy="Choose another.")
    window = history(scope.selection)
    source = facts.target_source(scope.account.id, window).kind
    ids = names["target_id"].to_list()
    days = row_frames.target_days(facts, scope.account.id, source, window, ids)
    sums = days.group_by("day").agg(pl.col(MEASURES).sum()).sort("day")
    first = names.row(0, named=True)
    near = judged(facts, scope.selection, Subject.TARGET).filter(pl.col("campaign") == first["campaign"])
    same = near.join(names.select("target_id"), on="target_id", how="semi") if kind != "campaign" else near
    aims = (same if len(same) else near).sort("spend", descending=True)["target_acos"]
    aim = aims[0] if len(aims) else scope.target_acos
    changes = row_frames.changes(facts, scope.account.id, window)
    if kind == "keyword":
        stepped = days_with_bids(facts, scope.account, source, window, ids)
        bids = [None if bid is None else from_micro(bid) for bid in stepped["bid"]]
        marks = changes_of_row(first, charts.bid_changes(stepped["day"].to_list(), bids, figures), changes)
        label = f"{first['target']} · {first['match_type']}"
        return Trend(label, kind, stepped, tuple(marks), aim, tuple(bids))
    id_column, number = (
        ("campaign_id", first["campaign_id"]) if kind == "campaign" else ("ad_group_id", first["ad_group_id"])
    )
    label = first["campaign"] if kind == "campaign" else f"{first['campaign']} · {first['ad_group']}"
    return Trend(label, kind, sums, by_day(changes.filter(pl.col(id_column) == number)), aim)


def offered(facts: Facts, scope: Scope) -> list[str]:
    """What a trend can be asked of: campaigns, ad groups and products, as `trend` takes them."""
    groups = (
        target_frames.targets(facts, scope.account.id)
        .select("campaign", group=pl.concat_str("campaign", pl.lit(" · "), "ad_group"))
        .unique()
    )
    named = (
        ("campaign", groups["campaign"].unique()),
        ("group", groups["group"]),
        ("product", product_frames.catalog(facts, scope.account.id)["sku"]),
    )
    found = [f"{kind}:{name}" for kind, names in named for name in names.sort().head(_MOST_OFFERED)]
    literals = {kind for kind in ("placement_daily", "hourly") if kind in facts.spans(scope.account.id)}
    places = [f"placement:{place.replace('_', ' ')}" for place in Placement] if "placement_daily" in literals else []
    clock = [f"hours:{first}-{first + 4}" for first in range(0, DAY, 4)] if "hourly" in literals else []
    return [*found, *places, *clock]
