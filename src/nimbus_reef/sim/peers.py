"""Other brands on the same shelves: a population, and the quantiles a feed would tell of it."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.sim.vocabulary import BrandSpec, Category

FORMATS: Final = ("product", "brand", "display")
POINTS: Final = (5, 10, 20, 30, 40, 50, 60, 70, 80, 90, 95)
_DRAWN_TO: Final = {"product": (1.0, 1.0), "brand": (1.06, 0.96), "display": (0.94, 0.9)}
"""What a format does to click rate and to conversion."""
_SEEN_CVR: Final = 0.66
"""Conversion over all searches and targets, beside that of a shopper who wants just this."""
_CARTS_PER_ORDER: Final = 2.6


def population(spec: BrandSpec, category: Category, seed: int, months: int) -> dict[str, np.ndarray]:
    """
    Every brand of a shelf, by metric: month × brand × format, and the shares of spend and of
    campaigns per format. The identity ACOS = CPC / (CVR · AOV) holds for each.
    """
    rng = np.random.default_rng([seed, 11, *spec.key.encode(), *category.name.encode()])
    brands = int(rng.integers(90, 340))
    price = float(np.mean([variant.price for family in category.families for variant in family.variants]))
    shape = (months, brands, len(FORMATS))

    def spread(sigma: float, wobble: float) -> np.ndarray:
        """What a brand is like, and how it differs from month to month and format to format."""
        return np.asarray(rng.lognormal(0, sigma, (1, brands, 1)) * rng.lognormal(0, wobble, shape))

    click, buy = (np.array([_DRAWN_TO[name][part] for name in FORMATS]) for part in (0, 1))
    ctr = category.ctr * spread(0.32, 0.06) * click
    cvr = np.minimum(0.5, category.cvr * _SEEN_CVR * spread(0.3, 0.07) * buy)
    aov = price * spread(0.24, 0.03)
    cpc = category.cvr * _SEEN_CVR * price * 0.31 * spread(0.27, 0.05)
    purchase = np.clip(spread(0.22, 0.04) / _CARTS_PER_ORDER, 0.05, 0.95)
    mix = rng.dirichlet((14.0, 3.4, 2.0), (months, brands))
    return {
        "ctr": ctr,
        "cvr": cvr,
        "cpc": cpc,
        "aov": aov,
        "acos": cpc / (cvr * aov),
        "cart_rate": np.minimum(0.9, cvr / purchase),
        "purchase_rate": purchase,
        "spend_share": mix,
        "campaign_share": rng.dirichlet((11.0, 4.0, 2.6), (months, brands)),
    }


def benchmarks(spec: BrandSpec, seed: int, first_day: date, last_day: date) -> pl.DataFrame:
    """The feed: month × category × country × format (or all) × metric, quantiles of the population."""
    rows = []
    months = months_of(first_day, last_day)
    for category in spec.categories:
        people = population(spec, category, seed, len(months))
        for number, month in enumerate(months):
            for metric in ("ctr", "cvr", "cpc", "acos", "aov", "cart_rate", "purchase_rate"):
                for ad_format in (*FORMATS, "all"):
                    values = _of_format(people, metric, number, ad_format)
                    result = np.quantile(values, np.array(POINTS) / 100)
                    rows.append(
                        {
                            "month": month.strftime("%Y-%m"),
                            "category": category.name,
                            "country": spec.country,
                            "format": ad_format,
                            "metric": metric,
                            "brands": len(values),
                            **{f"p{point:02}": round(float(q), 6) for point, q in zip(POINTS, result, strict=True)},
                        }
                    )
    return pl.DataFrame(rows)


def _of_format(people: dict[str, np.ndarray], metric: str, month: int, ad_format: str) -> np.ndarray:
    """A metric of every brand in one format; over all, its formats weighed by what it spends on each."""
    values = people[metric][month]
    if ad_format != "all":
        return np.asarray(values[:, FORMATS.index(ad_format)])
    if metric == "acos":
        cpc, cvr, aov = (_of_format(people, name, month, "all") for name in ("cpc", "cvr", "aov"))
        return np.asarray(cpc / (cvr * aov))
    return np.asarray((values * people["spend_share"][month]).sum(axis=1))


def format_mix(spec: BrandSpec, seed: int, first_day: date, last_day: date) -> pl.DataFrame:
    """The feed's mean shares of campaigns and of spend per format."""
    rows = []
    months = months_of(first_day, last_day)
    for category in spec.categories:
        people = population(spec, category, seed, len(months))
        for number, month in enumerate(months):
            for place, ad_format in enumerate(FORMATS):
                shares = {
                    name: round(float(people[name][number, :, place].mean()), 4)
                    for name in ("campaign_share", "spend_share")
                }
                rows.append(
                    {
                        "month": month.strftime("%Y-%m"),
                        "category": category.name,
                        "country": spec.country,
                        "format": ad_format,
                        **shares,
                    }
                )
    return pl.DataFrame(rows)


def months_of(first_day: date, last_day: date) -> list[date]:
    """The first days of the months that the days touch."""
    found, day = [], first_day.replace(day=1)
    while day <= last_day:
        found.append(day)
        day = (day + timedelta(days=32)).replace(day=1)
    return found
