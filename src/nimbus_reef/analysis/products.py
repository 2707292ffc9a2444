"""One product: what its ads did then and now, where it stands among peers, what changed on its page."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import polars as pl

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.judged_proposals import history
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import listings
from nimbus_reef.core.metrics import in_units, sums_in_units
from nimbus_reef.core.model import MEASURES, from_micro
from nimbus_reef.core.peers import BOTTOM, Standing
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import product_frames, row_frames
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class OpenedProduct:
    """
    A product in a look. now, then: its sums, money in units, then None where nothing is compared with; moved: its row
    of `core.movement.moved`. standings: by metric; campaigns: campaign, spend and sales of the five that spent most.
    price: of the catalog, in units, None where none is known; siblings: those of the others of its family, lowest
    first.
    """

    title: str
    category: str
    family: str
    now: Mapping[str, float]
    then: Mapping[str, float] | None
    moved: Mapping[str, Any] | None
    standings: Mapping[str, Standing]
    campaigns: pl.DataFrame
    price: float | None
    siblings: tuple[float, ...]

    @property
    def weakest(self) -> str:
        """The metric in which it stands lowest, if that is in the bottom quarter."""
        by_key = {name: each.percentile for name, each in self.standings.items() if each.percentile is not None}
        lowest = min(by_key, key=lambda name: by_key[name], default="")
        return lowest if lowest and by_key[lowest] < BOTTOM else ""


def opened(facts: Facts, selection: Selection, sku: str) -> OpenedProduct:
    """A product of a look; NotFound where it has no activity in the window."""
    on = standing.standing_data(facts, selection)
    rows = on.ads.filter(pl.col("sku") == sku)
    if rows.is_empty():
        raise NotFound(f"{sku} has no ads in this period.", remedy="Choose another period, or close it.")
    moved = None
    if selection.against is not None:
        sides = movement.sides(facts, selection, "product").filter(pl.col("key") == sku)
        moved = sides.to_dicts()[0] if len(sides) else None
    first = rows.row(0, named=True)
    spent = rows.group_by("campaign").agg(pl.col("spend", "sales").sum()).with_columns(in_units(("spend", "sales")))
    price, siblings = prices(product_frames.catalog(facts, selection.account.id), sku)
    return OpenedProduct(
        title=first["title"] or "",
        category=first["category"] or "",
        family=first["family"] or "",
        now=sums_in_units({name: int(rows[name].sum()) for name in MEASURES}),
        then={name: float(moved[f"{name}0"]) for name in MEASURES} if moved else None,
        moved=moved,
        standings={
            name: each.standing for name, each in standing.places(on, standing.daily_of(facts, selection, rows)).items()
        },
        campaigns=spent.sort(["spend", "campaign"], descending=[True, False]).head(5),
        price=price,
        siblings=siblings,
    )


def spend(facts: Facts, selection: Selection, sku: str) -> int:
    """What a product's ads cost in the window, micro."""
    rows = product_frames.product_rows(facts, selection.account.id, selection.window)
    return int(rows.filter(pl.col("sku") == sku)["spend"].sum())


def prices(catalog: pl.DataFrame, sku: str) -> tuple[float | None, tuple[float, ...]]:
    """
    What a product costs by the catalog (sku, parent, price in micro-units), and what the others of its family cost,
    lowest first; in units, None where none is known.
    """
    of_it = catalog.filter(pl.col("sku") == sku).head(1)
    if of_it.is_empty():
        return None, ()
    kin = catalog.filter(pl.col("sku") != sku).join(of_it.select("parent"), on="parent")["price"].drop_nulls()
    own = of_it["price"].item()
    return None if own is None else from_micro(own), tuple(from_micro(each) for each in kin.sort())


def page_changes(facts: Facts, selection: Selection, sku: str) -> pl.DataFrame:
    """What changed on a product's page over its history: day, field, old, new; none where no page is held."""
    ads = product_frames.placed_ads(facts, selection.account.id, selection.window).filter(pl.col("sku") == sku)
    pages = product_frames.listings(facts, selection.account.id, history(selection)).filter(
        pl.col("product_id").is_in(ads["product_id"].unique().implode())
    )
    return listings.page_changes(pages).sort("day") if len(pages) else pl.DataFrame()


def spend_by_day(facts: Facts, selection: Selection, sku: str) -> pl.DataFrame:
    """day, spend (micro-units) of a product over its history, as far as it is held by day."""
    ads = product_frames.named_ads(facts, selection.account.id, selection.window).filter(pl.col("sku") == sku)
    rows = product_frames.ad_days(facts, selection.account.id, history(selection), ads.select("product_ad_id"))
    return rows.filter(pl.col("first_day") == pl.col("day")).select("day", "spend")


def report_rows(facts: Facts, selection: Selection, sku: str) -> pl.DataFrame:
    """The product report's own rows of a product in the window."""
    ads = product_frames.product_rows(facts, selection.account.id, selection.window).filter(pl.col("sku") == sku)
    keys = ads["product_ad_id"].to_list()
    return row_frames.rows_behind(facts, selection.account.id, "product_ad_daily", selection.window, keys)
