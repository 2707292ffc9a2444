"""The sentence a view of Standing begins with, and the words under a trend: figures that the rows bear out."""

from datetime import date
from types import SimpleNamespace

import polars as pl
import pytest

from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.charts import with_lone
from nimbus_reef.web.movement.trends import by_day
from nimbus_reef.web.standing import groups, heat, shape_pages, shopping

EURO = Figures("en_IE", "EUR")
METRICS = ("ctr", "cvr", "cpc", "aov")


def said(answer):
    return f"{answer.bold} {answer.rest}".replace("\xa0", " ").strip()


def products(*rows):
    """sku, spend and per metric where it stands, against peers unless own."""
    made = []
    for sku, spend, at, own in rows:
        row = {"sku": sku, "spend": spend}
        for metric in METRICS:
            row |= {metric: 0.04, f"{metric}_at": at.get(metric), f"{metric}_own": own}
        made.append(row)
    return pl.DataFrame(made, schema_overrides={f"{metric}_at": pl.Float64 for metric in METRICS})


def test_products_are_weak_in_what_most_is_spent_on():
    rows = products(
        ("A", 60.0, {"cvr": 4.0, "ctr": 20.0}, False),
        ("B", 30.0, {"cvr": 24.0}, False),
        ("C", 10.0, {"ctr": 90.0}, False),
    )
    assert (
        said(heat.product_answer(rows, EURO))
        == "CVR is weak on 90 % of spend. 2 products in the bottom quarter. The largest, A: 4.0 %, behind 95 % of"
        " peers."
    )


def test_a_product_among_the_account_s_own_only_is_no_weak_one():
    rows = products(("A", 60.0, {"cvr": 4.0}, True), ("B", 30.0, {"cvr": 25.0}, False))
    assert said(heat.product_answer(rows, EURO)) == "No product is in the bottom quarter of its peers."


def place(metric, percentile):
    return SimpleNamespace(standing=SimpleNamespace(metric=metric, percentile=percentile))


def mix(ad_format, ours, theirs):
    return {"format": ad_format, "spend_share": ours, "peer_spend_share": theirs}


def test_formats_name_the_share_furthest_from_the_peers_and_the_weakest():
    shares = [mix("product", 0.83, 0.72), mix("brand", 0.17, 0.18), mix("display", 0.0, 0.25)]
    found = [
        ("product", 83.0, [place("cpc", 24.0), place("acos", 37.0)]),
        ("brand", 17.0, [place("acos", 96.0), place("cvr", None)]),
    ]
    assert (
        said(groups.format_answer(shares, found, EURO))
        == "Display ads take 0 % of spend, 25 % at peers. Weakest: CPC of product ads, ahead of 24 % of peers."
    )
    bare = groups.format_answer([mix("product", 1.0, None)], [("product", 1.0, [place("cvr", None)])], EURO)
    assert said(bare).startswith("No format mix of peers loaded. No format has enough")
    found = [("none given", 10.0, [place("acos", 30.0)])]
    untold = said(groups.format_answer([mix("product", None, 0.7), mix("brand", None, 0.3)], found, EURO))
    assert untold.startswith("Ad formats unknown. Load the campaigns report. Weakest")
    assert "ACOS of ads of unknown format" in untold


@pytest.mark.parametrize(
    ("idle", "groups_idle", "words"),
    [
        (0, 0, "Every eligible product is advertised, 25 in all. Every ad group has a live target."),
        (1, 2, "1 eligible product is not advertised. 2 ad groups have no live target, so nothing can run there."),
        (3, 1, "3 eligible products are not advertised. 1 ad group has no live target, so nothing can run there."),
    ],
)
def test_the_shape_tells_what_lies_idle(idle, groups_idle, words):
    counts = {
        "Products": {"advertised": 25, "eligible, not advertised": idle},
        "Ad groups": {"with a live target": 80, "without one": groups_idle},
    }
    assert said(shape_pages.shape_answer(counts, EURO)) == words


def queries(*rows):
    names = ("query", "search_volume", "thin", "fall", "lost_at", "missing")
    return pl.DataFrame([dict(zip(names, row, strict=True)) for row in rows])


def test_queries_name_the_stage_most_shares_are_lost_at_and_words_no_title_has():
    rows = queries(
        ("grow lamp", 900.0, False, 0.81, "clicks", ""),
        ("plant lamp", 800.0, False, 0.5, "clicks", "plant"),
        ("seed tray", 950.0, False, 0.2, "purchases", ""),
        ("pot", 2_000.0, True, 0.0, "clicks", "pot"),
        ("led", 990.0, False, 1.2, "clicks", ""),
    )
    assert (
        said(shopping.query_answer(rows, EURO))
        == "Most shares are lost between impression and click: in 2 of 3 queries with enough data. Of “grow lamp” 0.81"
        " of the share is left there. 2 of 5 queries contain words missing from all your titles. The most searched:"
        " “pot” (pot)."
    )
    thin = shopping.query_answer(rows.filter("thin"), EURO)
    assert thin.bold == "No query has surely lost share."


def test_changes_of_a_day_are_one_mark_and_at_length_what_was_done():
    first, second = date(2026, 10, 1), date(2026, 10, 3)
    rows = [
        (first, "bid", "0.50", "0.60"),
        (first, "bid", "0.50", "0.70"),
        (first, "bid", "0.50", "0.40"),
        (first, "state", "enabled", "paused"),
        (second, "daily_budget", "20", "15"),
    ]
    marks = by_day(pl.DataFrame(rows, schema=["day", "field", "old", "new"], orient="row"))
    assert [(each.day, each.words, each.at_length) for each in marks] == [
        (first, "4 changes", "bid raised twice, bid lowered once, state changed once"),
        (second, "1 change", "daily budget lowered once"),
    ]


def test_a_day_between_two_gaps_is_drawn_as_a_point():
    drawn = with_lone([None, 3.0, None, 4.0, 5.0, None, 6.0])
    points = [n for n, each in enumerate(drawn) if isinstance(each, dict)]
    assert points == [1, 6]
    assert drawn[3:5] == [4.0, 5.0]


def test_a_product_without_peers_is_not_called_thin():
    """A table and the drawer beside it say the same: it has clicks enough, and nobody to be held against."""
    of = {"sku": "A", "title": "Lamp", "spend": 9.0, "overall_at": None}
    measured = {
        f"{metric}{end}": None
        for metric in (*METRICS, "acos")
        for end in ("", "_at", "_seen", "_own", "_typical", "_change")
    }
    row = {**of, **measured, "cvr": 0.07, "cpc": 0.5, "cpc_seen": 40.0}
    (line,) = heat.product_lines(pl.DataFrame([row], schema_overrides=dict.fromkeys(measured, pl.Float64)), EURO)
    told = {cell.metric: cell.title for cell in line.cells}
    assert (told["cvr"], told["cpc"], told["acos"]) == ("CVR no peer figures", "CPC not enough data", "no data")
