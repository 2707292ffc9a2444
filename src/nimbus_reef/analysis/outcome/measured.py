"""What targets, placements and searches did before and after a day: the frames that verdicts are made from."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import bid_response, multipliers, out_of_budget
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.boosts import WEEK
from nimbus_reef.core.change_periods import OFTEN, SEEN_WITHIN, NoVerdict
from nimbus_reef.core.changes import Change
from nimbus_reef.core.control import NEARLY_SAME, Control, control, drift_of
from nimbus_reef.core.model import MICRO, State
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import delivery_frames, product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

_SIDES: Final = ("clicks", "spend", "orders")
Key = tuple[str, str, str, str]
"""Campaign, ad group, target, match type."""


@dataclass(frozen=True, slots=True)
class AccountMoves:
    """
    An account's targets by name, when what moved their clicks, and which days are loaded: what all changes are placed
    by.

    ids, homes: target ids by name, and (campaign id, ad group id) of each. moved: days on which something moved a
    target's clicks; adjusted: days on which a campaign's adjustments changed; bids, states: steps by day. settled: days
    that tell settings; first, mature: the days that can be compared; by_day: whether figures are loaded by day.
    """

    ids: Mapping[Key, int]
    homes: Mapping[int, tuple[int, int]]
    campaigns: Mapping[str, int]
    moved: Mapping[int, list[date]]
    adjusted: Mapping[int, list[date]]
    bids: Mapping[int, list[tuple[date, int]]]
    states: Mapping[int, list[tuple[date, str]]]
    settled: list[date]
    first: date
    mature: date
    by_day: bool

    def id_of(self, change: Change) -> int | None:
        """The target that a change is about; None where it is about none, or none is known by that name."""
        return self.ids.get((change.campaign, change.ad_group, change.target, change.match_type))

    def within(self, names: tuple[str, ...]) -> list[int]:
        """The targets of a campaign, an ad group, or a name whole."""
        return [number for key, number in self.ids.items() if key[: len(names)] == names]

    def seen(self, steps: list[tuple[date, str]], value: str, earliest: date) -> tuple[date | None, bool]:
        """
        The first day from the earliest on whose settings show a value, and whether settings are loaded that would show
        it: without them nobody knows.
        """
        told = [day for day in self.settled if earliest <= day]
        if not told:
            return None, False
        last = earliest + timedelta(days=SEEN_WITHIN - 1)
        known = any(day >= last for day in told)
        found = [day for day, held in _in_force(steps, [day for day in told if day <= last]) if held == value]
        return (min(found), True) if found else (None, known)


def _in_force(steps: list[tuple[date, str]], days: list[date]) -> list[tuple[date, str]]:
    """What a thing stands at on each of some days, by its steps."""
    found = []
    for day in days:
        past = [held for begun, held in steps if begun <= day]
        if past:
            found.append((day, past[-1]))
    return found


def moves(facts: Facts, selection: Selection, history: Window) -> AccountMoves:
    """Where changes of an account stand. history: the days from the first change's before on. Kept."""
    account = selection.account

    def make() -> AccountMoves:
        names = target_frames.targets(facts, account.id).with_columns(
            pl.col("campaign", "ad_group", "target", "match_type").cast(pl.String)
        )
        key = names.select("campaign", "ad_group", "target", "match_type").rows()
        ids = dict(zip(key, names["target_id"].to_list(), strict=True))
        homes = {row[0]: (row[1], row[2]) for row in names.select("target_id", "campaign_id", "ad_group_id").rows()}
        moved: dict[int, list[date]] = {}
        for number, day in bid_response.touched(facts, account, history).select("target_id", "day").unique().rows():
            moved.setdefault(number, []).append(day)
        bids: dict[int, list[tuple[date, int]]] = {}
        for number, day, bid in setting_frames.bid_steps(facts, account.id, history).rows():
            bids.setdefault(number, []).append((day, bid))
        states: dict[int, list[tuple[date, str]]] = {}
        rows = setting_frames.state_steps(facts, account.id, history).with_columns(pl.col("state").cast(pl.String))
        for number, day, state in rows.select("target_id", "day", "state").rows():
            states.setdefault(number, []).append((day, state))
        adjusted: dict[int, list[date]] = {}
        steps = setting_frames.adjustment_steps(facts, account.id, history)
        later = steps.filter(pl.col("day") > pl.col("day").min().over("campaign_id"))
        for number, day in later.select("campaign_id", "day").rows():
            adjusted.setdefault(number, []).append(day)
        source = facts.target_source(account.id, history).kind
        days = sorted(span.last for span in facts.days(account.id, source, history))
        newest = facts.newest_day(account.id) or history.last
        return AccountMoves(
            ids,
            homes,
            dict(names.select("campaign", "campaign_id").unique().rows()),
            moved,
            adjusted,
            bids,
            states,
            sorted(span.last for span in facts.days(account.id, "targets", history)),
            days[0] if days else history.first,
            newest - timedelta(days=account.maturing_days),
            bool(days),
        )

    return facts.kept("account moves", account.id, make, history, account.maturing_days)


