"""
From proposals to the plan: shown first, whole or not at all, and nothing above target dearer, whoever accepts what and
when.
"""

import re
from dataclasses import replace
from urllib.parse import parse_qs, urlsplit

import polars as pl
import pytest
from tests.conftest import LAST_DAY
from tests.pages import found, parsed, row_ids, sent_by, text_of, texts, values, words
from tests.planned import PROMISE
from tests.selections import account_of, look_of

from nimbus_reef.analysis import order
from nimbus_reef.analysis.delivery import placements, plan_prices
from nimbus_reef.analysis.destinations import places
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.judged_proposals import judged
from nimbus_reef.analysis.lost_pages import lost
from nimbus_reef.analysis.order import Unsettled
from nimbus_reef.analysis.proposals import proposals
from nimbus_reef.core import click_prices
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import Verdict
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import plans
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web import acting
from nimbus_reef.web.kit import settled_first
from nimbus_reef.web.params import Scope

BRANDS = ("fernhollow-de", "pellwick-gb")


def planned(demo, key):
    return [each.change for each in plans.planned(demo.store, account_of(demo, key).id)]


def accept(owner, address, data):
    """What a person does: looks at what it would do, ticks what is asked about, and does it."""
    told = owner.post(address, data=data)
    if told.status_code == 302:
        return told
    assert told.status_code == 200, text_of(told)[:400]
    if not found_or_none(told, "button[name=sure]"):
        return told
    done = owner.post(
        address, data=sent_by(told) | {"sure": "yes", "asked": "yes", "take": values(told, "[name=take]", "value")}
    )
    assert done.status_code == 302, text_of(done)[:400]
    return told


def found_or_none(page, css):
    try:
        return found(page, css)
    except AssertionError:
        return None


def assert_nothing_above_target_is_dearer(demo, key):
    selection, changes = look_of(demo, key), planned(demo, key)
    campaigns = plan_prices.campaigns_of(Facts(demo.store), selection, {each.campaign for each in changes})
    for name, now in campaigns.items():
        assert click_prices.rises(now, click_prices.after(now, changes)) == [], name
    for package in {each.package for each in changes} - {0}:
        assert sum(each.package == package for each in changes) > 1


@pytest.mark.parametrize("first", ["targets", "placements"])
def test_bids_and_placements_accepted_in_either_order_raise_no_price_above_target(owner, demo, first):
    """
    Pellwick, all targets above target accepted, then the worst campaigns' base bid and adjustments; and the other way
    round.
    """
    key = "pellwick-gb"
    worst = placements.worst(Facts(demo.store), look_of(demo, key))["campaign"].to_list()[:4]

    def targets():
        accept(owner, "/targeting/targets/accept-many", {"account": key, "where": "verdict:is:costly", "all": "yes"})

    def places():
        for campaign in worst:
            accept(owner, "/delivery/placements/solve", {"account": key, "row": campaign})

    for step in (targets, places) if first == "targets" else (places, targets):
        step()
        if first == "targets" and step is targets:
            told = owner.post("/delivery/placements/solve", data={"account": key, "row": worst[0]})
            assert re.search(
                r"Their expected effect: −£ [\d,]+", text_of(told).replace("\xa0", " ").replace("\u2060", "")
            )
    changes = planned(demo, key)
    assert any(each.entity is Entity.PLACEMENT for each in changes)
    assert any(each.entity is Entity.TARGET and not each.package for each in changes)
    assert_nothing_above_target_is_dearer(demo, key)
    solved = [each for each in changes if each.entity is Entity.PLACEMENT]
    for each in solved:
        beside = [one for one in changes if one.package == each.package]
        assert any(one.entity is Entity.TARGET for one in beside), "adjustments stand with the bids that belong to them"


