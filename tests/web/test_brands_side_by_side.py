"""Brands side by side, each in its own currency."""

import re

import pytest
from tests.pages import text_of, texts

PAGE = "/pulse/brands"


def test_two_brands_stand_beside_each_other_in_their_currencies(owner):
    page = owner.get(PAGE)
    heads = texts(page, "thead th")
    assert heads[0] == "metric"
    assert {"Fernhollow, DE", "Pellwick, GB"} <= set(heads)
    spend = next(row for row in texts(page, "tbody tr") if row.startswith("spend"))
    assert "€" in spend
    assert "£" in spend


def test_what_it_says_of_a_brand_is_what_its_own_page_says(owner):
    alone = owner.get(f"{PAGE}?brand=fernhollow-de")
    assert texts(alone, "thead th")[1:] == ["Fernhollow, DE"]
    acos = next(row for row in texts(alone, "tbody tr") if row.startswith("ACOS"))
    found = re.search(r"([\d.]+) %", acos.replace("\xa0", " "))[1]
    assert f"ACOS {found} %" in text_of(owner.get("/targeting/campaigns?account=fernhollow-de")).replace("\xa0", " ")


def test_it_leaves_as_a_file_and_a_brand_that_is_none_is_refused(owner):
    lines = owner.get(f"{PAGE}/export.csv?brand=pellwick-gb").get_data(as_text=True).strip().splitlines()
    assert lines[0].split(",")[:3] == ["brand", "currency", "metric"]
    assert {line.split(",")[0] for line in lines[1:]} == {"pellwick-gb"}
    assert owner.get(f"{PAGE}?brand=nobody").status_code == 404


@pytest.mark.parametrize("window", ["last-7", "last-30", "2025-01"])
def test_other_days_are_told_too(owner, window):
    assert owner.get(f"{PAGE}?window={window}").status_code == 200
