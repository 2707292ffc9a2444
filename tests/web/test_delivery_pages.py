"""Delivery: placements, hours, budgets and boosts from the demo's own truth, and what they put into the plan."""

import io
import json
import re
from urllib.parse import quote

import polars as pl
import pytest
from tests.pages import accept, found, row_ids, text_of, texts, values
from tests.selections import calm_campaign, campaigns_of, has_above

from nimbus_reef.analysis.delivery import placements
from nimbus_reef.core.changes import Entity
from nimbus_reef.store.people import plans
from nimbus_reef.web.delivery.routes import VIEWS

DELIVERY = "/delivery"


@pytest.fixture(scope="module")
def truth(demo):
    """What is true of each brand."""
    return {
        key: json.loads((demo.config.var / "demo" / key / "truth.json").read_text())
        for key in ("fernhollow-de", "pellwick-gb")
    }


def planned(demo):
    return [each.change for each in plans.planned(demo.store, 1)]


def csv_of(owner, name, query=""):
    return pl.read_csv(io.StringIO(owner.get(f"{DELIVERY}/{name}/export.csv{query}").get_data(as_text=True)))


@pytest.mark.parametrize("name", VIEWS)
def test_every_view_begins_with_its_answer(owner, name):
    page = owner.get(f"{DELIVERY}/{name}")
    assert page.status_code == 200
    assert len(texts(page, ".answer b")[0]) > 20


@pytest.mark.parametrize("name", ["placements", "hours", "budgets"])
@pytest.mark.parametrize("ending", ["csv", "xlsx", "parquet"])
def test_every_table_leaves_as_a_file(owner, name, ending):
    assert owner.get(f"{DELIVERY}/{name}/export.{ending}").status_code == 200


def test_off_site_is_to_be_limited_where_it_rarely_buys_and_left_where_it_pays(owner, demo, truth):
    said = text_of(owner.get(f"{DELIVERY}/placements?account=fernhollow-de"))
    there = re.search(r"above target in \d+ campaigns, [^:]*: (€ [\d,]+) a month", said)
    findings = text_of(owner.get("/findings/?account=fernhollow-de"))
    assert f"without return {there[1]} wasted" in findings, "both pages say the same of it"
    other = text_of(owner.get(f"{DELIVERY}/placements?account=pellwick-gb"))
    assert "Overall it is within target" in other or "Too early to tell" in other
    accept(owner, f"{DELIVERY}/placements/accept-many", {"account": "fernhollow-de"})
    changes = planned(demo)
    assert {(each.field, each.old_value, each.new_value) for each in changes} == {("offsite_limited", "no", "yes")}
    bad = {
        row["campaign"] for row in truth["fernhollow-de"]["placements"] if row["placement"] == "off_site" and row["bad"]
    }
    assert {each.campaign for each in changes} <= bad


@pytest.mark.parametrize("by", ["account", "campaign", "portfolio", "product"])
def test_shares_of_every_grouping_add_up_to_the_same_money(owner, by):
    rows = csv_of(owner, "placements", f"?by={by}")
    whole = csv_of(owner, "placements", "?by=account")
    assert rows["spend"].sum() == pytest.approx(whole["spend"].sum())
    sums = rows.group_by("whose").agg(pl.col("share_spend").sum())["share_spend"].drop_nulls()
    assert sums.round(9).is_in([1.0, 0.0]).all()


def test_a_campaign_s_solution_puts_bids_and_raises_into_the_plan(owner, demo):
    asked = found(owner.get(f"{DELIVERY}/placements"), ".solving")
    page = owner.get(asked["hx-get"]) if "hx-get" in asked.attrs else owner.get(f"{DELIVERY}/placements")
    campaign = found(page, "form[action*=solve] [name=row]")["value"]
    shown = text_of(page)
    assert "sets the base" in shown
    accept(owner, f"{DELIVERY}/placements/solve", {"row": campaign})
    changes = planned(demo)
    assert {each.campaign for each in changes} == {campaign}
    assert {each.entity for each in changes} <= {Entity.TARGET, Entity.PLACEMENT}
    assert any(each.entity is Entity.TARGET for each in changes)
    again = owner.get(f"{DELIVERY}/placements", query_string={"whose": campaign})
    assert f"and {len(changes) - 3} more" in text_of(again)
    own = values(again, "[name=change]", "value")
    assert len(own) == len(changes)
    # One row taken out by hand takes the others with it: bids and adjustments belong together.
    owner.post(f"{DELIVERY}/placements/take-back", data={"row": campaign, "change": own[:1]})
    assert planned(demo) == []
    anew = owner.get(f"{DELIVERY}/placements", query_string={"whose": campaign})
    assert f"Accept {len(changes)} changes a" in text_of(anew)