def test_a_solution_says_which_bids_of_the_plan_it_replaces(owner, demo):
    key = "pellwick-gb"
    selection = look_of(demo, key)
    campaign = placements.worst(Facts(demo.store), selection)["campaign"][0]
    accept(owner, "/delivery/placements/solve", {"account": key, "row": campaign})
    bids = [each for each in planned(demo, key) if each.entity is Entity.TARGET]
    assert bids
    owner.post("/plan/undo", data={"account": key})
    own = replace(bids[0], row=0, package=0, new_value="0.07", finding="own")
    plans.accept_packages(demo.store, selection.account.id, 1, [[(own, PROMISE)]])
    told = owner.post("/delivery/placements/solve", data={"account": key, "row": campaign})
    assert "This replaces 1 change in the plan" in text_of(told)
    assert [each.new_value for each in planned(demo, key)] == ["0.07"], "nothing is done before it is seen"
    owner.post("/delivery/placements/solve", data=sent_by(told) | {"sure": "yes", "asked": "yes"})
    assert "own" not in [each.finding for each in planned(demo, key)]
    owner.post("/plan/undo", data={"account": key})
    assert [each.new_value for each in planned(demo, key)] == ["0.07"], "undone, what was replaced is back"


@pytest.mark.parametrize("view", ["targets", "terms", "words"])
@pytest.mark.parametrize("verdict", [*Verdict])
def test_all_that_is_filtered_can_be_accepted_whatever_its_verdict(owner, demo, view, verdict):
    """Of the other brand in a browser: see tests/browser/test_acting.py."""
    key = "pellwick-gb"
    asked = {"account": key, "all": "yes", "where": f"verdict:is:{verdict.value}"}
    told = owner.post(f"/targeting/{view}/accept-many", data=asked)
    if told.status_code == 400:
        assert "No row is selected" in text_of(told)
        return
    if values(told, "button[name=sure]", "name"):
        sent = sent_by(told) | {"sure": "yes", "asked": "yes", "take": values(told, "[name=take]", "value")}
        assert owner.post(f"/targeting/{view}/accept-many", data=sent).status_code == 302
    assert_nothing_above_target_is_dearer(demo, key)


@pytest.mark.parametrize("key", BRANDS)
@pytest.mark.parametrize(
    "filters", [["orders:eq:0"], ["acos:gt:60", "acos:lt:90"], ["verdict:is:costly", "orders:gt:0"]]
)
def test_the_filters_of_the_tour_can_be_accepted(owner, key, filters):
    told = owner.post("/targeting/targets/accept-many", data={"account": key, "all": "yes", "where": filters})
    assert told.status_code in (200, 302)


def test_a_single_acceptance_that_raises_a_price_is_refused_with_the_figure(owner, demo):
    key = "fernhollow-de"
    row = (
        judged_targets(Facts(demo.store), look_of(demo, key))
        .filter(pl.col("verdict") == "above target", pl.col("bid").is_not_null())
        .row(0, named=True)
    )
    bid = Change(
        row=0,
        action=Action.UPDATE,
        entity=Entity.TARGET,
        campaign=str(row["campaign"]),
        ad_group=str(row["ad_group"]),
        target=row["target"],
        match_type=str(row["match_type"]),
        field="bid",
        old_value=f"{row['bid'] / 1e6:.2f}",
        new_value="0.05",
    )
    (held,) = plans.accept_packages(demo.store, account_of(demo, key).id, 1, [[(bid, PROMISE)]]).planned
    refused = owner.post(f"/plan/{held.id}/value", data={"account": key, "new_value": "9.50", "asked": "yes"})
    assert refused.status_code == 409
    said = text_of(refused)
    assert "would cost up to € 9.50" in said.replace("\xa0", " ") or "would cost up to" in said
    assert "above target" in said
    assert [each.new_value for each in planned(demo, key)] == ["0.05"]


def test_a_boost_over_what_is_above_target_is_refused_until_its_bids_are_cut(owner, demo):
    key = "fernhollow-de"
    selection = look_of(demo, key)
    rows = judged_targets(Facts(demo.store), selection).filter(
        pl.col("verdict") == "above target", pl.col("bid").is_not_null()
    )
    campaign = str(rows["campaign"][0])
    boost = {"account": key, "whose": campaign, "what": "bid", "percent": "20", "from_hour": "0", "to_hour": "24"}
    refused = owner.post("/delivery/boosts/plan", data=boost)
    assert refused.status_code == 409
    assert "today at most" in text_of(refused)
    now = plan_prices.campaigns_of(Facts(demo.store), selection, [campaign])[campaign]
    packages = [
        [
            (
                Change(
                    row=0,
                    action=Action.UPDATE,
                    entity=Entity.TARGET,
                    campaign=campaign,
                    ad_group=group,
                    target=target,
                    match_type=match,
                    field="state",
                    old_value="enabled",
                    new_value="paused",
                ),
                PROMISE,
            )
        ]
        for (group, target, match), each in now.targets.items()
        if each.above_target
    ]
    plans.accept_packages(demo.store, selection.account.id, 1, packages)
    if not now.above_target:
        assert owner.post("/delivery/boosts/plan", data=boost).status_code == 302


