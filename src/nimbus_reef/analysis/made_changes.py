"""What somebody changed, as a list: old and new, what it stands at now, and setting it back to what it was."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core.changes import Entity, value_problem, word_of
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.promises import projected
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.reading import product_frames, row_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

CHECK: Final = "set back"
KIND: Final = "changes"
ALL, RAISES, CUTS = "all", "raises", "cuts"
_FIELDS: Final[Mapping[str, tuple[Entity, str]]] = {
    "bid": (Entity.TARGET, "bid"),
    "state": (Entity.TARGET, "state"),
    "daily_budget": (Entity.CAMPAIGN, "daily_budget"),
}
"""What can be set back: the field on record, and what it is on the change sheet."""


def days_of(selection: Selection) -> Window:
    """The days whose changes can have moved a figure between the two windows."""
    first = selection.against.first if selection.against else selection.window.first
    return Window(min(first, selection.window.first), selection.window.last)


def listed(facts: Facts, selection: Selection, which: str = ALL, day: date | None = None) -> pl.DataFrame:
    """
    Every change of the part looked at, newest day first, the most money first: row_id, day, at, by, field, old, new,
    campaign, ad_group, target, match_type, target_id, now (what it stands at, null where not known), step (relative, of
    figures), spend (micro-units of the window that the thing spent) and can (it can be set back).
    """
    rows = _rows(facts, selection)
    if day is not None:
        rows = rows.filter(pl.col("day") == day)
    if which == RAISES:
        rows = rows.filter(pl.col("step") > 0)
    if which == CUTS:
        rows = rows.filter(pl.col("step") < 0)
    return rows


def _rows(facts: Facts, selection: Selection) -> pl.DataFrame:
    account = selection.account

    def make() -> pl.DataFrame:
        rows = row_frames.changes(facts, account.id, days_of(selection))
        targets = target_frames.targets(facts, account.id).select(
            "target_id", "target", pl.col("match_type").cast(pl.String)
        )
        groups = product_frames.ad_groups(facts, account.id).select("ad_group_id", "ad_group")
        settings = setting_frames.campaign_settings(facts, account.id, selection.window)
        placed = settings.select(
            "campaign_id", pl.col("campaign", "portfolio").cast(pl.String), pl.col("format").cast(pl.String)
        )
        budgets = settings.select("campaign_id", budget=pl.col("daily_budget") / MICRO)
        stands = setting_frames.target_settings(facts, account.id, selection.window).select(
            "target_id", bid_now=pl.col("bid") / MICRO, state_now=pl.col("state").cast(pl.String)
        )
        spent = target_frames.target_sums(facts, account.id, selection.window).select("target_id", "spend")
        old, new = (pl.col(name).cast(pl.Float64, strict=False) for name in ("old", "new"))
        return (
            rows.join(targets, on="target_id", how="left")
            .join(groups, on="ad_group_id", how="left")
            .join(placed, on="campaign_id", how="left")
            .join(stands, on="target_id", how="left")
            .join(budgets, on="campaign_id", how="left")
            .join(spent, on="target_id", how="left")
            .with_columns(
                row_id=pl.concat_str(
                    pl.col("at").cast(pl.Int64), "campaign_id", "ad_group_id", "target_id", "field", separator="."
                ),
                step=pl.when(old > 0).then(new / old - 1),
                now=pl.when(pl.col("field") == "bid")
                .then(pl.col("bid_now").cast(pl.String))
                .when((pl.col("field") == "state") & (pl.col("target_id") > 0))
                .then("state_now")
                .when(pl.col("field") == "daily_budget")
                .then(pl.col("budget").cast(pl.String)),
                spend=pl.col("spend").fill_null(0),
            )
            .with_columns(
                can=pl.col("field").is_in(list(_FIELDS))
                & pl.col("now").is_not_null()
                & pl.col("old").is_not_null()
                & ((pl.col("target_id") > 0) | (pl.col("field") == "daily_budget"))
            )
            .sort(["day", "spend", "row_id"], descending=[True, True, False])
        )

    rows = facts.kept("made changes", account.id, make, days_of(selection), selection.window)
    return selection.within(facts, rows)


def table(rows: pl.DataFrame) -> Table:
    """Changes as a file."""
    names = ("campaign", "ad_group", "target", "match_type", "field", "old", "new", "now", "by")
    frame = rows.select("day", "at", *(pl.col(name).cast(pl.String) for name in names), "step", pl.col("spend") / MICRO)
    return Table("changes", frame, {"step": "0%", "spend": "0.00"})


def by_day(rows: pl.DataFrame) -> pl.DataFrame:
    """Per day, newest first: day, changes, raises, cuts."""
    return (
        rows.group_by("day")
        .agg(changes=pl.len(), raises=(pl.col("step") > 0).sum(), cuts=(pl.col("step") < 0).sum())
        .sort("day", descending=True)
    )


def set_back(facts: Facts, selection: Selection, rows: pl.DataFrame, day: date | None = None) -> list[Proposal]:
    """
    Changes that set things back to what they were before the oldest of the given ones, each for itself; of what a sheet
    cannot set back, or stands there already, why not. day: the one that they are of, where it was chosen.
    """
    oldest = rows.sort("at").unique(
        ["campaign_id", "ad_group_id", "target_id", "field"], keep="first", maintain_order=True
    )
    judged = {}
    if (oldest["target_id"] > 0).any():
        ids = oldest["target_id"].unique().implode()
        found = judged_targets(facts, selection).filter(pl.col("target_id").is_in(ids))
        judged = {row["target_id"]: row for row in found.to_dicts()}
    why = Reason(ReasonKey.SET_BACK, (day.isoformat() if day else "",))
    return [_set_back(selection, row, judged.get(row["target_id"], NO_BASIS), why) for row in oldest.to_dicts()]


def _set_back(selection: Selection, row: Mapping[str, Any], basis: Mapping[str, Any], why: Reason) -> Proposal:
    home = (row["campaign"], row["ad_group"] or "")
    subject = EntityKey(Subject.TARGET if row["target_id"] else Subject.CAMPAIGN, *home, row["target"] or "")
    if not row["can"]:
        return _left(subject, row["row_id"], ReasonKey.CANNOT_SET_BACK)
    entity, name = _FIELDS[row["field"]]
    own: dict[str, Any] = {}
    if entity is Entity.TARGET:
        own = {"ad_group": row["ad_group"], "target": row["target"], "match_type": row["match_type"]}
    amount = row["field"] != "state"
    back, now = (f"{float(row[key]):.2f}" if amount else str(row[key]) for key in ("old", "now"))
    wanted = change(entity, name, row["campaign"], back, now, CHECK, **own)
    if value_problem(wanted):
        return _left(subject, row["row_id"], ReasonKey.STANDS_THERE)
    result = promise(selection, basis, "targets", str(row["target_id"]) if row["target_id"] else "")
    headline = Headline(HeadlineKey.SET, (word_of(wanted), now, back))
    return Proposal(
        subject, row["row_id"], headline, ((wanted, result),), (why,), effect=projected(wanted, result), homes=(home,)
    )


def _left(subject: EntityKey, row_id: str, why: ReasonKey) -> Proposal:
    return Proposal(subject, row_id, Headline(HeadlineKey.LEAVE), reasons=(Reason(why),))


def bought_by(facts: Facts, selection: Selection, sku: str) -> pl.DataFrame:
    """The raises between the two windows in ad groups that advertise a product."""
    ads = product_frames.ad_rows(facts, selection.account.id, selection.window).filter(pl.col("sku") == sku)
    rows = listed(facts, selection, RAISES)
    return rows.join(ads.select("ad_group_id").unique(), on="ad_group_id", how="semi")
