"""Structure: keywords bought twice with the one to keep, ad groups and campaigns that cannot be steered."""

import polars as pl

from nimbus_reef.core import structure
from nimbus_reef.core.structure import StructureLimits


def targets(*rows):
    """id, ad group, normal text, match type, main product, own test, orders, cost of sale by evidence."""
    columns = (
        "target_id", "ad_group_id", "normal", "match_type", "main_product", "own_test", "orders", "acos_by_evidence",
    )  # fmt: skip
    return pl.DataFrame(rows, schema=columns, orient="row", strict=False).with_columns(
        pl.col("acos_by_evidence").cast(pl.Float64),
        spend=pl.lit(1),
        campaign=pl.lit("c"),
        ad_group=pl.lit("g"),
    )


def kept(frame):
    return frame.filter("keep").select("target_id", "keep_why").rows()


def test_among_those_with_a_test_the_lowest_cost_of_sale_is_kept():
    found = structure.duplicates(
        targets((1, 1, "lamp", "exact", "A", True, 9, 0.4), (2, 2, "lamp", "exact", "A", True, 1, 0.2),
                (3, 3, "lamp", "exact", "A", False, 0, 0.1))
    )  # fmt: skip
    assert kept(found) == [(2, "evidence")]
    assert found["twins"].to_list() == [3, 3, 3]
    assert found["target_id"].to_list()[0] == 2, "the one to keep comes first"


def test_without_a_test_most_orders_decide_and_else_the_oldest():
    found = structure.duplicates(
        targets((1, 1, "lamp", "exact", "A", False, 1, 0.4), (2, 2, "lamp", "exact", "A", False, 3, 0.9))
    )
    assert kept(found) == [(2, "orders")]
    found = structure.duplicates(
        targets((5, 1, "lamp", "exact", "A", False, 0, None), (4, 2, "lamp", "exact", "A", False, 0, None))
    )
    assert kept(found) == [(4, "oldest")]


def test_another_match_type_product_or_the_same_ad_group_is_no_twin():
    found = structure.duplicates(
        targets(
            (1, 1, "lamp", "exact", "A", True, 1, 0.4), (2, 2, "lamp", "phrase", "A", True, 1, 0.4),
            (3, 3, "lamp", "exact", "B", True, 1, 0.4), (4, 4, "stand", "auto", "A", True, 1, 0.4),
            (5, 5, "stand", "auto", "A", True, 1, 0.4), (6, 6, "pot", "exact", None, True, 1, 0.4),
            (7, 7, "pot", "exact", None, True, 1, 0.4),
        )
    )  # fmt: skip
    assert found.is_empty()


def test_what_cannot_be_steered_is_listed_by_its_limit():
    live = pl.DataFrame(
        {
            "campaign": ["full"] * 5 + ["mixed"] * 3 + ["items"] * 2,
            "ad_group": ["g"] * 10,
            "match_type": ["exact"] * 5 + ["exact", "broad", "auto"] + ["item", "category"],
        }
    )
    families = pl.DataFrame(
        {"campaign": ["full", "full"], "ad_group": ["g", "g"], "family": ["pots", "lamps"]}
    )
    found = structure.faults(live, families, StructureLimits(targets=4))
    assert found.select("fault", "campaign", "count", "detail").rows() == [
        ("crowded", "full", 5, ""), ("mixed", "mixed", 2, "broad, exact"), ("unlike", "full", 2, "lamps, pots"),
    ]  # fmt: skip
