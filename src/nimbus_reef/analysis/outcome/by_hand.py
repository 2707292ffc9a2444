"""Findings that were done by hand or kept on purpose, with figures before and since."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.falls import Watched, watched
from nimbus_reef.analysis.hidden_names import Names, names_of
from nimbus_reef.analysis.judged import TERM_ID
from nimbus_reef.analysis.outcome.wholes import figures_in
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import change_periods
from nimbus_reef.core.checks import CHECKS, Reading, Subject
from nimbus_reef.core.control import Control
from nimbus_reef.core.listings import Repaired
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.outcome import FIRST_DAYS, OutcomeVerdict
from nimbus_reef.core.profit_outcome import WholeFigures, of_whole
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people import hidden_findings
from nimbus_reef.store.people.hidden_findings import DONE, PutAway
from nimbus_reef.store.reading import delivery_frames, product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

DONE_KIND, KEPT_KIND = "done by hand", "kept on purpose"
SCHEMA: Final[dict[str, Any]] = {
    "row_id": pl.String,
    "what": pl.String,
    "finding": pl.String,
    "kind": pl.String,
    "note": pl.String,
    "by": pl.String,
    "since": pl.Date,
    "look_again": pl.Date,
    **{f"{name}_{side}": pl.Float64 for side in ("before", "after") for name in ("clicks", "cvr", "acos", "spend")},
    "verdict": pl.String,
    "until": pl.Date,
}


@dataclass(frozen=True, slots=True)
class _Sides:
    """A thing before and since; None where no report tells of it, or not enough days."""

    before: WholeFigures | None = None
    after: WholeFigures | None = None


def rows(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Findings that were marked as done, snoozed or dismissed, newest first, as `SCHEMA`; rates are fractions."""
    account = selection.account
    away = hidden_findings.away(facts.store, account.id)
    newest = facts.newest_day(account.id)
    if not away or newest is None:
        return pl.DataFrame(schema=SCHEMA)
    whole = selection.whole.at(Window(newest - timedelta(days=29), newest))
    mature = newest - timedelta(days=account.maturing_days)
    names = names_of(facts, whole, away)
    fell = {each.row_id: each.since for each in away if each.done and CHECKS[each.check].reads is Reading.FALLS}
    since = watched(facts, whole, fell)
    found = [_row(facts, whole, each, names, since.get(each.row_id), mature) for each in away if each.check in CHECKS]
    return pl.DataFrame(found, schema=SCHEMA, orient="row")


def _row(
    facts: Facts, whole: Selection, each: PutAway, names: Names, fall: Watched | None, mature: date
) -> dict[str, Any]:
    check = CHECKS[each.check]
    before = change_periods.before(each.since, None, each.since - timedelta(days=change_periods.MOST_BEFORE))
    after = change_periods.after(each.since + timedelta(days=1), None, mature)
    sides = _Sides(
        *(_figures(facts, whole.account.id, check.subject, each.row_id, window) for window in (before, after))
    )
    verdict, until = _verdict(each, fall, sides, whole)
    return {
        "row_id": str(each.id),
        "what": names[each.check, each.row_id],
        "finding": check.title,
        "kind": DONE_KIND if each.done else KEPT_KIND,
        "note": each.reason.removeprefix(DONE),
        "by": each.by,
        "since": each.since,
        "look_again": each.until_day,
        **_side("before", sides.before),
        **_side("after", sides.after),
        "verdict": verdict.value,
        "until": until,
    }


def _side(side: str, figures: WholeFigures | None) -> dict[str, float | None]:
    if figures is None:
        return {}
    return {
        f"clicks_{side}": figures.clicks,
        f"cvr_{side}": ratio(figures.orders, figures.clicks),
        f"acos_{side}": ratio(figures.spend, figures.sales),
        f"spend_{side}": figures.spend,
    }


