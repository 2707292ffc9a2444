"""Demo data: two simulated brands, loaded through the ordinary intake."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import date, timedelta
from pathlib import Path

import polars as pl

from nimbus_reef.config import Config
from nimbus_reef.formats.tables import Sheet, SheetColumn, write_xlsx
from nimbus_reef.jobs import intake, marketplaces
from nimbus_reef.market.record import Record
from nimbus_reef.sim import brand, reports, shapes
from nimbus_reef.sim.vocabulary import BRANDS, BrandSpec
from nimbus_reef.store.people import accounts, marketplace_links
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record.engine import Store

_SAMPLE_DAYS = 3
_MATURE = 3
_FOREIGN = {
    "date": "Day",
    "campaign": "Campaign name",
    "ad_group": "Ad group name",
    "target": "Bid on",
    "match_type": "Matching",
    "search_term": "Shopper searched",
    "impressions": "Times shown",
    "clicks": "Clicks",
    "spend": "Cost (EUR)",
    "orders": "Purchases",
    "units": "Pieces",
    "sales": "Revenue (EUR)",
}

SEED = 11
STEPS = 50
"""How often `load` tells how far it is, about."""

Step = Callable[[str], None]


def loaded(store: Store) -> bool:
    """True when the demo accounts are there."""
    return all(accounts.by_key(store, spec.key) for spec in BRANDS)


def load(config: Config, store: Store, *, seed: int, last_day: date, step: Step) -> None:
    """Simulates both brands up to `last_day` and loads every report; safe to repeat. Nobody is made to sign in as."""
    for spec in BRANDS:
        folder = config.var / "demo" / spec.key
        step(f"{spec.name}: simulating {config.demo_days} days")
        simulated = brand.simulate(spec, seed, config.demo_days, last_day)
        paths = reports.write(simulated.frames, folder / "reports")
        reports.write_truth(simulated.truth, folder / "truth.json")
        if spec is BRANDS[0]:
            _foreign_sample(spec, simulated.frames["search_term_daily"], last_day, folder)
            _mixed_sample(simulated.frames, last_day, folder)
        _load_brand(store, spec, paths, last_day, step)
        link_marketplace(config, store, spec, seed, last_day)


def link_marketplace(config: Config, store: Store, spec: BrandSpec, seed: int, last_day: date) -> None:
    """Makes the brand's account on the simulated marketplace, and links ours to it."""
    client = Record(config.market / "market.db").add_client(spec.key, seed, config.demo_days, last_day)
    marketplace_links.save(
        store,
        account_of(store, spec).id,
        None,
        url=market_address(config),
        client_id=client.key,
        secret=client.secret,
        key=marketplaces.credentials_key(config),
        every_minutes=marketplace_links.LEAST_MINUTES,
        simulated=True,
        today=last_day + timedelta(days=1),
    )


def market_address(config: Config) -> str:
    """Where the simulated marketplace is asked."""
    return f"http://127.0.0.1:{config.market_port}"


def find_market(config: Config, store: Store) -> None:
    """Tells the demo's accounts where the simulated marketplace is now: its port may have been taken meanwhile."""
    here = market_address(config)
    for each in marketplace_links.links(store):
        if each.simulated and each.url.startswith("http://127.0.0.1:") and each.url != here:
            marketplace_links.move(store, each.account_id, here)


def account_of(store: Store, spec: BrandSpec, key: str = "") -> Account:
    """The account of a simulated brand, added if it is not there. key: another than the brand's own."""
    return accounts.by_key(store, key or spec.key) or accounts.add(
        store,
        key=key or spec.key,
        brand_name=f"{spec.name} {key}".strip(),
        marketplace=spec.marketplace,
        country=spec.country,
        currency=spec.currency,
        locale=spec.locale,
        timezone=spec.timezone,
        target_acos=spec.target_acos,
    )


def _load_brand(store: Store, spec: BrandSpec, paths: dict[str, Path], last_day: date, step: Step) -> None:
    account = account_of(store, spec)
    for path in paths.values():
        step(f"{spec.name}: loading {path.stem.replace('_', ' ')}")
        intake.take(store, account, path, path.name, path.stem, today=last_day + timedelta(days=1))


def _mixed_sample(frames: Mapping[str, pl.DataFrame], last_day: date, folder: Path) -> None:
    """A sheet that holds everything: settings and the sums of 30 days of several kinds, without a date."""
    last = last_day - timedelta(days=_MATURE)
    first = last - timedelta(days=29)
    sheet = shapes.mixed(frames, first, last)
    shapes.write_workbook(folder / "everything-in-one-sheet.xlsx", {f"{first} to {last}": sheet})


def _foreign_sample(spec: BrandSpec, terms: pl.DataFrame, last_day: date, folder: Path) -> None:
    """
    A workbook as another program might write it, for trying the intake: its own column
    names and order, and a totals line.
    """
    recent = terms.filter(pl.col("date") > last_day - timedelta(days=_SAMPLE_DAYS))
    headers = {name: header.replace("EUR", spec.currency) for name, header in _FOREIGN.items()}
    order = [
        "campaign",
        "ad_group",
        "date",
        "search_term",
        "target",
        "match_type",
        "impressions",
        "clicks",
        "orders",
        "units",
        "spend",
        "sales",
    ]
    measures = order[6:]
    rows = recent.select(order).with_columns(pl.col("date").dt.strftime("%d.%m.%Y")).rows()
    totals = [*["Total"], *[""] * 5, *[float(recent[name].sum()) for name in measures]]
    with (folder / "search-terms-as-others-write-them.xlsx").open("wb") as file:
        write_xlsx(file, [Sheet("report", [SheetColumn(headers[name]) for name in order], [*rows, totals])])
