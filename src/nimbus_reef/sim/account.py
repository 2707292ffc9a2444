"""One brand's account on the simulated marketplace: what it is set to, what happened in it, and the reports of it."""

from __future__ import annotations

import copy
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, timedelta
from functools import lru_cache
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.sim import brand, market, onward, phrases, reports, settings, trade
from nimbus_reef.sim.brand import Simulated
from nimbus_reef.sim.settings import HeldSettings, Row, SaidOfRow
from nimbus_reef.sim.trade import MATURES_IN, Trade
from nimbus_reef.sim.vocabulary import BrandSpec
from nimbus_reef.sim.world import World

MOST_DAYS: Final = 120
_SETTINGS_EVERY: Final = 7


@dataclass(frozen=True, slots=True)
class Period:
    """Days in which nothing was changed: number of their first day, the world as it was, what happened, settings."""

    first: int
    world: World
    trade: Trade
    settings: HeldSettings


@dataclass
class MarketAccount:
    """
    An account from a seed, on the day after its last simulated one. What was changed and how many days passed since is
    told to it in its order, so that the same tale makes the same account.
    """

    made: Simulated
    seed: int
    first_day: date
    world: World
    settings: HeldSettings
    periods: list[Period]
    trade: Trade
    changes: list[dict[str, str]] = field(default_factory=list)

    @property
    def today(self) -> date:
        """The first day that has not happened yet; what is changed now holds from it on."""
        return self.first_day + timedelta(days=self.world.days)

    def take(self, rows: Sequence[Row], at: str, by: str) -> list[SaidOfRow]:
        """Carries out rows of a change sheet, each for itself, in their order; what was said to each."""
        answers = []
        for row in rows:
            before = self.settings.held(row) if row.get("entity") in settings.FIELDS else None
            answer = self.settings.take(row)
            if answer.status == "applied":
                self.changes.append(_noted(row, before, at, by))
            answers.append(answer)
        return answers

    def pass_days(self, days: int) -> None:
        """Lets days pass, with everything as it is set now."""
        self.world = onward.grown(self.world, self.settings, self.made.searched, self.seed)
        coming = onward.next_days(self.world, self.settings, days, self.seed)
        last = self.today + timedelta(days=days - 1)
        happened = trade.run(coming, self.seed * 1_000 + len(self.periods), last, self._visits())
        first = self.world.days
        self.periods.append(Period(first, coming, happened, copy.deepcopy(self.settings)))
        self.trade = _joined(self.trade, happened, first)
        self.world = replace(
            self.world,
            days=first + days,
            bids=np.hstack([self.world.bids, coming.bids]),
            mood=np.hstack([self.world.mood, coming.mood]),
        )

    def _visits(self) -> np.ndarray:
        """Visits a day without an ad, by product, so far."""
        seen = self.trade.visits.group_by("product_no").agg(pl.col("sessions").mean()).sort("product_no")
        return seen["sessions"].to_numpy()

    def report(self, kind: str, first: date, last: date) -> pl.DataFrame:
        """The rows of a kind of report on days from first to last, as known today; KeyError of an unknown kind."""
        low, high = ((day - self.first_day).days for day in (first, min(last, self.today - timedelta(days=1))))
        if kind in _WHOLE:
            return _WHOLE[kind](self, max(0, low), high)
        parts = [self._part(kind, each, low, high) for each in self.periods]
        found = [part for part in parts if part is not None and len(part)]
        return pl.concat(found, how="diagonal_relaxed") if found else pl.DataFrame()

    def _part(self, kind: str, period: Period, low: int, high: int) -> pl.DataFrame | None:
        begin, end = max(0, low - period.first), min(period.world.days - 1, high - period.first)
        if begin > end:
            return None
        last_day = self.first_day + timedelta(days=period.first + period.world.days - 1)
        if kind in _SETTINGS:
            if period.first:
                return _SETTINGS[kind](period.settings, self._settings_days(period, begin, end))
            own = self.made.frames[kind]
            return own.filter(pl.col("date").is_between(self._day(low), self._day(high)))
        known = replace(
            period.trade, clicked=reports.attributed(period.trade.clicked, self.world.days - 1 - period.first)
        )
        return DAILY[kind](period.world, _of_days(known, begin, end), last_day, self.seed)

    def _day(self, number: int) -> date:
        return self.first_day + timedelta(days=number)

    def _settings_days(self, period: Period, begin: int, end: int) -> list[date]:
        days = sorted({*range(0, period.world.days, _SETTINGS_EVERY), period.world.days - 1})
        return [self._day(period.first + day) for day in days if begin <= day <= end]


