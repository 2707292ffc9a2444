"""Phrases that were never bought: the worked figures of “Reach”, and what moves them."""

from __future__ import annotations

import numpy as np
import polars as pl
import pytest

from nimbus_reef.core import unbought
from nimbus_reef.core.cohorts import Spelling
from nimbus_reef.core.market_fit import MarketFit, expected, fitted, rank_level, rivals_level
from nimbus_reef.core.response import ClickResponse

SPREAD = 10.3
"""Words that the fit does not know have a width of 1/11.3 in the worked figures: here by ln(1 + 1/11.3)."""
STRENGTH, BETA = 57.0, 1.2
RESPONSE = ClickResponse(e=0.8, spread=0.1, p=0.9)
WORDS = {"hanging": (0.82, 22), "planter": (1.06, 60), "herbs": (1.15, 25)}


def market(**ranks_and_rivals) -> MarketFit:
    """The account of the worked figures; a level's orders make α + K what is worked with."""
    spreads = {"product": 11.3, "word": 11.3, "rank": 11.3, "rivals": 11.3}
    words = pl.DataFrame(
        [(number, word, number, 1, factor, at - 11.3) for number, (word, (factor, at)) in enumerate(WORDS.items())],
        schema={
            "word_id": pl.UInt32,
            "word": pl.String,
            "level": pl.Int64,
            "size": pl.UInt32,
            "factor": pl.Float64,
            "orders": pl.Float64,
        },
        orient="row",
    )
    levels = {
        "ranks": {1: (1.25, 45 - 11.3), 3: (0.55, 30 - 11.3)},
        "rivals": {0: (0.60, 20 - 11.3), 3: (1.05, 50 - 11.3)},
    } | ranks_and_rivals
    return MarketFit(
        mean=0.065,
        orders=180.0,
        strength=STRENGTH,
        spreads=spreads,
        products=pl.DataFrame({"product": ["SW-20"], "factor": [1.10], "orders": [40 - 11.3]}),
        words=words,
        terms=pl.DataFrame(),
        **levels,
    )


def phrase(words, *, rank=None, rivals=None, clicks=0, orders=0, volume: int | None = 640, fit=None, **other):
    """One phrase of the worked figures, judged and with its bid."""
    frame = pl.DataFrame(
        {"normal_id": [1], "product": ["SW-20"], "rank": [rank], "rivals": [rivals]},
        schema_overrides={"rank": pl.Int64, "rivals": pl.Int64},
    )
    ids = {word: number for number, word in enumerate(WORDS)}
    pairs = pl.DataFrame(
        {"normal_id": [1] * len(words), "word_id": [ids.get(word, 90 + at) for at, word in enumerate(words)]},
        schema={"normal_id": pl.Int64, "word_id": pl.UInt32},
    )
    rows = expected(fit or market(), frame, pairs).with_columns(free_clicks=clicks, free_orders=orders)
    judged = rows.hstack(unbought.posterior(rows, STRENGTH, BETA))
    given = {
        "price": 0.42,
        "usual_bid": 0.55,
        "aov": 28.0,
        "target_acos": 0.28,
        "goal_acos": 0.28,
        "margin": 0.43,
        "multiplier": 1.0,
        "floor": 0.02,
        "ceiling": 10.0,
        "volume": volume,
        "per_search": 0.012,
    } | other
    placed = judged.with_columns(pl.lit(value, pl.Float64).alias(name) for name, value in given.items())
    found = judged.hstack(unbought.advised(placed, RESPONSE)).hstack(placed.select("price", "volume"))
    return found.with_columns(stays=unbought.stays()).row(0, named=True)


def is_proposed(row):
    """Whether nothing holds it back."""
    return row["stays"] is None


def test_a_phrase_of_which_all_is_known():
    """Product, three words, rank, rivals and 85 clicks without ads: the first worked figure of “Reach”."""
    row = phrase(WORDS, rank=1, rivals=3, clicks=85, orders=9)
    assert row["mean"] == pytest.approx(0.093804, abs=5e-7)
    assert row["unsure"] == pytest.approx(0.187935, abs=5e-7)
    assert row["clicks_worth"] == pytest.approx(24.0403, abs=5e-5)
    assert row["a"] == pytest.approx(7.0909, abs=5e-5)
    assert row["a"] / row["cvr"] == pytest.approx(78.8459, abs=5e-5)
    assert row["cvr"] == pytest.approx(0.089933, abs=5e-7)
    assert row["offered"] == pytest.approx(0.8078, abs=5e-5)
    assert row["bid"] == 0.81
    assert row["pays"] == pytest.approx(0.8844, abs=5e-5)
    assert row["clicks"] == pytest.approx(30.72, abs=5e-3)
    assert row["gain"] == pytest.approx(14.31, abs=5e-3)