def test_campaigns_not_judged_yet_are_told_after_the_page(owner, monkeypatch):
    """
    The account's own placements at once; then the campaigns, and the limits in the answer, as the page tells them once
    it knows.
    """
    address = f"{DELIVERY}/placements?window=2026-09-04..2026-10-11&by=portfolio"
    monkeypatch.setattr(placements, "AT_ONCE", 0)
    first = owner.get(address)
    assert "Off-site takes" in text_of(first)
    assert "Campaigns by wasted spend on placements" not in text_of(first)
    later = owner.get(found(first, "[hx-get*='placements/campaigns']")["hx-get"])
    assert found(later, "#off-site")["hx-swap-oob"] == "true"
    known = owner.get(address)
    assert not values(known, "[hx-get*='placements/campaigns']", "hx-get")
    for part in (".answer", "table.plain"):
        assert texts(later, part) == texts(known, part)
    assert values(later, "table.plain a", "href") == values(known, "table.plain a", "href")


def test_a_placement_opens_with_what_it_needs_and_is_accepted_from_its_drawer(owner, demo):
    rows = row_ids(owner.get(f"{DELIVERY}/placements?by=campaign"))
    off = next(
        key
        for key in rows
        if key.endswith("off_site")
        and "limit off-site" in text_of(owner.get(f"{DELIVERY}/placements/evidence?open={key}"))
    )
    assert "it needs" in text_of(owner.get(f"{DELIVERY}/placements/evidence?open={off}"))
    owner.post(f"{DELIVERY}/placements/accept", data={"row": off})
    assert [each.field for each in planned(demo)] == ["offsite_limited"]


@pytest.mark.parametrize("metric", ["spend", "sales", "organic", "acos", "tacos", "rpc"])
def test_the_grid_shows_any_metric_by_weekday_and_hour(owner, metric):
    page = owner.get(f"{DELIVERY}/hours?metric={metric}")
    assert page.status_code == 200
    assert len(texts(page, ".grid-of-hours g")) == 7 * 24


def test_hours_add_up_to_what_the_window_spent(owner):
    """Means per occurrence, times how often each weekday came, are the account's own sums."""
    rows = csv_of(owner, "hours", "?window=2026-10-20..2026-11-16")
    assert len(rows) == 7 * 24
    spent = 4 * rows["spend"].sum()
    whole = csv_of(owner, "placements", "?by=account&window=2026-10-20..2026-11-16")["spend"].sum()
    assert spent == pytest.approx(whole, rel=1e-6)


def test_segments_can_be_drawn_and_the_hours_left_over_are_segments_too(owner):
    page = owner.get(f"{DELIVERY}/hours?segments=6-15,19-24,12-16")
    where = texts(page, "table.segments tbody .where")
    assert where == ["0–6 h", "6–12 h", "12–16 h", "16–19 h", "19–24 h"]
    assert "Your segments" in text_of(page)
    for wrong in ("x", "5", "25-3", "3-25"):
        assert owner.get(f"{DELIVERY}/hours?segments={wrong}").status_code == 400


def test_budgets_that_run_dry_are_those_that_truly_do(owner, truth):
    rows = csv_of(owner, "budgets")
    often = rows.filter(pl.col("dry_days") >= 5)["campaign"].to_list()
    assert set(often) == set(truth["fernhollow-de"]["tight"])
    assert all(name in text_of(owner.get(f"{DELIVERY}/hours")) for name in often)
    told = {row["campaign"]: row["sales"] for row in truth["fernhollow-de"]["missed"]}
    true, guess = sum(told.values()), rows["missed_high"].sum()
    assert 0.4 < guess / true < 1.6


def test_minutes_that_a_marketplace_does_not_tell_are_found_all_the_same(owner, truth):
    rows = csv_of(owner, "budgets", "?account=pellwick-gb")
    often = rows.filter(pl.col("dry_days") >= 5)["campaign"].to_list()
    assert often
    assert set(often) <= set(truth["pellwick-gb"]["tight"])