@lru_cache(maxsize=2)
def _simulated(spec: BrandSpec, seed: int, days: int, last_day: date) -> Simulated:
    """The brand, simulated once: nothing that happens to an account changes what it began with."""
    return brand.simulate(spec, seed, days, last_day)


def opened(spec: BrandSpec, seed: int, days: int, last_day: date) -> MarketAccount:
    """The account of a brand as the demo's report files tell of it."""
    made = _simulated(spec, seed, days, last_day)
    first_day = last_day - timedelta(days=days - 1)
    held = settings.of_world(made.world)
    return MarketAccount(
        made, seed, first_day, made.world, held, [Period(0, made.world, made.trade, copy.deepcopy(held))], made.trade
    )


def _noted(row: Row, before: str | None, at: str, by: str) -> dict[str, str]:
    names = ("campaign", "ad_group", "target", "match_type", "sku", "field")
    own = {name: row.get(name, "") or "" for name in names}
    return {"at": at, **own, "old": before or "", "new": row["new_value"], "by": by}


def _of_days(what: Trade, begin: int, end: int) -> Trade:
    within = pl.col("day").is_between(begin, end)
    return Trade(
        what.shown.filter(within), what.clicked.filter(within), what.visits.filter(within), what.dry.filter(within)
    )


def _joined(before: Trade, later: Trade, first: int) -> Trade:
    """Both, the later one's days counted on."""

    def both(name: str, *days: str) -> pl.DataFrame:
        old: pl.DataFrame = getattr(before, name)
        new: pl.DataFrame = getattr(later, name)
        moved = new.with_columns((pl.col(day) + first).cast(old.schema[day]) for day in days)
        return pl.concat([old, moved.select(old.columns).cast(old.schema)])

    return Trade(both("shown", "day"), both("clicked", "day", "known"), both("visits", "day"))


def _rng(seed: int, kind: str, last_day: date) -> np.random.Generator:
    return np.random.default_rng([seed, 47, *kind.encode(), last_day.toordinal()])


DAILY: Final[Mapping[str, Callable[[World, Trade, date, int], pl.DataFrame]]] = {
    "target_daily": reports.target_daily,
    "search_term_daily": reports.search_term_daily,
    "product_ad_daily": lambda world, what, last, _: reports.product_ad_daily(world, what, last),
    "product_sales_daily": lambda world, what, last, _: reports.product_sales_daily(world, what, last),
    "campaign_daily": lambda world, what, last, _: reports.campaign_daily(world, what, last),
    "placement_daily": lambda world, what, last, seed: reports.placement_daily(
        world, what, _rng(seed, "placement", last), last
    ),
    "hourly": lambda world, what, last, seed: reports.hourly(world, what, _rng(seed, "hourly", last), last),
    "sales_hourly": lambda world, what, last, seed: reports.sales_hourly(world, what, _rng(seed, "sales", last), last),
}
"""The reports that count by day."""


def _dated(rows: list[dict[str, str]], days: list[date]) -> pl.DataFrame:
    dates = pl.DataFrame({"date": days}, schema={"date": pl.Date})
    return dates.join(pl.DataFrame(rows), how="cross") if rows else pl.DataFrame()


