"""What pages say, without Flask: figures, chips, sentences, chart options."""

from datetime import date

import polars as pl
import pytest

from nimbus_reef.analysis import judged_tables, tables
from nimbus_reef.core.projection import Range
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit import charts, luck
from nimbus_reef.web.kit.marks import changes_of_row
from nimbus_reef.web.targeting import drawer

EURO = Figures("en_IE", "EUR")


def plain(text):
    return text.replace("\xa0", " ").replace("\u2009", "").replace("\u2060", "")


@pytest.mark.parametrize(
    ("shown", "text"),
    [
        (EURO.money(4812.4), "€ 4,812"),
        (EURO.money(-0.94, 2), "−€ 0.94"),
        (EURO.money(None), "–"),
        (EURO.rate(0.776), "77.6 %"),
        (EURO.count(1518), "1,518"),
        (EURO.short(2104), "2.1k"),
        (EURO.short(12), "12"),
        (EURO.one_in(0.005), "1 in 200"),
        (EURO.one_in(1e-9), "less than 1 in 2,000"),
        (EURO.one_in(0.7), "70 %"),
        (Figures("de_DE", "EUR").one_in(1e-9), "less than 1 in 2.000"),
        (EURO.days(Window(date(2026, 9, 17), date(2026, 10, 16))), "17 Sept–16 Oct 2026"),
        (EURO.span(Range(-90, 10, 140)), "−€ 90 to +€ 140"),
        (EURO.span(Range(-5, -5, -5)), "−€ 5"),
        (EURO.counted(1, "click"), "1 click"),
        (EURO.counted(0, "order"), "0 orders"),
    ],
)
def test_figures(shown, text):
    assert plain(shown) == text


def test_no_line_ends_between_a_sign_and_its_figure_and_nothing_has_no_sign():
    assert EURO.change(-12).startswith("−\u2060€")
    assert EURO.change(12).startswith("+\u2060€")
    assert [EURO.signed(value, 2) for value in (-0.001, 0.001, -0.0, 0.5, -0.5)] == [
        "0.00",
        "0.00",
        "0.00",
        "+0.50",
        "−0.50",
    ]


def test_figures_follow_the_account_s_locale_and_currency():
    assert plain(Figures("de_DE", "EUR").number(1234.5)) == "1.234,50"
    assert plain(Figures("en_GB", "GBP").money(3)) == "£ 3"


FIELDS = judged_tables.fields(judged_tables.TARGETS, "evidence")


@pytest.mark.parametrize(
    ("text", "label"),
    [
        ("acos:gt:28", "ACOS > 28 %"),
        ("clicks:ge:10", "clicks ≥ 10"),
        ("state:is:enabled", "state is enabled"),
        ("cpc:lt:0,94", "CPC < € 0.94"),
        ("verdict:not:fine", "verdict is not within target"),
    ],
)
def test_chips_say_what_they_do(text, label):
    chip = tables.parse_filters([text], FIELDS)[0]
    assert plain(chip.label("€")) == label
    assert tables.parse_filters([chip.text], FIELDS)[0] == chip


def test_endless_acos_meets_any_acos_filter_and_sorts_worst():
    rows = pl.DataFrame(
        {"acos": [0.5, None, 0.1, None], "no_sales": [False, True, False, False], "clicks": [1, 2, 3, 0]}
    )
    chip = tables.parse_filters(["acos:gt:28"], FIELDS)[0]
    assert rows.filter(chip.condition())["clicks"].to_list() == [1, 2]
    listed = tables.listing(rows, filters=[], query="", text_columns=(), sort="-acos", fields=FIELDS, page=1)
    assert listed.ordered["clicks"].to_list() == [2, 1, 3, 0]


def test_pages_hold_100_rows_and_a_page_too_far_is_the_last():
    rows = pl.DataFrame({"acos": [0.1] * 250, "no_sales": [False] * 250, "clicks": range(250)})
    listed = tables.listing(rows, filters=[], query="", text_columns=(), sort="clicks", fields=FIELDS, page=9)
    assert (listed.pages, listed.page, len(listed.shown)) == (3, 3, 50)
    with pytest.raises(BadInput):
        tables.listing(rows, filters=[], query="", text_columns=(), sort="mood", fields=FIELDS, page=1)


