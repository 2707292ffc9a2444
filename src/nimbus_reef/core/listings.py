"""Falls of conversion beside changes of a product page: coincidence in time, never proof ("Listings")."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core import words
from nimbus_reef.core.evidence import interval
from nimbus_reef.core.windows import month_factor

SIDE_DAYS: Final = 14
WATCHED: Final = ("title", "bullets", "images", "rich_content", "brand_section", "price", "in_stock")


def page_changes(pages: pl.DataFrame) -> pl.DataFrame:
    """
    What changed on product pages from one day held to the next.

    pages: product_id, day and `WATCHED`. Gives product_id, day, field, old, new (as text).
    """
    ordered = pages.sort("product_id", "day")
    same_product = pl.col("product_id") == pl.col("product_id").shift(1)
    parts = []
    for field in WATCHED:
        rows = ordered.select("product_id", "day", same=same_product, old=pl.col(field).shift(1), new=field)
        changed = rows.filter(pl.col("same") & pl.col("old").is_not_null() & (pl.col("old") != pl.col("new")))
        parts.append(
            changed.select("product_id", "day", pl.lit(field).alias("field"), pl.col("old", "new").cast(pl.String))
        )
    return pl.concat(parts).sort("product_id", "day", "field")


def falls(daily: pl.DataFrame, changes: pl.DataFrame, last_mature: date, side_days: int = SIDE_DAYS) -> pl.DataFrame:
    """
    Products whose conversion fell when their page changed, the largest fall of each.

    daily: product_id, day, clicks, orders, spend (micro-units; of ads). changes: see `page_changes`. A fall:
    the 80 % interval of CVR in the 14 days (`side_days`) from the change (mature ones) lies below that of
    as many before. Gives product_id, day, clicks and orders of both sides (…_before,
    …_after), cvr_before, cvr_after, and stake: the spend since, per 30 days, that bought less by the fall.
    """
    span = timedelta(days=side_days)
    at = changes.select("product_id", pl.col("day").alias("at")).unique()
    after = pl.col("day") >= pl.col("at")
    around = daily.join(at, on="product_id").filter(
        pl.col("day") >= pl.col("at") - span,
        pl.col("day") < pl.col("at") + span,
        ~after | (pl.col("day") <= last_mature),
    )
    sides = around.group_by("product_id", "at").agg(
        *(pl.col(name).filter(~after).sum().alias(f"{name}_before") for name in _SIDE),
        *(pl.col(name).filter(after).sum().alias(f"{name}_after") for name in _SIDE),
    )
    found = []
    for row in sides.sort("product_id", "at").to_dicts():
        before, then = ((row[f"clicks_{side}"], row[f"orders_{side}"]) for side in ("before", "after"))
        if before[0] and then[0] and _jeffreys(*then)[1] < _jeffreys(*before)[0]:
            cvr_before, cvr_after = before[1] / before[0], then[1] / then[0]
            end = min(last_mature, row["at"] + timedelta(days=side_days - 1))
            monthly = month_factor((end - row["at"]).days + 1)
            stake = round(row["spend_after"] * (1 - cvr_after / cvr_before) * monthly)
            found.append(row | {"day": row["at"], "cvr_before": cvr_before, "cvr_after": cvr_after, "stake": stake})
    schema = {
        "product_id": pl.UInt32,
        "day": pl.Date,
        "clicks_before": pl.Int64,
        "orders_before": pl.Int64,
        "clicks_after": pl.Int64,
        "orders_after": pl.Int64,
        "cvr_before": pl.Float64,
        "cvr_after": pl.Float64,
        "stake": pl.Int64,
    }
    return (
        pl.DataFrame(found, schema=schema)
        .sort(pl.col("cvr_after") / pl.col("cvr_before"), maintain_order=True)
        .unique("product_id", keep="first", maintain_order=True)
    )


class Repaired(StrEnum):
    """What conversion did since something was done about it."""

    BETTER = "better"
    WORSE = "worse"
    OPEN = "too early to tell"


def repaired(before: tuple[int, int], after: tuple[int, int]) -> Repaired:
    """Clicks and orders before and since: better or worse where the 80 % intervals lie apart, as with a fall."""
    if not before[0] or not after[0]:
        return Repaired.OPEN
    (low, high), (low_after, high_after) = _jeffreys(*before), _jeffreys(*after)
    if low_after > high:
        return Repaired.BETTER
    return Repaired.WORSE if high_after < low else Repaired.OPEN


_SIDE: Final = ("clicks", "orders", "spend")


def _jeffreys(clicks: int, orders: int) -> tuple[float, float]:
    k = min(orders, clicks)
    return interval(k + 0.5, clicks - k + 0.5)


@dataclass(frozen=True, slots=True)
class PageLimits:
    """What a product page should have at least; title: its shortest and its longest, in characters."""

    images: int = 5
    bullets: int = 5
    reviews: int = 15
    rating: float = 4.0
    title: tuple[int, int] = (40, 200)


STANDARD: Final = PageLimits()
LACKS: Final = (
    "in_stock",
    "images",
    "bullets",
    "rating",
    "reviews",
    "title",
    "long_title",
    "rich_content",
    "brand_section",
)
"""What a page can lack, the gravest first."""


def lacks_words(limits: PageLimits = STANDARD) -> Mapping[str, str]:
    """What each of `LACKS` is called."""
    return {
        "in_stock": "out of stock",
        "images": f"under {limits.images} pictures",
        "bullets": f"under {limits.bullets} bullets",
        "rating": f"rated under {limits.rating:.1f}",
        "reviews": f"under {limits.reviews} reviews",
        "title": "title too short",
        "long_title": "title too long",
        "rich_content": "no rich content",
        "brand_section": "no brand section",
    }


def lacks(limits: PageLimits = STANDARD) -> pl.Expr:
    """
    What a page lacks, as a list of `LACKS` in their order.

    Over title, bullets, images, rich_content, brand_section, rating, reviews, in_stock; what is not known is not
    lacking.
    """
    short, long = limits.title
    length = pl.col("title").str.len_chars()
    conditions = {
        "in_stock": pl.col("in_stock") == "no",
        "images": pl.col("images") < limits.images,
        "bullets": pl.col("bullets") < limits.bullets,
        "rating": pl.col("rating") < limits.rating,
        "reviews": pl.col("reviews") < limits.reviews,
        "title": length < short,
        "long_title": length > long,
        "rich_content": pl.col("rich_content") == "no",
        "brand_section": pl.col("brand_section") == "no",
    }
    return pl.concat_list(
        pl.when(conditions[key].fill_null(False)).then(pl.lit(key)) for key in LACKS
    ).list.drop_nulls()


LOST: Final = (
    "eligible",
    "in_stock",
    "main_offer",
    "images",
    "bullets",
    "rich_content",
    "brand_section",
    "title",
    "rating",
)
"""Fields that a page can lose, most severe first."""


def lost(pages: pl.DataFrame, limits: PageLimits = STANDARD, side_days: int = SIDE_DAYS) -> pl.DataFrame:
    """
    What pages show no more, apart from what they never showed.

    pages: product_id, day and any of `LOST`. The newest value of each is compared with the last other one before it:
    fewer pictures or bullets, content, stock, eligibility or the main offer gone, words gone from the title, a rating
    that crossed the limit. What was lost within `side_days` of the newest day held is told, and what the newest load
    lost however long ago the load before it was. Gives product_id, field, old, new (as text; of a title the words that
    are gone) and since, the first day without it; gravest field first.
    """
    newest = pages["day"].max()
    found = [_lost(pages, field, limits) for field in LOST if field in pages.columns]
    rows = pl.concat([pl.DataFrame(schema=_LOSS), *found])
    if not isinstance(newest, date):
        return rows
    return rows.filter(pl.col("since") > newest - timedelta(days=side_days))


_LOSS: Final = {"product_id": pl.UInt32, "field": pl.String, "old": pl.String, "new": pl.String, "since": pl.Date}


def _lost(pages: pl.DataFrame, field: str, limits: PageLimits) -> pl.DataFrame:
    compared = pl.col(field) >= limits.rating if field == "rating" else pl.col(field)
    rows = pages.select("product_id", "day", shown=pl.col(field), value=compared).drop_nulls("value")
    rows = rows.sort("product_id", "day").with_columns(newest=pl.col("value").last().over("product_id"))
    others = (
        rows.filter(pl.col("value") != pl.col("newest"))
        .group_by("product_id", maintain_order=True)
        .agg(value=pl.col("value").last(), old=pl.col("shown").last(), until=pl.col("day").last())
    )
    after = rows.join(others.select("product_id", "until"), on="product_id").filter(pl.col("day") > pl.col("until"))
    now = after.group_by("product_id", maintain_order=True).agg(
        newest=pl.col("value").last(), new=pl.col("shown").last(), since=pl.col("day").first()
    )
    both = others.join(now, on="product_id", maintain_order="left")
    if field == "title":
        both = _with_lost_words(both)
    return both.filter(_IS_WORSE.get(field, pl.col("newest") < pl.col("value"))).select(
        pl.col("product_id").cast(pl.UInt32),
        pl.lit(field).alias("field"),
        pl.col("old", "new").cast(pl.String),
        "since",
    )


def _with_lost_words(changed: pl.DataFrame) -> pl.DataFrame:
    gone = [
        " ".join(word for word in words.split(str(old)) if word not in words.split(str(new)))
        for old, new in changed.select("old", "new").rows()
    ]
    return changed.with_columns(old=pl.Series(gone, dtype=pl.String), new=pl.lit(""))


_WENT: Final = (pl.col("value") == "yes") & (pl.col("newest") == "no")
_IS_WORSE: Final[Mapping[str, pl.Expr]] = {
    "eligible": _WENT,
    "in_stock": _WENT,
    "rich_content": _WENT,
    "brand_section": _WENT,
    "main_offer": (pl.col("value") == "own") & (pl.col("newest") == "other"),
    "title": pl.col("old") != "",
}