@dataclass(frozen=True, slots=True)
class Compared:
    """
    Targets in two periods. rows: target_id, campaign_id, product, clicks, spend (units) and orders of both, untouched
    (nothing moved them in either), expected (by how much clicks of those whose bid hardly moved are expected to have
    grown, null of all others). often: campaigns out of budget on more than a quarter of the days of a side; off,
    unstocked: targets that were off on as many, and those whose product was out of stock.
    """

    before: Window
    after: Window
    rows: pl.DataFrame
    drift: float
    often: frozenset[int]
    off: frozenset[int]
    unstocked: frozenset[int]
    controls: dict[tuple[int, str, bool], Control] = field(default_factory=dict)
    by_target: dict[int, dict[str, Any]] = field(default_factory=dict)

    @property
    def days(self) -> tuple[int, int]:
        """How many days each period has."""
        return self.before.days, self.after.days

    def of(self, target_id: int) -> dict[str, Any]:
        """A target's row; empty where it had no click in either."""
        if not self.by_target:
            self.by_target.update({row["target_id"]: row for row in self.rows.to_dicts()})
        return self.by_target.get(target_id, {})

    def hindered(self, campaign_id: int, target_id: int) -> NoVerdict | None:
        """Why clicks of these days say nothing of a price; None where nothing kept them away."""
        if campaign_id in self.often:
            return NoVerdict.OUT_OF_BUDGET
        if target_id in self.off:
            return NoVerdict.OFF
        return NoVerdict.OUT_OF_STOCK if target_id in self.unstocked else None

    def control(self, campaign_id: int, product: str, *, whole_campaign: bool) -> Control:
        """
        The control of a change in a campaign: its untouched targets (not of what moves all of them), those of the
        product, those of the account.
        """
        key = (campaign_id, product, whole_campaign)
        if key not in self.controls:
            calm = self.rows.filter("untouched")
            own = [] if whole_campaign else [calm.filter(pl.col("campaign_id") == campaign_id)]
            alike = calm.filter(pl.col("product") == product)
            moved = self.rows.filter(pl.col("expected").is_not_null())
            self.controls[key] = control([*own, alike, calm], moved, self.days, self.drift)
        return self.controls[key]


def compared(
    facts: Facts,
    selection: Selection,
    where: AccountMoves,
    before: Window,
    after: Window,
    response: ClickResponse,
    heirs: frozenset[int],
) -> Compared:
    """Targets in two periods. heirs: those that are no control though nothing moved them. Kept."""
    account = selection.account

    def make() -> Compared:
        names = target_frames.targets(facts, account.id).select("target_id", "campaign_id", "ad_group_id")
        products = target_frames.groups(facts, account.id, before).select(
            "ad_group_id", product=pl.col("main_product").cast(pl.String)
        )
        rows = names.join(products, on="ad_group_id", how="left")
        for side, window in (("before", before), ("after", after)):
            sums = target_frames.target_sums(facts, account.id, window).select(
                "target_id",
                pl.col("clicks").cast(pl.Float64).alias(f"clicks_{side}"),
                (pl.col("spend") / MICRO).alias(f"spend_{side}"),
                pl.col("orders").cast(pl.Float64).alias(f"orders_{side}"),
            )
            rows = rows.join(sums, on="target_id", how="left")
        rows = rows.with_columns(pl.col(f"{name}_{side}").fill_null(0.0) for name in _SIDES for side in _BOTH)
        rows = rows.filter((pl.col("clicks_before") > 0) | (pl.col("clicks_after") > 0))
        busy, hardly = _moved(where, Window(before.first, after.last), before.first, response)
        rows = rows.with_columns(
            untouched=~pl.col("target_id").is_in(sorted(busy | heirs)),
            expected=pl.col("target_id").replace_strict(
                {number: growth for number, growth in hardly.items() if number not in heirs},
                default=None,
                return_dtype=pl.Float64,
            ),
            product=pl.col("product").fill_null(""),
        )
        calm = rows.filter("untouched")
        return Compared(
            before,
            after,
            rows,
            drift_of(calm, (before.days, after.days)),
            _often(facts, selection, before) | _often(facts, selection, after),
            _off(where, before) | _off(where, after),
            _unstocked(facts, selection, rows, before) | _unstocked(facts, selection, rows, after),
        )

    return facts.kept("compared", account.id, make, before, after, response, heirs, account.settings.dry)


_BOTH: Final = ("before", "after")


def _moved(
    where: AccountMoves, window: Window, first: date, response: ClickResponse
) -> tuple[set[int], dict[int, float]]:
    """Targets that something moved within a window, and of those whose bid hardly moved the expected growth."""
    busy, hardly = set[int](), dict[int, float]()
    for number, days in where.moved.items():
        own = [day for day in days if window.first <= day <= window.last]
        if not own:
            continue
        busy.add(number)
        steps = where.bids.get(number, [])
        bid_days = [day for day, _ in steps]
        past = [bid for day, bid in steps if day < own[0]]
        new = [bid for day, bid in steps if day == own[0]]
        if len(own) == 1 and own[0] in bid_days and past and new and past[-1] > 0 and own[0] > first:
            ratio = new[0] / past[-1]
            if abs(ratio - 1) > 0 and -NEARLY_SAME <= math.log(ratio) <= NEARLY_SAME:
                hardly[number] = ratio**response.e
    return busy, hardly


