"""Structure: keywords bought twice with the one to keep, ad groups and campaigns that cannot be steered."""

import polars as pl

from nimbus_reef.core import structure
from nimbus_reef.core.structure import StructureLimits


def targets(*rows):
    """
    id, ad group, normal text, match type, main product, verdict, orders, cost of sale by evidence; loses where that is
    above 1.
    """
    columns = (
        "target_id",
        "ad_group_id",
        "normal",
        "match_type",
        "main_product",
        "verdict",
        "orders",
        "acos_by_evidence",
    )
    return pl.DataFrame(rows, schema=columns, orient="row", strict=False).with_columns(
        pl.col("acos_by_evidence").cast(pl.Float64),
        loses=pl.col("acos_by_evidence") > 1,
        spend=pl.lit(1),
        campaign=pl.lit("c"),
        ad_group=pl.lit("g"),
    )


def kept(frame):
    return frame.filter("keep").select("target_id", "keep_why").rows()


def test_the_best_verdict_is_kept_then_the_lowest_cost_of_sale():
    """By the posterior, whoever had the clicks: a fine one beats an undecided one, which beats one above target."""
    found = structure.duplicates(
        targets(
            (1, 1, "lamp", "exact", "A", "too early to tell", 9, 0.1),
            (2, 2, "lamp", "exact", "A", "within target", 1, 0.2),
            (3, 3, "lamp", "exact", "A", "above target", 4, 0.05),
            (4, 4, "lamp", "exact", "A", "within target", 7, 0.25),
        )
    )
    assert kept(found) == [(2, "evidence")]
    assert found["twins"].to_list() == [4] * 4
    assert found["target_id"].to_list() == [2, 4, 1, 3], "the one to keep comes first"


def test_a_twin_without_a_click_is_kept_rather_than_a_proven_loser():
    found = structure.duplicates(
        targets(
            (1, 1, "lamp", "exact", "A", "above target", 0, 3.0),
            (2, 2, "lamp", "exact", "A", "not enough data", None, 0.4),
        )
    )
    assert kept(found) == [(2, "evidence")]


def test_of_equals_most_orders_and_then_age_decide():
    found = structure.duplicates(
        targets(
            (1, 1, "lamp", "exact", "A", "within target", 1, 0.2), (2, 2, "lamp", "exact", "A", "within target", 3, 0.2)
        )
    )
    assert kept(found) == [(2, "evidence")]
    found = structure.duplicates(
        targets(
            (5, 1, "lamp", "exact", "A", "not enough data", None, None),
            (4, 2, "lamp", "exact", "A", "not enough data", None, None),
        )
    )
    assert kept(found) == [(4, "oldest")]


def test_where_even_the_best_loses_money_none_is_kept():
    found = structure.duplicates(
        targets(
            (1, 1, "lamp", "exact", "A", "above target", 0, 3.0), (2, 2, "lamp", "exact", "A", "above target", 1, 1.4)
        )
    )
    assert kept(found) == []
    assert set(found["keep_why"]) == {"none"}


def test_another_match_type_product_or_the_same_ad_group_is_no_twin():
    found = structure.duplicates(
        targets(
            (1, 1, "lamp", "exact", "A", "within target", 1, 0.4),
            (2, 2, "lamp", "phrase", "A", "within target", 1, 0.4),
            (3, 3, "lamp", "exact", "B", "within target", 1, 0.4),
            (4, 4, "stand", "auto", "A", "within target", 1, 0.4),
            (5, 5, "stand", "auto", "A", "within target", 1, 0.4),
            (6, 6, "pot", "exact", None, "within target", 1, 0.4),
            (7, 7, "pot", "exact", None, "within target", 1, 0.4),
        )
    )
    assert found.is_empty()


def test_what_cannot_be_steered_is_listed_by_its_limit():
    live = pl.DataFrame(
        {
            "campaign": ["full"] * 5 + ["mixed"] * 3 + ["items"] * 2,
            "ad_group": ["g"] * 10,
            "match_type": ["exact"] * 5 + ["exact", "broad", "auto"] + ["item", "category"],
        }
    )
    families = pl.DataFrame({"campaign": ["full", "full"], "ad_group": ["g", "g"], "family": ["pots", "lamps"]})
    found = structure.faults(live, families, StructureLimits(targets=4))
    assert found.select("fault", "campaign", "count", "detail").rows() == [
        ("crowded", "full", 5, ""),
        ("mixed", "mixed", 2, "broad, exact"),
        ("unlike", "full", 2, "lamps, pots"),
    ]