@pytest.mark.parametrize("sort", ["clicks", "-clicks", "-acos", "acos"])
def test_pages_in_a_row_are_the_whole_in_its_order_equals_as_they_came(sort):
    clicks = [n % 7 for n in range(250)]
    acos = [None if n % 5 == 0 else n % 3 / 10 for n in range(250)]
    rows = pl.DataFrame({"acos": acos, "no_sales": [False] * 250, "clicks": clicks, "came": range(250)})
    how = {"filters": [], "query": "", "text_columns": (), "sort": sort, "fields": FIELDS}
    pages_shown = [tables.listing(rows, page=page, **how).shown for page in (1, 2, 3)]
    known = [n for n in range(250) if rows[sort.lstrip("-")][n] is not None]
    by_hand = sorted(known, key=lambda n: rows[sort.lstrip("-")][n], reverse=sort.startswith("-"))
    wanted = by_hand + [n for n in range(250) if n not in known]
    assert pl.concat(pages_shown)["came"].to_list() == wanted
    assert tables.listing(rows, page=1, **how).ordered["came"].to_list() == wanted


def test_the_sentence_has_its_figures_in_it():
    row = {
        "clicks": 38,
        "orders": 0,
        "prior_a": 9.1,
        "prior_b": 90.9,
        "needed_cvr": 0.108,
        "p_over": 0.995,
        "target_acos": 0.28,
        "cpc": 0.94,
    }
    fact, measure = drawer.sentence(row, EURO)
    assert fact == "38 clicks brought no order."
    assert "convert 9.1 %. The odds of no order by luck alone: 1 in 40." in plain(measure)
    assert "At € 0.94 a click it needs 10.8 % conversion to meet 28 %. The odds that it does: 1 in 200." in plain(
        measure
    )
    _, so = drawer.sentence(row | {"clicks": 3}, EURO)
    assert "So few clicks bring no order 75 % of the time" in plain(so)
    assert drawer.sentence(row | {"clicks": 0}, EURO)[0] == "No clicks in this period."
    assert "too small" in drawer.sentence(row | {"prior_a": None}, EURO)[1]


ROW = {
    "prior_a": 1.0,
    "prior_b": 19.0,
    "account_cvr": 0.07,
    "cohort_cvr": 0.06,
    "free_cvr": 0.06,
    "needed_cvr": 0.06,
    "main_product": "P",
}


def test_the_picture_of_luck_is_a_step_for_all_that_moves_what_is_expected():
    """
    Account, cohort, words, own clicks on one scale; what moves nothing is left out; what is needed
    stands upright.
    """
    drawn = luck.of_row(ROW, (1.0, 59.0), "40 clicks, no order", ("loss", True), EURO)
    assert [step.label for step in drawn.steps] == [
        "the account",
        "its product and ad group",
        "its words",
        "40 clicks, no order",
    ]
    assert [plain(step.value) for step in drawn.steps] == ["7.0 %", "6.0 %", "5.0 %", "1.7 %"]
    x = [step.x for step in drawn.steps]
    assert x == sorted(x, reverse=True)
    assert [step.before for step in drawn.steps[1:]] == x[:-1]
    assert x[2] < drawn.needed_x == x[1]
    unknown = luck.of_row(ROW | {"main_product": None}, (1.0, 59.0), "40 clicks, no order", ("loss", True), EURO)
    assert unknown.steps[1].label == "its ad group", "where no report says what is advertised"
    assert drawn.low < x[3] < drawn.high
    assert luck.LEFT <= min(x) <= max(x) <= luck.WIDTH
    high = luck.of_row(ROW | {"needed_cvr": 3.0}, (1.0, 59.0), "", ("", False), EURO)
    assert high.needed_x is None, "off the scale, told in words"


def test_a_word_is_drawn_against_what_was_due_without_it():
    row = {"shape": 12.0, "rate": 24.0, "factor": 0.5, "limit": 0.9}
    drawn = luck.of_word(row, "3 orders came", ("loss", True), EURO)
    assert [plain(step.value) for step in drawn.steps] == ["100 %", "50 %"]
    assert plain(drawn.needed) == "needs 90 %"