def _often(facts: Facts, selection: Selection, window: Window) -> frozenset[int]:
    """Campaigns that were out of budget on more than a quarter of the days."""
    dry = out_of_budget.hours(facts, selection.whole.at(window)).select("campaign_id", "day").unique()
    counts = dry.group_by("campaign_id").len()
    return frozenset(counts.filter(pl.col("len") > OFTEN * window.days)["campaign_id"].to_list())


def _off(where: AccountMoves, window: Window) -> frozenset[int]:
    """Targets that were not enabled on more than a quarter of the days, by their settings."""
    days = [window.first + timedelta(days=number) for number in range(window.days)]
    found = set[int]()
    for number, steps in where.states.items():
        if any(state != State.ENABLED for _, state in steps):
            idle = sum(state != State.ENABLED for _, state in _in_force(steps, days))
            if idle > OFTEN * window.days:
                found.add(number)
    return frozenset(found)


def _unstocked(facts: Facts, selection: Selection, rows: pl.DataFrame, window: Window) -> frozenset[int]:
    """Targets whose product was out of stock on more than a quarter of the days whose pages are loaded."""
    pages = product_frames.listings(facts, selection.account.id, window)
    if pages.is_empty():
        return frozenset()
    missing = (pl.col("in_stock").cast(pl.String) == "no").mean()
    gone = pages.group_by("product_id").agg(missing=missing).filter(pl.col("missing") > OFTEN)
    skus = product_frames.skus(facts, selection.account.id).join(gone, on="product_id")["sku"].cast(pl.String)
    return frozenset(rows.filter(pl.col("product").is_in(skus.implode()))["target_id"].to_list())


def boosted_hours(
    facts: Facts, selection: Selection, window: Window, campaign_id: int, weekdays: Sequence[int], hours: range
) -> tuple[float, float, float]:
    """Clicks, spend (units) and orders of a campaign in some hours of some weekdays (none: all)."""
    wanted = pl.Series("campaign_id", [campaign_id], pl.UInt32)
    rows = delivery_frames.weekday_hours(facts, selection.account.id, window, wanted).filter(
        pl.col("hour").is_in(list(hours)), pl.col("weekday").is_in(list(weekdays or WEEK))
    )
    clicks, spend, orders = rows.select(pl.col("clicks", "spend", "orders").sum()).row(0)
    return float(clicks), spend / MICRO, float(orders)


def mean_adjustment(facts: Facts, selection: Selection, window: Window, campaign_id: int) -> float:
    """By what part adjustments of placements raise a campaign's bids, weighed by the clicks of each."""
    rows = delivery_frames.placement_sums(facts, selection.account.id, window).filter(
        pl.col("campaign_id") == campaign_id
    )
    raised, clicks = 0.0, 0.0
    for row in rows.to_dicts():
        column = setting_frames.ADJUSTMENTS.get(row["placement"])
        raised += row["clicks"] * ((row[column] if column else None) or 0) / 100
        clicks += row["clicks"]
    return raised / clicks if clicks else 0.0


def price_moves(facts: Facts, selection: Selection, before: Window, day: date) -> dict[int, float]:
    """By campaign id, by what its adjustments and boosts multiply bids from a day on, over before."""

    def make() -> dict[int, float]:
        steps = multipliers.steps(facts, selection.whole.at(Window(before.first, day)))
        found = {}
        for (number,), own in steps.group_by("campaign_id", maintain_order=True):
            past = own.filter(pl.col("day") < day)["multiplier"]
            now = own.filter(pl.col("day") <= day)["multiplier"]
            if len(past) and len(now) and past[-1] > 0:
                found[int(number)] = float(now[-1] / past[-1])
        return found

    return facts.kept("price moves", selection.account.id, make, before, day)


def placements(facts: Facts, selection: Selection, window: Window) -> dict[tuple[int, str], tuple[float, float, float]]:
    """Clicks, spend (units) and orders by campaign id and placement."""
    rows = delivery_frames.placement_sums(facts, selection.account.id, window).select(
        "campaign_id", pl.col("placement").cast(pl.String), "clicks", pl.col("spend") / MICRO, "orders"
    )
    return {(row[0], row[1]): (float(row[2]), row[3], float(row[4])) for row in rows.rows()}


def searches(facts: Facts, selection: Selection, window: Window) -> pl.DataFrame:
    """target_id, normal_id, term, clicks, spend (units) of every search with a click. Kept."""
    account = selection.account

    def make() -> pl.DataFrame:
        sums = facts.sums(account.id, "search_term_daily", window).filter(pl.col("clicks") > 0)
        names = target_frames.term_names(facts, account.id)
        rows = sums.join(names, on="target_term_id")
        return rows.select(
            pl.col("target_id").cast(pl.Int64),
            "normal_id",
            pl.col("term").cast(pl.String),
            pl.col("clicks").cast(pl.Float64),
            spend=pl.col("spend") / MICRO,
        )

    return facts.kept("outcome searches", account.id, make, window)
