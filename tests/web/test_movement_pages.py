"""Movement by Flask's client: the drift chart and list, the ledger, the split, trends."""

import csv
import re
from datetime import date

import polars as pl
import pytest
from tests.pages import row_ids, text_of
from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis.movement import sides
from nimbus_reef.core.metrics import METRICS
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit import movers
from nimbus_reef.web.movement import courses, ledger, trends
from nimbus_reef.web.params import of_account

SCOPE = "account=fernhollow-de&window=last-20"
FIRST, LAST = "2026-10-29", "2026-11-17"


def plain(response):
    return text_of(response).replace("\xa0", " ")


def table(response):
    return list(csv.DictReader(response.get_data(as_text=True).splitlines()))


@pytest.mark.parametrize("by", ["product", "family", "campaign", "portfolio", "format", "keyword"])
def test_every_view_for_every_grouping(owner, by):
    for view in ("drift", "ledger", "why"):
        response = owner.get(f"/movement/{view}?{SCOPE}&by={by}")
        assert response.status_code == 200
        assert row_ids(response)


def test_the_largest_are_drawn_and_all_on_demand(owner):
    some = owner.get(f"/movement/drift?{SCOPE}").get_data(as_text=True)
    every = owner.get(f"/movement/drift?{SCOPE}&show=all").get_data(as_text=True)
    assert some.count('class="shaft"') == movers.LARGEST
    assert every.count('class="shaft"') > 20
    assert "target 28 %" in some
    assert "break-even" in some


@pytest.mark.parametrize("metric", ["spend", "orders", "acos", "ctr", "cvr", "cpc", "aov", "roas"])
def test_the_ledger_sums_to_the_change_whatever_is_gathered(owner, metric):
    whole = table(owner.get(f"/movement/ledger/export.csv?{SCOPE}&metric={metric}"))
    some = table(owner.get(f"/movement/ledger/export.csv?{SCOPE}&metric={metric}&least=200"))
    assert len(some) < len(whole)
    ends = [float(rows[-1]["running"]) for rows in (whole, some)]
    assert ends[0] == pytest.approx(ends[1], abs=1e-9)
    assert sum(float(row["part"]) for row in whole) == pytest.approx(ends[0], abs=1e-9)


def test_campaigns_and_products_tell_the_same_change_of_acos(owner):
    """Whatever it is split over, the account's ACOS moved by the same."""
    ends = [
        float(table(owner.get(f"/movement/ledger/export.csv?{SCOPE}&metric=acos&by={by}"))[-1]["running"])
        for by in ("product", "campaign", "format", "keyword")
    ]
    assert ends == pytest.approx([ends[0]] * 4, abs=1e-9)


def test_the_split_is_one_sentence_whose_parts_add_up(owner):
    page = plain(owner.get(f"/movement/why?{SCOPE}"))
    before, after = (float(each) for each in re.search(r"([\d.]+) % → ([\d.]+) %", page).groups())
    steps = re.search(r"then .*? now", page)[0]
    parts = [float(each.replace("−", "-")) for each in re.findall(r"([+−][\d.]+) pt", steps)]
    assert sum(parts) == pytest.approx(after - before, abs=0.35)
    assert "did most" in page


def test_the_why_leaves_as_a_file_whose_parts_sum_to_its_pulls(owner):
    rows = table(owner.get(f"/movement/why/export.csv?{SCOPE}&by=campaign"))
    parts = [name for name in rows[0] if name.endswith("_points") and name != "pull_points"]
    summed = [sum(float(row[name] or 0) for row in rows) for name in (*parts, "pull_points")]
    assert sum(summed[:-1]) == pytest.approx(summed[-1], abs=1e-6)
    assert abs(float(rows[0]["pull_points"])) >= abs(float(rows[-1]["pull_points"]))


def test_a_trend_leaves_as_a_file_by_day_with_the_keyword_s_bid(owner):
    keyword = row_ids(owner.get("/targeting/targets?account=fernhollow-de&sort=-spend"))[0]
    whole = table(owner.get(f"/movement/trends/export.csv?{SCOPE}"))
    one = table(owner.get(f"/movement/trends/export.csv?{SCOPE}&whose=keyword:{keyword}"))
    assert "bid" in one[0]
    assert "bid" not in whole[0]
    day = next(row for row in whole if float(row["sales"]))
    assert float(day["acos"]) == pytest.approx(float(day["spend"]) / float(day["sales"]))