def test_what_is_more_than_a_handful_is_shown_wherever_it_is_accepted(owner, demo):
    """A group of findings put 159 changes of placements into the plan unseen."""
    key = "fernhollow-de"
    page = owner.get(f"/findings/costly-placements?account={key}")
    rows = row_ids(page)
    told = owner.post(
        "/delivery/placements/accept-many", data={"account": key, "findings": rows, "back": "/findings/", "check": "x"}
    )
    assert told.status_code == 200
    assert "Preview:" in text_of(told)
    assert planned(demo, key) == []


def test_rows_are_left_out_one_by_one_and_the_sums_follow(owner, demo):
    key = "fernhollow-de"
    data = {"account": key, "where": "verdict:is:costly", "all": "yes"}
    told = owner.post("/targeting/targets/accept-many", data=data)
    keys = values(told, "[name=take]", "value")
    assert len(keys) > 2
    again = owner.post("/targeting/targets/accept-many", data=sent_by(told) | {"again": "yes", "take": keys[1:]})
    assert "1: left out by you" in text_of(again)
    assert texts(again, ".answer b")[0] != texts(told, ".answer b")[0]
    owner.post(
        "/targeting/targets/accept-many", data=sent_by(again) | {"sure": "yes", "asked": "yes", "take": keys[1:]}
    )
    assert len(planned(demo, key)) == len(keys) - 1


def test_a_page_that_lost_something_is_better_settled_first(demo):
    facts, selection = Facts(demo.store), look_of(demo, "fernhollow-de")
    (sku,) = lost(facts, selection)["name"]
    ads = product_frames.ad_rows(facts, selection.account.id, selection.window).filter(
        pl.col("sku").cast(pl.String) == sku
    )
    home = tuple(ads.select(pl.col("campaign", "ad_group").cast(pl.String)).row(0))
    held = [each for each in order.before(facts, selection, [home])[home] if each.name == sku]
    assert Unsettled.LOST_PAGE in [each.kind for each in held]
    (proposal,) = proposals(
        facts, selection, "targets", judged(facts, selection, Subject.TARGET)["row_id"].head(1).to_list()
    )
    assert "lost content" in settled_first.first_for(proposal, held[-1:], Figures("en_IE", "EUR"))[0].words


def test_own_rules_ask_about_rows_without_a_sale_and_count_by_verdict_and_clicks(owner):
    data = {"account": "fernhollow-de", "all": "yes", "where": "acos:ge:55", "do": "pause"}
    told = owner.post("/rules/targets/act", data=data)
    said = text_of(told)
    assert "spent and sold nothing" in said
    assert "Are they above 55 % ACOS?" in said
    assert not found_or_none(told, "button[name=sure]"), "nothing is done before that is said"
    assert "By verdict:" in said
    assert "By clicks:" in said
    above = text_of(owner.post("/rules/targets/act", data=data | {"none": "above"}))
    out = text_of(owner.post("/rules/targets/act", data=data | {"none": "out"}))
    assert _first_count(above) > _first_count(out)
    assert "no sale" not in out.partition("By clicks")[2].partition("Not included")[0]
    orders, sold = re.search(
        r"made ([\d,]+) orders? and sold € ([\d,]+) per 30 days", out.replace("\xa0", " ")
    ).groups()
    assert int(orders.replace(",", "")) > 0
    assert int(sold.replace(",", "")) > 0


def test_raises_of_what_never_made_an_order_are_left_out_until_they_are_asked_for_by_name(owner):
    data = {
        "account": "fernhollow-de",
        "all": "yes",
        "where": ["orders:eq:0", "verdict:is:undecided"],
        "do": "bid by",
        "value": "10",
    }
    told = owner.post("/rules/targets/act", data=data)
    assert "without an order" in text_of(told)
    assert found(told, "button[name=raises]")
    meant = owner.post("/rules/targets/act", data=data | {"raises": "yes"})
    assert not found_or_none(meant, "button[name=raises]")
    assert "raise" in texts(meant, ".answer b")[0]