def test_a_move_of_budgets_keeps_the_total_or_comes_to_a_named_one(owner, demo):
    rows = csv_of(owner, "budgets").drop_nulls("proposed_budget")
    assert rows["proposed_budget"].sum() == pytest.approx(rows["daily_budget"].sum())
    shown = text_of(owner.get(f"{DELIVERY}/budgets"))
    assert "the total stays" in shown
    accept(owner, f"{DELIVERY}/budgets/move", {})
    changes = planned(demo)
    assert {each.field for each in changes} == {"daily_budget"}
    assert sum(round(100 * (float(e.new_value) - float(e.old_value))) for e in changes) == 0
    assert "In the plan" in text_of(owner.get(f"{DELIVERY}/budgets"))
    assert owner.get(f"{DELIVERY}/budgets?total=x").status_code == 400
    least = text_of(owner.get(f"{DELIVERY}/budgets?total=1"))
    assert "1.00 a day is not possible: below" in least
    assert "Take €" in least
    assert "to 0 campaigns" not in least
    assert "a day of that total is not needed" in text_of(owner.get(f"{DELIVERY}/budgets?total=99999"))


def boosted(campaign, more=""):
    return f"{DELIVERY}/boosts?whose={quote(campaign)}{more}"


@pytest.fixture
def whose(demo):
    """A campaign in which nothing is above target."""
    return calm_campaign(demo, "fernhollow-de")


def test_the_highest_bid_is_drawn_before_a_boost_is_planned(owner, demo, whose):
    plain = texts(owner.get(boosted(whose)), ".answer b")[0]
    tried = boosted(whose, "&percent=40&from_hour=18&to_hour=22&days=6+7")
    page = owner.get(tried)
    assert texts(page, ".answer b")[0] != plain
    assert values(page, "form[action*='boosts/plan'] [name=whose]", "value")
    assert planned(demo) == []
    owner.post(
        f"{DELIVERY}/boosts/plan",
        data={"whose": whose, "what": "bid", "percent": "40", "from_hour": "18", "to_hour": "22", "days": "6 7"},
    )
    (change,) = planned(demo)
    assert (change.entity, change.new_value, change.days) == (Entity.BID_BOOST, "40", "6 7")
    assert (change.from_hour, change.to_hour) == ("18", "22")
    assert "can then cost up to" in change.reason
    assert "In the plan" in text_of(owner.get(tried))


def test_a_boost_that_makes_something_above_target_dearer_is_refused_where_it_is_tried(owner, demo):
    dear = next(name for name, bids in sorted(campaigns_of(demo, "fernhollow-de").items()) if has_above(bids))
    page = owner.get(boosted(dear, "&percent=40"))
    assert "today" in texts(page, ".moving [role=alert]")[0]
    assert not values(page, "form[action*='boosts/plan'] [name=whose]", "value")
    refused = owner.post(f"{DELIVERY}/boosts/plan", data={"whose": dear, "what": "bid", "percent": "40"})
    assert refused.status_code == 409
    assert planned(demo) == []


def test_what_a_marketplace_cannot_do_is_refused_and_the_lower_base_offered(owner, whose):
    page = owner.get(boosted(whose, "&percent=-20&from_hour=0&to_hour=6"))
    assert "can only raise" in text_of(page)
    assert "Lower the base bid to" in text_of(page)
    assert not values(page, "form[action*='boosts/plan'] [name=whose]", "value")
    refused = owner.post(f"{DELIVERY}/boosts/plan", data={"whose": whose, "percent": "-20"})
    assert refused.status_code == 400


def test_a_boost_can_follow_a_sale_event_or_hold_while_a_metric_does(owner, demo, whose):
    page = owner.get(boosted(whose))
    event = next(each for each in values(page, "[name=event] option", "value") if each)
    first, _, last = event.partition("..")
    owner.post(
        f"{DELIVERY}/boosts/plan",
        data={"whose": whose, "what": "budget", "percent": "50", "event": event, "condition": "ROAS >= 4"},
    )
    (change,) = planned(demo)
    assert change.entity is Entity.BUDGET_BOOST
    assert change.days == f"{first}..{last}; while ROAS >= 4"
    wrong = owner.get(boosted(whose, "&percent=20&condition=when+it+rains"))
    assert wrong.status_code == 400


