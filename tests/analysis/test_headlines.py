"""What is found, by the register: two headlines that are never added, and money that stands beside an area."""

from dataclasses import replace

import polars as pl
import pytest

from nimbus_reef.analysis.findings import Findings, Group, named, written_down
from nimbus_reef.core.checks import CHECKS, AreaKey, Money
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.findings import pages


def group(key, stake, **changes):
    rows = pl.DataFrame(
        {
            "row_id": ["r"],
            "name": ["n"],
            "where": ["w"],
            "stake": [stake],
            "members": [["r"]],
            "sales": [0],
            "spend": [0],
        }
    )
    return Group(replace(CHECKS[key], **changes), rows)


def found(*groups):
    return Findings(tuple(groups), 5_000_000, 50_000_000, 90_000_000, ())


def test_missed_sales_are_a_headline_of_their_own():
    """Nothing finds any yet: the headline is silent until a check does, and is never added to the overspend."""
    none = found(group("leaking-products", 2_000_000))
    assert none.missed == 0
    dry = found(group("leaking-products", 2_000_000), group("page-broke", 7_000_000, money=Money.MISSED))
    assert (dry.missed, dry.overspend) == (7_000_000, 5_000_000)
    said, silent = (pages.answer(each, 30, Figures("en_IE", "EUR")).rest.replace("\xa0", " ") for each in (dry, none))
    assert "Missed sales: € 7." in said
    assert "Missed" not in silent


def test_money_of_its_own_stands_beside_the_area_that_it_is_found_in():
    all_of_it = found(
        group("leaking-products", 2_000_000), group("bottom-quarter", 3_000_000), group("costly-targets", 4_000_000)
    )
    assert [each.check.key for each in all_of_it.of_area(AreaKey.MOVEMENT)] == ["leaking-products"]
    assert [each.check.key for each in all_of_it.of_area(AreaKey.STANDING)] == ["bottom-quarter"]
    assert all_of_it.of_area(AreaKey.TARGETING) == (), "overspend stands in its headline"


@pytest.mark.parametrize(
    ("key", "row", "name", "where"),
    [
        ("costly-targets", {"target": "lamp", "campaign": "C", "ad_group": "A"}, "lamp", "C · A"),
        ("wasted-terms", {"term": "free lamp", "campaign": "C", "ad_group": "A"}, "free lamp", "C · A"),
        ("words-to-shut-out", {"spelt": "diy", "word_terms": 7}, "diy", "in 7 search terms"),
        ("leaking-products", {"name": "SKU-1", "where": "A lamp"}, "SKU-1", "A lamp"),
        (
            "bottom-quarter",
            {"name": "Lamps: CTR", "drag_metric": "ctr", "drag_sku": "SKU-1"},
            "Lamps: CTR",
            "biggest part of CTR: SKU-1",
        ),
        (
            "with-its-product",
            {"cohort_level": "main_product", "cohort": "SKU-1", "ad_group": "A", "target": "lamp"},
            "SKU-1",
            "largest: lamp",
        ),
    ],
)
def test_a_finding_is_called_by_what_it_is_about(key, row, name, where):
    assert named(CHECKS[key], row) == (name, where)


def test_a_closed_audit_keeps_check_row_name_place_and_stake():
    (kept,) = written_down(found(group("leaking-products", 2_000_000)))
    assert kept == {"check": "leaking-products", "row": "r", "name": "n", "where": "w", "stake": 2_000_000}
