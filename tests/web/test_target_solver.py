"""The target solver: what a target takes, what another price does, and from there to the plan."""

import pytest
from tests.pages import accept, found, parsed, row_ids, text_of, texts, values

SOLVER = "/targeting/solver?account=fernhollow-de"
AT = "/targeting/targets?account=fernhollow-de&cols=prices&where=over_price:is:yes"


def needed(page) -> dict[str, str]:
    """The needed figures by the names of their rows."""
    rows = parsed(page).select(".target-solver tbody tr")
    return {
        row.select_one("th").get_text(" ", strip=True).split()[0]: (
            row.select_one("td:nth-of-type(2) input")["value"]
            if row.select_one("td:nth-of-type(2) input")
            else row.select_one("td:nth-of-type(2)").get_text(strip=True)
        )
        for row in rows
    }


def figure(text: str) -> float:
    return float(text.replace(".", "").replace(",", ".")) if "," in text else float(text)


def test_it_opens_on_what_costs_too_much_and_says_what_a_click_may_cost(owner):
    page = owner.get(SOLVER, follow_redirects=True)
    words = text_of(page)
    assert "a click of this account may cost" in words
    assert "Profit peaks at" in words
    assert "cost more than a click may" in words
    assert len(row_ids(page)) > 10
    assert texts(page, ".views [aria-current]") == ["Target solver"]
    shown = needed(page)
    now = [values(page, f".target-solver input[name={each}]", "placeholder")[0] for each in ("cpc", "cvr", "aov")]
    price, conversion, order = map(figure, now)
    assert figure(shown["CPC"]) == pytest.approx(0.28 * conversion / 100 * order, abs=0.01)
    assert figure(shown["conversion"]) == pytest.approx(100 * price / (order * 0.28), rel=0.02)


def test_another_target_moves_the_mark_and_judges_the_rows_anew(owner):
    usual, strict = (owner.get(AT + more) for more in ("", "&target_acos=15"))
    assert figure(needed(strict)["CPC"]) < figure(needed(usual)["CPC"])
    assert "may at 15" in text_of(strict)
    dear = [int(text_of(each).split(" targets cost more")[0].split()[-3].replace(".", "")) for each in (usual, strict)]
    assert dear[1] > dear[0]


def test_one_figure_is_fixed_and_the_others_follow(owner):
    page = owner.get(AT + "&fixed=cpc&at=0.40")
    shown = needed(page)
    assert shown["CPC"] == "0.40"
    assert figure(shown["ACOS"]) < figure(needed(owner.get(AT))["ACOS"]) or figure(shown["ACOS"]) < 40
    assert parsed(page).select("input[name=at]")
    assert "is not a conversion" in text_of(owner.get(AT + "&fixed=cvr&at=lots"))
    assert "is not a choice" in text_of(owner.get(AT + "&fixed=weather"))


def test_a_figure_of_another_scope_is_kept_and_said_and_used_only_when_asked(owner):
    page = owner.get(AT + "&aov=99")
    assert "is not from this scope" in text_of(page)
    assert needed(page) == needed(owner.get(AT))
    assert values(page, "input.misfit", "value") == ["99"]
    anyway = owner.get(AT + "&aov=99&anyway=yes")
    assert figure(needed(anyway)["CPC"]) > figure(needed(page)["CPC"])


def test_conversion_of_all_visits_is_a_choice_that_says_so(owner):
    page = owner.get(AT)
    assert any(each.startswith("of all visits") for each in texts(page, ".target-solver a"))
    visits = owner.get(AT + "&visits=visits")
    assert needed(visits)["CPC"] != needed(page)["CPC"]


def test_from_the_solver_to_the_plan_and_out_as_a_file(owner):
    page = owner.get(AT)
    words = found(page, ".asked button").get_text(" ", strip=True)
    assert words.startswith("Add ")
    assert words.endswith("bids to the plan e")
    sent = {"account": "fernhollow-de", "cols": "prices", "where": "over_price:is:yes", "all": "yes"}
    told = accept(owner, "/targeting/targets/accept-many", sent)
    assert told.status_code in (302, 303)
    told = text_of(owner.get(AT))
    assert "in the plan" in told
    exported = owner.get("/targeting/targets/export.csv?account=fernhollow-de&where=over_price:is:yes").get_data(
        as_text=True
    )
    assert {"more_clicks", "more_spend", "over_price"} <= set(exported.splitlines()[0].split(","))


def test_a_scope_of_one_kind_has_no_notice_of_formats_and_one_without_sales_says_so(owner, viewer):
    assert "ad formats together" in text_of(owner.get(AT))
    assert "ad formats together" not in text_of(owner.get(AT + "&format=product"))
    nothing = owner.get(AT + "&holds=nothing-like-it")
    assert "No sales in this scope" in text_of(nothing)
    assert not parsed(viewer.get(AT)).select(".asked button")


def test_a_target_far_from_anything_tried_stays_on_the_chart(owner):
    for target in ("1", "480"):
        page = owner.get(AT + f"&target_acos={target}")
        assert page.status_code == 200
        ys = [float(each) for each in values(page, ".course .target circle", "cy")]
        assert len(ys) == 4
        assert all(20 < y < 254 for y in ys)
        xs = values(page, ".course .target line", "x1")
        assert all(70 < float(each) < 750 for each in xs)
