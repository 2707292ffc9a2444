"""Movement classes: every cell of the table, marginal cost of sale, effect on profit."""

import polars as pl
import pytest

from nimbus_reef.core import movement
from nimbus_reef.core.movement import moved

ENOUGH = {"clicks0": 500, "clicks1": 500, "orders0": 50, "orders1": 50, "target_acos": 0.3, "margin": 0.4}


def one(spend0, sales0, spend1, sales1, days=(30, 30), **other):
    row = {"spend0": spend0, "sales0": sales0, "spend1": spend1, "sales1": sales1} | ENOUGH | other
    return moved(pl.DataFrame([row]), *days).to_dicts()[0]


@pytest.mark.parametrize(
    ("spend", "sales", "word"),
    [
        (120, 80, "leaking"),
        (120, 100, "leaking"),
        (120, 110, "buying growth"),
        (120, 130, "gaining"),
        (120, 120, "gaining"),
        (100, 90, "slipping"),
        (105, 100, "steady"),
        (95, 105, "steady"),
        (100, 120, "gaining"),
        (80, 70, "shrinking"),
        (80, 90, "saving"),
        (80, 100, "saving"),
        (80, 120, "gaining"),
        (80, 80, "shrinking"),
        (0, 0, "gone"),
        (106, 100, "leaking"),
    ],
)
def test_classes(spend, sales, word):
    """From 100 and 100; flat within 5 % inclusive."""
    assert one(100, 100, spend, sales)["movement"] == word


def test_from_nothing_and_endless_cost():
    assert one(0, 0, 5, 0)["movement"] == "new"
    assert one(0, 0, 0, 0)["movement"] == "steady"
    assert one(100, 0, 120, 50)["movement"] == "gaining", "endless cost of sale fell"
    assert one(100, 50, 80, 0)["movement"] == "shrinking", "it rose to endless"


def test_unlike_windows_are_compared_by_day():
    assert one(100, 400, 50, 200, days=(30, 15))["movement"] == "steady"


def test_growth_is_worth_buying_below_the_target():
    dear = one(100, 400, 200, 500)
    assert (dear["marginal"], dear["worth"]) == (1.0, False)
    cheap = one(100, 400, 150, 590)
    assert cheap["worth"]
    assert cheap["marginal"] == pytest.approx(50 / 190)
    cut = one(200, 500, 100, 400)
    assert (cut["movement"], cut["marginal"]) == ("saving", None)
    dear_cut = one(100, 500, 80, 380)
    assert (dear_cut["movement"], dear_cut["worth"]) == ("shrinking", False)


def test_effect_on_profit_is_margin_of_sales_less_spend_a_month():
    assert one(100, 400, 150, 500)["profit"] == pytest.approx(0.4 * 100 - 50)
    assert one(100, 400, 150, 500, margin=None)["profit"] == pytest.approx(0.3 * 100 - 50)
    assert one(100, 400, 150, 500, days=(60, 60))["profit"] == pytest.approx((0.4 * 100 - 50) / 2)


def test_few_clicks_or_orders_are_thin():
    assert not one(100, 400, 150, 500)["thin"]
    assert one(100, 400, 150, 500, clicks0=99)["thin"]
    assert one(100, 400, 150, 500, orders1=9)["thin"]


def test_exactly_five_per_cent_is_flat_and_a_hair_more_is_not():
    """Compared in micro-units over days of unlike number, never after a division."""
    for then, now, days, flat in (
        (20, 21, (30, 30), True),
        (20, 19, (30, 30), True),
        (20, 21.000001, (30, 30), False),
        (0.60, 0.63, (30, 30), True),
        (200, 70, (90, 30), True),
        (200, 63.3, (90, 30), False),
    ):
        row = {
            f"{name}{when}": float(value)
            for name in ("spend", "sales", "clicks", "orders")
            for when, value in ((0, then), (1, now))
        } | {"target_acos": 0.3, "margin": None}
        rows = pl.DataFrame([row], schema_overrides={"margin": pl.Float64})
        assert (movement.moved(rows, *days)["movement"][0] == "steady") is flat, (then, now)
        wider = movement.MovementLimits(flat=0.06, clicks=0, orders=0)
        assert movement.moved(rows, *days, wider).select("movement", "thin").row(0) == ("steady", False)