def _first_count(said):
    return int(re.search(r"([\d,]+) pauses?\b", said)[1].replace(",", ""))


def test_negatives_count_what_else_they_stop_and_phrases_stop_more(owner):
    data = {"account": "fernhollow-de", "where": ["clicks:ge:5", "orders:eq:0"], "all": "yes"}
    exact, phrase = (
        owner.post("/rules/terms/act", data=data | {"do": f"negative {how}"}) for how in ("exact", "phrase")
    )
    told = [re.search(r"also stop ([\d,]+) other search", text_of(each)) for each in (exact, phrase)]
    assert told[1] is not None
    count = int(told[1][1].replace(",", ""))
    assert count > (int(told[0][1].replace(",", "")) if told[0] else 0)
    assert len(texts(phrase, "details.block li")) == count, "all of them can be seen"
    assert texts(exact, ".answer b")[0]
    assert text_of(exact).partition("Together")[2][:60] != text_of(phrase).partition("Together")[2][:60]
    assert any("also stops" in each for each in texts(phrase, "tbody td:last-child"))


def test_very_many_changes_are_a_workers_with_one_undo(owner, demo, monkeypatch):
    monkeypatch.setattr(acting, "AT_ONCE", 20)
    key = "fernhollow-de"
    data = {"account": key, "all": "yes", "do": "bid by", "value": "-5"}
    told = owner.post("/rules/targets/act", data=data)
    done = owner.post(
        "/rules/targets/act",
        data=sent_by(told) | {"sure": "yes", "asked": "yes", "take": values(told, "[name=take]", "value")},
    )
    assert "/plan/accepting/" in done.headers["Location"]
    page = owner.get(done.headers["Location"])
    assert "were added to the plan" in text_of(page)
    assert len(planned(demo, key)) > 20
    owner.post("/plan/undo", data={"account": key})
    assert planned(demo, key) == []


def test_a_promoted_term_is_sent_where_its_product_is_advertised_and_can_be_sent_elsewhere(owner, demo):
    key = "fernhollow-de"
    page = owner.get(f"/findings/winners?account={key}")
    facts, selection = Facts(demo.store), look_of(demo, key)
    homes = places(facts, selection)
    for row in row_ids(page)[:6]:
        drawer = owner.get(f"/targeting/terms?account={key}&open={row}")
        assert "exact target at" in text_of(drawer)
        options = values(drawer, "select[name=to] option", "value")
        owner.post(
            "/targeting/terms/accept", data={"account": key, "row": row, **({"to": options[-1]} if options else {})}
        )
        made = planned(demo, key)
        (target,) = [each for each in made if each.entity is Entity.TARGET]
        if options:
            assert target.campaign == options[-1].split("\x1f")[0]
        negatives = [each for each in made if each.entity is Entity.NEGATIVE]
        for each in negatives:
            assert each.reason != target.reason
            assert "stops it from being bought here" in each.reason
        advertised = {
            sku
            for sku, groups in homes.of_sku.items()
            if any((c, g) == (target.campaign, target.ad_group) for c, g, *_ in groups)
        }
        new = [each for each in made if each.entity is Entity.PRODUCT_AD]
        assert advertised or new or not options
        owner.post("/plan/undo", data={"account": key})


def test_an_unknown_effect_is_unknown_on_the_plan(owner, demo):
    key = "fernhollow-de"
    row = row_ids(owner.get(f"/findings/winners?account={key}"))[0]
    owner.post("/targeting/terms/accept", data={"account": key, "row": row})
    said = texts(owner.get(f"/plan/?account={key}"), "tr[data-row] td")
    assert "unknown" in said