@pytest.mark.parametrize("metric", ["spend", "acos"])
def test_shares_of_all_movement_make_a_whole_for_sums_and_ratios(owner, metric):
    rows = table(owner.get(f"/movement/ledger/export.csv?{SCOPE}&metric={metric}"))
    assert sum(float(row["share_of_gross"]) for row in rows) == pytest.approx(1)
    net = [float(row["share_of_net"]) for row in rows if row["share_of_net"]]
    assert not net or sum(net) == pytest.approx(1)
    assert "of all movement" in plain(owner.get(f"/movement/ledger?{SCOPE}&metric={metric}"))


def test_a_trend_of_one_thing_says_why_its_acos_moved(owner):
    product = {"account": "fernhollow-de", "window": "last-20", "whose": "product:GL-STRIP-90CM"}
    page = plain(owner.get("/movement/trends", query_string=product))
    drawer = plain(owner.get(f"/standing/products?{SCOPE}&open=GL-STRIP-90CM"))
    sentence = re.search(r"ACOS [\d.]+ % → [\d.]+ %: [^.]+\.\d[^.]*", page[page.index("Why its ACOS moved") :])[0]
    assert sentence[:40] in drawer, "the drawer and the trend tell the same"
    assert "Why its ACOS moved" not in plain(owner.get(f"/movement/trends?{SCOPE}"))
    early = plain(owner.get("/movement/trends", query_string={**product, "against": "2026-01-01..2026-01-20"}))
    assert "is before the days shown" in early


def test_a_view_that_has_no_file_and_a_file_without_a_comparison_say_so(owner):
    assert owner.get("/movement/nothing/export.csv?account=fernhollow-de").status_code == 404
    for name in ("drift", "ledger", "why"):
        refused = owner.get(f"/movement/{name}/export.csv?account=fernhollow-de&against=none")
        assert refused.status_code == 400
        assert "a comparison period" in plain(refused)


def test_nothing_to_compare_says_so(owner):
    page = plain(owner.get("/movement/drift?account=fernhollow-de&against=none"))
    assert "No comparison period" in page
    assert owner.get("/movement/trends?account=fernhollow-de&against=none").status_code == 200


def test_trends_of_anything_one_alone_and_smoothed(owner):
    page = owner.get(f"/movement/trends?{SCOPE}&metric=spend,acos")
    assert page.get_data(as_text=True).count("&#34;name&#34;: &#34;") == 0
    text = plain(page)
    assert "spend" in text
    assert "alone" in text
    keyword = row_ids(owner.get("/targeting/targets?account=fernhollow-de&sort=-spend"))[0]
    for of in (
        "product:GL-STRIP-90CM",
        "campaign:GL-STRIP · grow · phrase",
        "group:GL-STRIP · grow · phrase · Strip lights",
        f"keyword:{keyword}",
    ):
        asked = {"account": "fernhollow-de", "whose": of}
        shown = owner.get("/movement/trends", query_string=asked | {"smooth": "7", "only": "cvr"})
        assert of.startswith("keyword") or of.partition(":")[2] in plain(shown)
        days = table(owner.get("/movement/trends/export.csv", query_string=asked))
        spent = sum(float(row["spend"]) for row in days if FIRST <= row["day"] <= LAST)
        kind, _, name = of.partition(":")
        if kind in ("product", "campaign"):
            # What the same thing cost in the same days by the ledger, which says it per 30 days.
            ledger = table(owner.get(f"/movement/ledger/export.csv?{SCOPE}&by={kind}&metric=spend"))
            wanted = next(row for row in ledger if row["name"] == name)
            assert spent * 30 / 20 == pytest.approx(float(wanted["value1"]), rel=1e-6), of
        else:
            assert spent > 0, of
    assert "Past bids that worked" in plain(
        owner.get(f"/movement/trends?account=fernhollow-de&whose=keyword:{keyword}")
    )
    assert owner.get("/movement/trends?whose=campaign:none").status_code == 404
    assert owner.get("/movement/trends?metric=mood").status_code == 400


