"""Falls of conversion beside changes of a product page: coincidence in time, never proof ("Listings")."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.core.evidence import STAKE_DAYS, interval

SIDE_DAYS: Final = 14
WATCHED: Final = ("title", "bullets", "images", "rich_content", "brand_section", "price", "in_stock")


def page_changes(pages: pl.DataFrame) -> pl.DataFrame:
    """
    What changed on product pages from one day held to the next.

    pages: product_id, day and `WATCHED`. Gives product_id, day, field, old, new (as text).
    """
    ordered = pages.sort("product_id", "day")
    parts = []
    for field in WATCHED:
        before = pl.col(field).shift(1).over("product_id")
        changed = ordered.select(
            "product_id",
            "day",
            field=pl.lit(field),
            old=before.cast(pl.String),
            new=pl.col(field).cast(pl.String),
        ).filter(pl.col("old").is_not_null() & (pl.col("old") != pl.col("new")))
        parts.append(changed)
    return pl.concat(parts).sort("product_id", "day", "field")


def falls(daily: pl.DataFrame, changes: pl.DataFrame, last_mature: date) -> pl.DataFrame:
    """
    Products whose conversion fell when their page changed, the largest fall of each.

    daily: product_id, day, clicks, orders, spend (micro-units; of ads). changes: see `page_changes`. A fall:
    the 80 % interval of CVR in the 14 days from the change (mature ones) lies below that of
    the 14 days before. Gives product_id, day, clicks and orders of both sides (…_before,
    …_after), cvr_before, cvr_after, and stake: the spend since, per 30 days, that bought less by the fall.
    """
    found = []
    of_products = daily.partition_by("product_id", as_dict=True)
    for product_id, day in changes.select("product_id", "day").unique().sort("product_id", "day").rows():
        own = of_products.get((product_id,))
        if own is None:
            continue
        before = _side(own, day - timedelta(days=SIDE_DAYS), day - timedelta(days=1))
        end = min(last_mature, day + timedelta(days=SIDE_DAYS - 1))
        after = _side(own, day, end)
        if before["clicks"] and after["clicks"] and _jeffreys(after)[1] < _jeffreys(before)[0]:
            cvr_before, cvr_after = (side["orders"] / side["clicks"] for side in (before, after))
            monthly = STAKE_DAYS / ((end - day).days + 1)
            found.append(
                {
                    "product_id": product_id, "day": day,
                    **{f"{name}_before": before[name] for name in ("clicks", "orders")},
                    **{f"{name}_after": after[name] for name in ("clicks", "orders")},
                    "cvr_before": cvr_before, "cvr_after": cvr_after,
                    "stake": round(after["spend"] * (1 - cvr_after / cvr_before) * monthly),
                }
            )  # fmt: skip
    schema = {
        "product_id": pl.UInt32, "day": pl.Date, "clicks_before": pl.Int64, "orders_before": pl.Int64,
        "clicks_after": pl.Int64, "orders_after": pl.Int64, "cvr_before": pl.Float64, "cvr_after": pl.Float64,
        "stake": pl.Int64,
    }  # fmt: skip
    return (
        pl.DataFrame(found, schema=schema)
        .sort(pl.col("cvr_after") / pl.col("cvr_before"), maintain_order=True)
        .unique("product_id", keep="first", maintain_order=True)
    )


def _side(own: pl.DataFrame, first: date, last: date) -> dict[str, int]:
    part = own.filter(pl.col("day").is_between(first, last))
    return {name: int(part[name].sum()) for name in ("clicks", "orders", "spend")}


def _jeffreys(side: Mapping[str, int]) -> tuple[float, float]:
    orders = min(side["orders"], side["clicks"])
    return interval(orders + 0.5, side["clicks"] - orders + 0.5)


LEAST_IMAGES: Final = 5
LEAST_BULLETS: Final = 5
LEAST_REVIEWS: Final = 15
LEAST_RATING: Final = 4.0
TITLE_LENGTH: Final = (40, 200)
LACKS: Final[Mapping[str, str]] = {
    "in_stock": "out of stock", "images": f"under {LEAST_IMAGES} pictures", "bullets": f"under {LEAST_BULLETS} bullets",
    "rating": f"rated under {LEAST_RATING:.1f}", "reviews": f"under {LEAST_REVIEWS} reviews", "title": "title too short",
    "long_title": "title too long", "rich_content": "no rich content", "brand_section": "no brand section",
}  # fmt: skip
"""What a page can lack, the gravest first."""


def lacks() -> pl.Expr:
    """
    What a page lacks, as a list of keys of `LACKS` in their order.

    Over title, bullets, images, rich_content, brand_section, rating, reviews, in_stock; what is not known is not lacking.
    """
    short, long = TITLE_LENGTH
    length = pl.col("title").str.len_chars()
    conditions = {
        "in_stock": pl.col("in_stock") == "no", "images": pl.col("images") < LEAST_IMAGES,
        "bullets": pl.col("bullets") < LEAST_BULLETS, "rating": pl.col("rating") < LEAST_RATING,
        "reviews": pl.col("reviews") < LEAST_REVIEWS, "title": length < short, "long_title": length > long,
        "rich_content": pl.col("rich_content") == "no", "brand_section": pl.col("brand_section") == "no",
    }  # fmt: skip
    return pl.concat_list(
        pl.when(conditions[key].fill_null(False)).then(pl.lit(key)) for key in LACKS
    ).list.drop_nulls()