def test_the_same_without_rank_rivals_and_free_clicks_is_far_less_sure():
    """The second worked figure: proposed too, at a chance of 59 %."""
    row = phrase(WORDS)
    assert row["mean"] == pytest.approx(0.071470, abs=5e-7)
    assert row["unsure"] == pytest.approx(0.139323, abs=5e-7)
    assert row["clicks_worth"] == pytest.approx(31.9301, abs=5e-5)
    assert row["offered"] == pytest.approx(0.5381, abs=5e-5)
    assert row["pays"] == pytest.approx(0.5883, abs=5e-5)
    assert row["clicks"] == pytest.approx(30.19, abs=5e-3)
    assert row["gain"] == pytest.approx(13.57, abs=5e-3)
    assert is_proposed(row)


def test_a_phrase_that_brings_clicks_and_no_order_is_not_proposed_whatever_its_volume():
    """The third worked figure: two words the fit does not know, far down, no rival there, 40 clicks for nothing."""
    row = phrase(("planter", "liner", "fabric"), rank=3, rivals=0, clicks=40, volume=2400)
    assert row["mean"] == pytest.approx(0.025011, abs=5e-7)
    assert row["clicks_worth"] == pytest.approx(30.1248, abs=5e-5)
    assert row["cvr"] == pytest.approx(0.010259, abs=5e-7)
    assert row["pays"] == pytest.approx(0.0102, abs=5e-5)
    assert not is_proposed(row)


def test_adjustments_in_force_are_taken_off_the_bid_and_nothing_else():
    """A campaign that adds 50 % gets a bare bid; what is offered, the chance and the gain stay."""
    plain = phrase(WORDS, rank=1, rivals=3, clicks=85, orders=9)
    added = phrase(WORDS, rank=1, rivals=3, clicks=85, orders=9, multiplier=1.5)
    assert added["bid"] == 0.54
    assert [added[name] for name in ("offered", "pays", "clicks", "gain")] == [
        plain[name] for name in ("offered", "pays", "clicks", "gain")
    ]


def test_a_bid_below_the_floor_is_no_proposal():
    """What could be bid is less than the account bids at least."""
    row = phrase(WORDS, floor=0.9)
    assert row["bid"] is None
    assert not is_proposed(row)


def test_a_bid_is_at_most_half_again_as_high_as_the_usual_one():
    """However well a phrase would convert."""
    row = phrase(WORDS, rank=1, rivals=3, clicks=400, orders=120)
    assert row["offered"] == pytest.approx(1.5 * 0.55)


def test_without_a_volume_there_are_no_clicks_and_no_gain():
    """It is listed, and not proposed."""
    row = phrase(WORDS, rank=1, rivals=3, volume=None)
    assert row["clicks"] is None
    assert row["gain"] is None
    assert row["pays"] > 0.5
    assert not is_proposed(row)


def test_a_price_above_what_an_order_may_cost_never_pays():
    """π ≥ A·T."""
    assert phrase(WORDS, price=8.0)["pays"] == 0


def test_joined_words_count_once_where_both_are_there_and_as_unknown_where_one_is():
    """“hand + second” is one level of two words."""
    joined = market().words.with_columns(level=pl.Series([0, 1, 1]), size=pl.Series([1, 2, 2], dtype=pl.UInt32))
    fit = market()
    fit = MarketFit(**{name: getattr(fit, name) for name in fit.__dataclass_fields__} | {"words": joined})
    both = phrase(("planter", "herbs"), fit=fit)
    assert both["mean"] == pytest.approx(0.065 * 1.10 * 1.06)
    one = phrase(("planter",), fit=fit)
    assert one["mean"] == pytest.approx(0.065 * 1.10)
    assert one["unsure"] == pytest.approx((1 + 1 / 180) * (1 + 1 / 40) * (1 + 1 / 11.3) - 1)