_REPAIRED: Final = {
    Repaired.BETTER: OutcomeVerdict.KEPT,
    Repaired.WORSE: OutcomeVerdict.DID_NOT,
    Repaired.OPEN: OutcomeVerdict.TOO_EARLY,
}


def _verdict(
    each: PutAway, fall: Watched | None, sides: _Sides, whole: Selection
) -> tuple[OutcomeVerdict, date | None]:
    """
    Whether what was done helped: a mended page by its conversion, all else by what the thing left after ads at the
    target ACOS. What was kept on purpose promised nothing: how it goes is shown.
    """
    if not each.done:
        return OutcomeVerdict.NONE, None
    if fall is not None:
        return _REPAIRED[fall.repaired], None
    if sides.before is None or sides.after is None or sides.after.days < FIRST_DAYS:
        first = each.since + timedelta(days=FIRST_DAYS + 1 + whole.account.maturing_days)
        return OutcomeVerdict.TOO_EARLY, first if sides.after is None or sides.after.days < FIRST_DAYS else None
    low, high = of_whole(sides.before, sides.after, whole.aims.account, Control()).range
    if low > 0:
        return OutcomeVerdict.KEPT, None
    return (OutcomeVerdict.DID_NOT if high < 0 else OutcomeVerdict.TOO_EARLY), None


def _figures(
    facts: Facts, account_id: int, subject: Subject, row_id: str, window: Window | None
) -> WholeFigures | None:
    """What a finding's row did; None where the window is too short, or its figures stand in no report by row."""
    if window is None or subject not in _ROWS:
        return None
    found = _ROWS[subject](facts, account_id, row_id, window)
    return figures_in(found, window)


def _of_product(facts: Facts, account_id: int, row_id: str, window: Window) -> pl.DataFrame:
    return _of_ads(facts, account_id, pl.col("sku").cast(pl.String).str.head(64) == row_id, window)


def _of_family(facts: Facts, account_id: int, row_id: str, window: Window) -> pl.DataFrame:
    return _of_ads(facts, account_id, pl.col("family").cast(pl.String) == row_id, window)


def _of_ad(facts: Facts, account_id: int, row_id: str, window: Window) -> pl.DataFrame:
    return _of_ads(facts, account_id, pl.col("product_ad_id").cast(pl.String) == row_id, window)


def _of_ads(facts: Facts, account_id: int, which: pl.Expr, window: Window) -> pl.DataFrame:
    ads = product_frames.named_ads(facts, account_id, window).filter(which)
    return facts.sums(account_id, "product_ad_daily", window).join(ads, on="product_ad_id", how="semi")


def _of_target(facts: Facts, account_id: int, row_id: str, window: Window) -> pl.DataFrame:
    return target_frames.target_sums(facts, account_id, window).filter(pl.col("target_id").cast(pl.String) == row_id)


def _of_term(facts: Facts, account_id: int, row_id: str, window: Window) -> pl.DataFrame:
    return target_frames.term_rows(facts, account_id, window).filter(row_id == TERM_ID)


def _of_placement(facts: Facts, account_id: int, row_id: str, window: Window) -> pl.DataFrame:
    key = pl.concat_str(pl.col("campaign_id").cast(pl.String), pl.col("placement").cast(pl.String), separator=":")
    return delivery_frames.placement_sums(facts, account_id, window).filter(key == row_id)


_ROWS: Final = {
    Subject.PRODUCT: _of_product,
    Subject.FAMILY: _of_family,
    Subject.AD: _of_ad,
    Subject.TARGET: _of_target,
    Subject.TERM: _of_term,
    Subject.PLACEMENT: _of_placement,
}


def table(found: pl.DataFrame) -> Table:
    """The same as a file."""
    rates = {name: "0.0%" for name in found.columns if name.startswith(("cvr_", "acos_"))}
    return Table("by-hand", found.drop("row_id"), rates | dict.fromkeys(("spend_before", "spend_after"), "0.00"))