def test_conflicts_are_shown_with_what_resolves_them_and_block_the_sheet(owner, demo):
    key = "fernhollow-de"
    selection = look_of(demo, key)
    rows = judged_targets(Facts(demo.store), selection).filter(
        pl.col("verdict") == "above target", pl.col("bid").is_not_null()
    )
    campaign = str(rows["campaign"][0])
    top = Change(
        row=0,
        action=Action.UPDATE,
        entity=Entity.PLACEMENT,
        campaign=campaign,
        placement="top_of_search",
        field="adjustment",
        old_value="0",
        new_value="700",
    )
    weekend = Change(
        row=0,
        action=Action.CREATE,
        entity=Entity.BUDGET_BOOST,
        campaign=campaign,
        field="percent",
        new_value="20",
        days="6 7",
        from_hour="0",
        to_hour="24",
    )
    plans.accept_packages(
        demo.store,
        selection.account.id,
        1,
        [[(top, PROMISE)], [(weekend, PROMISE)], [(replace(weekend, days="7"), PROMISE)]],
    )
    page = owner.get(f"/plan/?account={key}")
    said = words(found(page, "#conflicts"))
    assert "A click above target would cost more than today" in said
    assert "Two boosts at the same time" in said
    refused = owner.get(f"/plan/sheet.csv?account={key}")
    assert refused.status_code == 409
    ways = parsed_forms(page)
    owner.post("/plan/remove", data={"account": key, "rows": ways[0]})
    assert owner.get(f"/plan/sheet.csv?account={key}").status_code == 200
    boosts = parsed_forms(owner.get(f"/plan/?account={key}"))
    owner.post("/plan/remove", data={"account": key, "rows": boosts[0]})
    assert not found_or_none(owner.get(f"/plan/?account={key}"), "#conflicts")


def parsed_forms(page):
    """What each way out of a conflict takes out."""
    return [
        [str(each["value"]) for each in form.select("[name=rows]")] for form in parsed(page).select("#conflicts form")
    ]


def test_boosts_of_the_plan_count_in_the_next_and_budgets_are_told_as_budgets(owner, demo):
    key = "fernhollow-de"
    fine = None
    facts, selection = Facts(demo.store), look_of(demo, key)
    names = placements.worst(facts, selection)["campaign"].to_list()
    for name, bids in plan_prices.campaigns_of(facts, selection, names).items():
        if not bids.above_target and bids.targets and not any(each.above_target for each in bids.targets.values()):
            fine = name
            break
    assert fine is not None
    boost = {"account": key, "whose": fine, "what": "bid", "percent": "20", "from_hour": "0", "to_hour": "24"}
    before = _highest(owner, fine, "")
    assert owner.post("/delivery/boosts/plan", data=boost).status_code == 302
    base = _highest(owner, fine, "")
    assert base == pytest.approx(before * 1.2, abs=0.02)
    dated = _highest(owner, fine, "&percent=30&first=2026-12-01&last=2026-12-24")
    other = _highest(owner, fine, "&percent=40&first=2027-06-01&last=2027-06-10")
    assert dated == pytest.approx(before * 1.5, abs=0.02)
    assert other == pytest.approx(before * 1.6, abs=0.02)
    said = text_of(
        owner.get("/delivery/boosts", query_string={"account": key, "whose": fine, "what": "budget", "percent": "50"})
    )
    assert re.search(r"The budget of .* can rise to", said)
    assert "Bids stay unchanged" in said


def _highest(owner, campaign, more):
    page = owner.get(
        "/delivery/boosts",
        query_string={
            "account": "fernhollow-de",
            "whose": campaign,
            **dict(part.split("=") for part in more.split("&") if part),
        },
    )
    return float(re.search(r"can cost up to [^\d]*([\d.]+)", text_of(page).replace("\xa0", " "))[1])


def test_names_with_signs_of_an_address_in_them_arrive_whole(owner, demo):
    """Links lost names with &, # and +."""
    scope = Scope(account_of(demo, "fernhollow-de"), LAST_DAY)
    address = scope.elsewhere("/x", campaign="Pots & pans #1 + 50 %", open="a&b=c", whose="d#e")
    told = parse_qs(urlsplit(address).query)
    assert (told["campaign"], told["open"], told["whose"]) == (["Pots & pans #1 + 50 %"], ["a&b=c"], ["d#e"])
    named = replace(scope, campaign="first")
    assert parse_qs(urlsplit(named.elsewhere("/x", campaign="second")).query)["campaign"] == ["second"], (
        "the later one counts"
    )