def test_placements_and_hours_are_things_to_draw_a_trend_of(owner):
    assert "off-site" in text_of(owner.get("/movement/trends?whose=placement:off+site"))
    assert "18–22 h" in text_of(owner.get("/movement/trends?whose=hours:18-22"))
    assert owner.get("/movement/trends?whose=placement:the+moon").status_code == 404
    assert owner.get("/movement/trends?whose=hours:22-18").status_code == 404


def test_a_part_is_looked_at_by_its_own_campaigns_and_has_no_organic_sales(owner):
    page = owner.get(f"{DELIVERY}/hours?portfolio=Moisture+meters")
    assert "need sales by hour of the whole account" in text_of(page)
    rows = csv_of(owner, "budgets", "?portfolio=Moisture+meters")
    assert rows["campaign"].str.starts_with("MM-").all()
    assert len(csv_of(owner, "placements", "?by=campaign&product=MM-STICK-SINGLE")) > 0


def test_what_is_not_there_is_said_with_a_way_out(owner):
    for path in (
        "/delivery/nothing",
        "/delivery/boosts?whose=none",
        "/delivery/placements?whose=none",
        "/delivery/placements/evidence?open=1:none",
        "/delivery/boosts/export.csv",
    ):
        assert owner.get(path).status_code == 404


def test_a_viewer_reads_and_does_not_change(viewer):
    assert viewer.get(f"{DELIVERY}/budgets").status_code == 200
    for path in ("placements/accept-many", "budgets/move"):
        assert viewer.post(f"{DELIVERY}/{path}").status_code == 403


def test_findings_carry_both_areas_with_their_headlines(owner):
    shown = text_of(owner.get("/findings/"))
    for title in (
        "Product ads wasting spend in their ad group",
        "Campaigns out of budget during selling hours",
        "Ineligible products",
        "Off-site spend without return",
        "Duplicate keywords",
    ):
        assert title in shown
    assert "Missed sales:" in shown
    report = text_of(owner.get("/findings/report"))
    assert "Spend on the wrong variation" in report


def test_a_finding_s_rows_are_accepted_where_they_belong(owner, demo):
    page = owner.get("/findings/?all=off-site")
    form = found(page, "#bulk-off-site")
    keys = values(page, "[form=bulk-off-site][name=findings]", "value")
    accept(owner, form["action"], {"findings": keys, "back": "/findings/"})
    assert len(planned(demo)) == len(keys) > 0


def test_a_keyword_under_something_unsettled_says_so_and_leads_there(owner, demo):
    """A costly product ad in its ad group; once its pause is planned it is settled."""
    rows = pl.read_csv(io.StringIO(owner.get("/catalog/ads/export.csv").get_data(as_text=True)))
    targets = pl.read_csv(io.StringIO(owner.get("/targeting/targets/export.csv").get_data(as_text=True)))
    bad = rows.filter("to_pause").select("campaign", "ad_group").unique()
    under = targets.join(bad, on=["campaign", "ad_group"], how="semi").filter(pl.col("verdict") == "above target")
    for row in under.head(12).to_dicts():
        where = {"campaign": row["campaign"], "q": f'"{row["target"]}"'}
        for key in row_ids(owner.get("/targeting/targets", query_string=where)):
            page = owner.get(f"/targeting/targets/evidence?open={key}")
            if "Decide the product ad first" in text_of(page):
                break
        else:
            continue
        break
    else:
        pytest.fail("no costly target stands beside an ad to pause")
    assert "affects its other products too" in text_of(page)
    wasted = [each["href"].rpartition("open=")[2] for each in page_links(page, "/catalog/ads")]
    accept(owner, "/catalog/ads/accept-many", {"rows": wasted})
    assert "Decide the product ad first" not in text_of(owner.get(f"/targeting/targets/evidence?open={key}"))


def page_links(page, begins):
    from tests.pages import parsed

    return [each for each in parsed(page).select("a[href]") if str(each["href"]).startswith(begins)]


def test_the_audit_line_fills_with_what_was_gone_through(app, demo):
    from tests.web.conftest import signed_in

    client = signed_in(app, "demo@nimbus-reef.example", demo.password)
    client.get("/catalog/families?account=fernhollow-de")
    page = client.get("/delivery/hours?account=fernhollow-de")
    gone = texts(page, ".rail li.gone")
    assert [each.split(",")[0].strip() for each in gone] == ["Catalog"]
    other = client.get("/delivery/hours?account=pellwick-gb")
    assert texts(other, ".rail li.gone") == []