def test_wrong_amounts_and_choices_are_refused(owner):
    assert owner.get(f"/movement/ledger?{SCOPE}&least=much").status_code == 400
    assert owner.get(f"/movement/ledger?{SCOPE}&metric=mood").status_code == 400
    assert owner.get("/movement/mood").status_code == 404


def test_the_drawer_says_why_a_target_moved_and_how_it_stands(owner):
    target = row_ids(owner.get(f"/targeting/targets?{SCOPE}&sort=-orders"))[0]
    page = plain(owner.get(f"/targeting/targets?{SCOPE}&open={target}"))
    assert "Why its ACOS moved" in page
    assert "Against peers of its category" in page


def test_pulse_names_the_weakest_metric_and_the_main_mover(owner):
    page = plain(owner.get("/pulse/mover?account=fernhollow-de&window=last-20"))
    assert re.search(r"[A-Z]{3,4}, ahead of \d+ %", page)
    assert "pt of ACOS" in page


def test_a_keyword_s_trend_is_held_against_its_own_target(owner, monkeypatch):
    """Not against that of the first target of its campaign."""
    judged, held_against = trends.judged, []
    monkeypatch.setattr(
        trends, "judged", lambda *of: judged(*of).with_columns(target_acos=pl.col("target_id") / 10_000)
    )
    monkeypatch.setattr(courses, "stretches", lambda days, target, figures: held_against.append(target) or [])
    of = {"account": "fernhollow-de", "campaign": "GL-STRIP · grow · phrase", "sort": "-spend"}
    keywords = row_ids(owner.get("/targeting/targets", query_string=of))[:3]
    for keyword in keywords:
        of = {"account": "fernhollow-de", "whose": f"keyword:{keyword}"}
        assert owner.get("/movement/trends", query_string=of).status_code == 200
    assert held_against == pytest.approx([int(keyword) / 10_000 for keyword in keywords])


def test_a_ledger_that_comes_to_nothing_says_so_and_who_pulled_each_way():
    """A change too small to be written is none; the same words as the split of ACOS has."""
    rows = pl.DataFrame(
        {
            "key": ["a", "b"],
            "name": ["A", "B"],
            "part": [0.02, -0.0201],
            "num0": [20.0, 20.0],
            "den0": [100.0, 100.0],
            "num1": [23.98, 16.0],
            "den1": [100.0, 100.0],
        }
    )
    said = ledger.ledger_words(rows, METRICS["acos"], Figures("en_IE", "EUR"))
    assert said.bold == "ACOS is 20.0 %, unchanged.".replace(" %", "\xa0%")
    assert said.rest == "A (+2.00 pt) pulled up, B (−2.01 pt) pulled down most."
    moved = rows.with_columns(num1=pl.Series([25.0, 18.0]), part=pl.Series([0.04, -0.01]))
    told = ledger.ledger_words(moved, METRICS["acos"], Figures("en_IE", "EUR"))
    assert told.bold.replace("\xa0", " ") == "ACOS rose, 20.0 % → 21.5 %."
    assert told.rest == "A (+4.00 pt) drove most of it. B (−1.00 pt) against it."


def test_a_product_s_trend_is_held_against_the_target_that_its_drift_is(demo):
    """Its own, else the account's; that of a campaign that shows it says nothing of the others."""
    account, facts, sku = accounts.by_key(demo.store, "fernhollow-de"), Facts(demo.store), "GL-STRIP-90CM"
    ads = product_frames.named_ads(facts, account.id, Window(date(2026, 10, 29), date(2026, 11, 17)))
    every = tuple((campaign, 0.1) for campaign in ads["campaign"].cast(pl.String).unique())
    for products, target in (((), 0.3), (((sku, 0.2),), 0.2)):
        scope = of_account(MultiDict({"window": "last-20"}), account, facts, Aims(0.3, every, (), products))
        assert trends.trend(facts, scope, f"product:{sku}", Figures("en", "EUR")).target_acos == target
        rows = sides(facts, scope.selection, "product")
        assert rows.filter(pl.col("key") == sku)["target_acos"].to_list() == [target]