def test_the_words_that_change_a_verdict_are_named_with_their_figures():
    """
    Both verdicts differ: the words, what they brought and were due, and how many clicks are enough
    with and without.
    """
    row = {
        "clicks": 14,
        "p_over": 0.95,
        "p_free": 0.6,
        "prior_a": 2.0,
        "prior_b": 40.0,
        "free_a": 5.0,
        "free_b": 80.0,
        "needed_cvr": 0.06,
    }
    word = {"word": "aquarium", "factor": 0.31, "clicks": 257, "came": 2, "due": 16.2}
    said = plain(drawer.decided_by_words(row, [word], EURO))
    assert said.startswith(
        "“aquarium” converts 69 % below comparable searches of this account (257 clicks, 2 orders, 16 expected): "
    )
    with_words, without = (drawer.clicks_enough(row[f"{kind}_a"], row[f"{kind}_b"], 0.06) for kind in ("prior", "free"))
    assert said.endswith(f"{with_words} clicks without an order settle it, without its words {without}.")
    assert drawer.decided_by_words(row | {"p_free": 0.92}, [word], EURO) == ""
    assert drawer.decided_by_words(row, [], EURO) == ""
    alone = plain(drawer.decided_by_words(row | {"prior_a": 0.2, "prior_b": 90.0}, [word], EURO))
    assert "its words alone decide it" in alone
    dear = row | {"prior_a": 0.2, "prior_b": 90.0, "free_a": 0.3, "free_b": 90.0}
    assert plain(drawer.decided_by_words(dear, [word], EURO)).endswith("16 expected)."), "no click is needed either way"
    other = plain(drawer.decided_by_words(row | {"free_a": 0.2, "free_b": 90.0}, [word], EURO))
    assert other.endswith(f"{with_words} clicks without an order settle it, without its words no click is needed.")


def test_what_else_a_negative_hits_is_that_of_all_its_ad_groups():
    products = pl.DataFrame({"sku": ["A"], "orders": [3], "sales": [9_000_000]})
    assert drawer.products_hit(products, EURO)[0].note == "3 orders from this ad group"
    assert drawer.products_hit(products, EURO, 24)[0].note == "3 orders from these ad groups"


def test_charts_carry_theme_colours_and_the_changes_of_the_bid():
    days = [date(2026, 10, n) for n in range(1, 11)]
    bids = [0.82] * 5 + [1.05] * 5
    option = charts.money_and_bid(
        days, [1.0] * 10, bids, figures=EURO, first_shown=days[4], changes=charts.bid_changes(days, bids, EURO)
    )
    marks = option["series"][0]["markLine"]["data"]
    assert [(mark["xAxis"], mark["label"]["formatter"]) for mark in marks] == [("2026-10-06", "bid 0.82 → 1.05")]
    assert len(charts.money_and_bid(days, [1.0] * 10, [None] * 10, figures=EURO, first_shown=days[0])["series"]) == 1


def test_a_row_is_marked_with_changes_of_its_own_its_ad_group_and_its_campaign():
    """A change of the bid on record, on a day on which settings show it too, counts once."""
    row = {"target_id": 7, "ad_group_id": 3, "campaign_id": 2}
    blank = {"target_id": 0, "ad_group_id": 0, "campaign_id": 0, "product_id": 0, "old": "1", "new": "2"}

    def change(day, field, **ids):
        return blank | {"day": date(2026, 10, day), "field": field} | ids

    changes = pl.DataFrame(
        [
            change(3, "bid", target_id=7, ad_group_id=3, campaign_id=2),
            change(4, "state", target_id=8, ad_group_id=3, campaign_id=2),
            change(5, "default_bid", ad_group_id=3, campaign_id=2),
            change(6, "daily_budget", campaign_id=2),
            change(7, "daily_budget", campaign_id=9),
            change(8, "state", ad_group_id=3, campaign_id=2, product_id=1),
        ]
    )
    marked = changes_of_row(row, [charts.Marked(date(2026, 10, 3), "bid 1 → 2")], changes)
    assert [(each.day.day, each.words) for each in marked] == [
        (3, "bid 1 → 2"),
        (5, "ad group’s default bid 1 → 2"),
        (6, "campaign’s daily budget 1 → 2"),
    ]