@pytest.mark.parametrize(("rank", "level"), [(1, 0), (5, 0), (6, 1), (15, 1), (16, 2), (40, 2), (41, 3), (None, 3)])
def test_levels_of_our_rank(rank, level):
    """1 to 5, 6 to 15, 16 to 40, beyond or none."""
    frame = pl.DataFrame({"rank": [rank]}, schema={"rank": pl.Int64})
    assert frame.select(rank_level(pl.col("rank"))).item() == level


def test_levels_of_rivals_of_eight():
    """0, 1 to 2, 3 to 4, 5 to 8."""
    frame = pl.DataFrame({"share": [seen / 8 for seen in range(9)]})
    assert frame.select(rivals_level(pl.col("share")))["literal"].to_list() == [0, 1, 1, 2, 2, 3, 3, 3, 3]


def test_clicks_without_ads_that_buy_more_often_say_so():
    """β: drawn to 1 by twenty orders; terms with under five such clicks say nothing."""
    clicks, orders, cvr = np.array([200.0, 300.0, 4.0]), np.array([30.0, 45.0, 4.0]), np.array([0.1, 0.1, 0.1])
    found = unbought.free_rate(clicks, orders, cvr)
    weights = [1 / (1 + 0.09 * 20), 1 / (1 + 0.09 * 30)]
    assert found == pytest.approx((20 + weights[0] * 30 + weights[1] * 45) / (20 + weights[0] * 20 + weights[1] * 30))
    assert unbought.free_rate(np.array([]), np.array([]), np.array([])) == 1


def test_rank_tells_what_converts_where_it_does():
    """Where searches on which we rank first buy twice as often, the fit says so; where not, it is silent."""
    rng = np.random.default_rng(5)
    ranks = np.arange(600) % 4

    def made(effect):
        clicks = rng.poisson(60, 600) + 1
        orders = rng.binomial(clicks, 0.06 * effect[ranks])
        cells = pl.DataFrame(
            {
                "ad_group_id": np.arange(600) % 30,
                "normal_id": np.arange(600),
                "target_id": np.arange(600) % 120,
                "clicks": clicks,
                "orders": orders,
                "spend": clicks,
            }
        ).sort("ad_group_id", "normal_id", "target_id")
        products = pl.DataFrame({"ad_group_id": np.arange(30), "product": [f"P{n % 5}" for n in range(30)]})
        levels = pl.DataFrame({"normal_id": np.arange(600), "rank": ranks, "rivals": [None] * 600})
        found = fitted(cells, products, Spelling.none(), levels.with_columns(pl.col("rivals").cast(pl.Int64)))
        assert found is not None
        return found

    strong, silent = made(np.array([2.0, 1.3, 0.9, 0.5])), made(np.ones(4))
    beside = [strong.ranks[level][0] / strong.ranks[2][0] for level in (0, 1, 3)]
    assert beside == pytest.approx([2.0 / 0.9, 1.3 / 0.9, 0.5 / 0.9], rel=0.2)
    assert strong.spreads["rank"] < 20 < 50 < silent.spreads["rank"]
    assert all(abs(factor - 1) < 0.1 for factor, _ in silent.ranks.values())


def test_too_few_clicks_say_nothing_of_searches():
    """Under 200 in all."""
    assert unbought.clicks_per_search(199, 10_000) is None
    assert unbought.clicks_per_search(200, 16_000) == pytest.approx(0.0125)


def test_the_category_of_a_phrase_is_told_by_its_words():
    """“plant pot” is made of what planters are called by, though a lamp has “plant” in its title too."""
    known = pl.DataFrame(
        [("lamps", 1), ("lamps", 2), ("lamps", 3), ("planters", 1), ("planters", 4), ("planters", 4)],
        schema={"category": pl.String, "word_id": pl.UInt32},
        orient="row",
    )
    asked = pl.DataFrame(
        [(7, 1), (7, 4), (8, 3), (9, 99)], schema={"normal_id": pl.UInt32, "word_id": pl.UInt32}, orient="row"
    )
    assert unbought.likeliest_category(known, asked).rows() == [(7, "planters"), (8, "lamps")]