def _campaigns(held: HeldSettings, days: list[date]) -> pl.DataFrame:
    adjusted = {"adj_top_of_search": "top_of_search", "adj_elsewhere": "elsewhere_in_search"}
    adjusted |= {"adj_product_page": "product_page"}
    names = ("portfolio", "format", "targeting", "state", "daily_budget", "bidding", "offsite_limited")
    placed = held.things["placement"]
    rows = [
        {"campaign": key[0], **{name: own.get(name, "") for name in names}}
        | {name: placed.get((key[0], place), {}).get("adjustment", "0") for name, place in adjusted.items()}
        for key, own in held.things["campaign"].items()
    ]
    return _dated(rows, days)


def _targets(held: HeldSettings, days: list[date]) -> pl.DataFrame:
    names = ("campaign", "ad_group", "target", "match_type")
    rows = [
        {**dict(zip(names, key, strict=True)), "state": own["state"], "bid": own.get("bid", "")}
        for entity in ("target", "negative")
        for key, own in held.things[entity].items()
    ]
    return _dated(rows, days)


def _ad_groups(held: HeldSettings, days: list[date]) -> pl.DataFrame:
    rows = [
        {"campaign": key[0], "ad_group": key[1], "state": own["state"], "default_bid": own["default_bid"]}
        for key, own in held.things["ad_group"].items()
    ]
    return _dated(rows, days)


def _product_ads(held: HeldSettings, days: list[date]) -> pl.DataFrame:
    rows = [
        {"campaign": key[0], "ad_group": key[1], "sku": key[2], "state": own["state"]}
        for key, own in held.things["product_ad"].items()
    ]
    return _dated(rows, days)


_SETTINGS: Final[Mapping[str, Callable[[HeldSettings, list[date]], pl.DataFrame]]] = {
    "campaigns": _campaigns,
    "targets": _targets,
    "ad_groups": _ad_groups,
    "product_ads": _product_ads,
}


def _listings(own: MarketAccount, low: int, high: int) -> pl.DataFrame:
    """Pages stay as they were on the last day that the demo's files tell of."""
    told = own.made.frames["listings"]
    newest = told.filter(pl.col("date") == pl.col("date").max())
    days = [own._day(day) for day in range(max(low, own.made.world.days), high + 1)]
    later = newest.drop("date").join(pl.DataFrame({"date": days}, schema={"date": pl.Date}), how="cross")
    earlier = told.filter(pl.col("date").is_between(own._day(low), own._day(high)))
    return pl.concat([earlier, later.select(earlier.columns)])


def _funnel(own: MarketAccount, _: int, high: int) -> pl.DataFrame:
    last_day = own._day(own.world.days - 1)
    found = pl.concat(
        [
            market.funnel(own.world, own.trade, own.seed, last_day),
            phrases.free_clicks(own.world, own.made.searched, own.seed, last_day),
        ],
        how="diagonal_relaxed",
    )
    return found.filter(pl.col("week") + timedelta(days=6) <= own._day(high))


def _boosts(own: MarketAccount, _: int, __: int) -> pl.DataFrame:
    rows = [
        {
            "name": held.get("name", f"{what} +{held['percent']} %"),
            "campaign": key[0],
            "what": what,
            "from": own.first_day,
            "to": own.today + timedelta(days=365),
            "weekdays": " ".join(day for day in key[1].split() if day.isdecimal()),
            "from_hour": int(key[2] or 0),
            "to_hour": int(key[3] or 24),
            "percent": round(float(held["percent"])),
            "condition": "",
        }
        for what in ("bid", "budget")
        for key, held in own.settings.things[f"{what}_boost"].items()
        if float(held["percent"])
    ]
    return pl.DataFrame(rows)


_WHOLE: Final[Mapping[str, Callable[[MarketAccount, int, int], pl.DataFrame]]] = {
    "catalog": lambda own, *_: reports.catalog(own.world),
    "boosts": _boosts,
    "listings": _listings,
    "query_funnel": _funnel,
    "changes": lambda own, *_: pl.DataFrame(own.changes),
}
KINDS: Final = (*DAILY, *_SETTINGS, *_WHOLE)
"""The kinds of report that the marketplace hands out."""
assert MATURES_IN < _SETTINGS_EVERY
