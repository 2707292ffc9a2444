"""Reach's other lists: room at the top, small shares, ranks by rival, coverage, own against own, two phrases."""

import csv
import io
import re
from dataclasses import replace

import polars as pl
import pytest
from tests.pages import row_ids, text_of, texts

from nimbus_reef.analysis.reach import coverage, market, overlaps, ranks, shares, two_phrases
from nimbus_reef.analysis.selection import asked
from nimbus_reef.core.changes import Action, Entity
from nimbus_reef.core.keyword_coverage import CoverageAdvice
from nimbus_reef.core.own_overlaps import OwnOverlap, ad_free_test
from nimbus_reef.core.rank_gaps import Fight, Gap
from nimbus_reef.store.people import accounts, target_acos
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts

ACCOUNT = "account=fernhollow-de"


@pytest.fixture(scope="module")
def facts(demo):
    return Facts(demo.store)


@pytest.fixture
def selection(demo, facts):
    account = accounts.by_key(demo.store, "fernhollow-de")
    return asked(facts, account, target_acos.aims(demo.store, account), "")


def exported(owner, view, narrowed=""):
    answer = owner.get(f"/reach/{view}/export.csv?{ACCOUNT}{narrowed}")
    assert answer.status_code == 200
    return list(csv.DictReader(io.StringIO(answer.get_data().decode("utf-8-sig"))))


def test_targets_with_room_at_the_top_are_sure_and_their_share_grows_with_the_proposed_bid(owner, facts, selection):
    rows = shares.top_of_search(facts, selection).rows
    assert len(rows) > 5
    assert rows["p_over"].max() <= 0.1
    assert rows["top_of_search_share"].max() <= 0.3
    raised = rows.filter(pl.col("proposed") > pl.col("bid"))
    assert len(raised)
    assert (raised["after"] > raised["top_of_search_share"]).all()
    stays = rows.filter(pl.col("proposed").is_null())
    assert stays["after"].to_list() == pytest.approx(stays["top_of_search_share"].to_list())
    page = owner.get(f"/reach/top-of-search?{ACCOUNT}&where=raised:is:yes")
    assert set(row_ids(page)) == set(raised["row_id"].head(100))
    assert "well within target get little of the top of search" in text_of(page)


def test_the_raise_is_the_one_of_the_target_s_own_page(owner, facts, selection, planned):
    """The same proposal, wherever it is accepted; a second time it is there already."""
    rows = shares.top_of_search(facts, selection).rows
    first = rows.filter(pl.col("proposed") > pl.col("bid"))["row_id"][0]
    owner.post("/reach/top-of-search/accept", data={"account": "fernhollow-de", "row": first})
    (only,) = planned()
    assert float(only.change.new_value) == pytest.approx(rows.filter(row_id=first)["proposed"][0])
    owner.post("/targeting/targets/accept", data={"account": "fernhollow-de", "row": first})
    assert len(planned()) == 1


def test_a_term_with_a_small_share_becomes_a_keyword_of_its_own(owner, facts, selection, planned):
    rows = shares.small_shares(facts, selection).rows
    assert rows["impression_share"].max() <= 0.25
    assert rows["orders"].min() >= 1
    assert set(rows["format"].cast(pl.String)) == {"product"}, "a banner that earns loses no search to a product ad"
    live = target_frames.live_own(facts, selection.account.id, selection.window)["normal_id"].to_list()
    assert not set(rows["normal_id"]) & set(live)
    owner.post("/reach/small-shares/accept", data={"account": "fernhollow-de", "row": rows["row_id"][0]})
    made = [each.change for each in planned() if each.change.entity is Entity.TARGET]
    assert made[0].action is Action.CREATE
    assert made[0].target == rows["term"][0]
    assert not made[0].match_type.startswith("negative")


def test_selecting_all_terms_previews_and_takes_each_once(owner, planned):
    data = {"account": "fernhollow-de", "all": "yes"}
    preview = owner.post("/reach/small-shares/accept-many", data=data)
    assert re.search(r"Preview: \d+ search terms", text_of(preview))
    owner.post("/reach/small-shares/accept-many", data=data | {"sure": "yes", "asked": "yes"})
    changes = [each.change for each in planned()]
    made = [
        (each.target, each.match_type)
        for each in changes
        if each.entity is Entity.TARGET and "negative" not in each.match_type
    ]
    assert len(made) > 20
    assert len(made) == len(set(made))


@pytest.mark.parametrize("view", ["top-of-search", "small-shares"])
def test_what_is_left_out_is_counted(owner, facts, selection, view):
    found = shares.top_of_search(facts, selection) if view == "top-of-search" else shares.small_shares(facts, selection)
    page = text_of(owner.get(f"/reach/{view}?{ACCOUNT}"))
    assert found.left_out
    for why in found.left_out:
        assert why in page


def test_ranks_stand_by_rival_and_against_one_alone(owner, facts, selection):
    page = owner.get(f"/reach/ranks?{ACCOUNT}&by=rival&where=category:is:Seed trays")
    rows = ranks.gaps(facts, selection).filter(category="Seed trays")
    seen = ranks.seen_most(facts, selection, rows["normal_id"])
    heads = texts(page, "thead th")
    assert seen
    assert all(any(brand in head for head in heads) for _, brand in seen)
    item, brand = seen[0]
    alone = owner.get(f"/reach/ranks?{ACCOUNT}&by=rival&rival={item}")
    assert f"{brand} ranks within 40 for" in text_of(alone)
    every = ranks.ranks_of(facts, selection, item, ranks.gaps(facts, selection)["normal_id"])
    assert {int(each) for each in row_ids(alone)} <= set(every)
    assert max(every.values()) <= 40
    nobody = owner.get(f"/reach/ranks?{ACCOUNT}&by=rival&rival=TM0000000")
    assert nobody.status_code == 200
    assert "ranks within 40 for none of these phrases" in text_of(nobody)


def test_words_are_searched_any_of_them_or_none_of_them(owner, facts, selection):
    rows = ranks.gaps(facts, selection)
    either = rows.filter(pl.col("phrase").str.contains("hanging") | pl.col("phrase").str.contains("slate"))
    lines = exported(owner, "ranks", "&where=name:has:hanging | Slate")
    assert {each["phrase"] for each in lines} == set(either["phrase"])
    rest = exported(owner, "ranks", "&where=name:lacks:hanging|slate")
    assert len(lines) + len(rest) == len(rows)


def test_a_phrase_of_a_list_opens_with_who_ranks_at_which_price_and_can_be_taken(owner, facts, selection, planned):
    rows = ranks.gaps(facts, selection)
    pays = rows.drop_nulls("profit").filter(pl.col("best_rival") <= 10).row(0, named=True)
    drawer = owner.get(f"/reach/ranks/evidence?{ACCOUNT}&open={pays['row_id']}")
    said = text_of(drawer)
    first = market.ranked(facts, selection, pays["normal_id"])[0]
    assert f"{first.rank}. {first.brand}" in said
    assert first.title in said
    assert "€" in said
    assert "Ranks from" in drawer.get_data(as_text=True)
    owner.post("/reach/ranks/accept", data={"account": "fernhollow-de", "row": pays["row_id"]})
    (only,) = planned()
    assert (only.change.target, only.change.match_type) == (pays["phrase"], "exact")


def test_a_phrase_that_is_bought_already_says_so_and_changes_nothing(owner, facts, selection, planned):
    bought = ranks.gaps(facts, selection).filter("bought")["row_id"][0]
    assert "you bid on it already" in text_of(owner.get(f"/reach/rival-ads/evidence?{ACCOUNT}&open={bought}"))
    owner.post("/reach/ranks/accept", data={"account": "fernhollow-de", "row": bought})
    assert not planned()


def test_coverage_counts_a_family_once_and_says_what_comes_first(owner, facts, selection):
    rows = coverage.rows(facts, selection)
    assert rows["row_id"].is_unique().all()
    assert rows["products"].max() > 1
    assert (rows["first_page"] <= rows["ranked"]).all()
    assert rows.select((pl.col("both") <= pl.min_horizontal("ranked", "shown")).all()).item()
    mend = rows.filter(pl.col("advice") == CoverageAdvice.PAGE.value)
    assert (mend["p_worse"] >= 0.8).all()
    page = owner.get(f"/reach/coverage?{ACCOUNT}")
    assert len(row_ids(page)) == len(rows)
    assert "rank for fewer phrases than their goal" in text_of(page)


def test_an_own_goal_moves_what_is_asked_for(demo, facts, selection):
    goals = replace(selection.account.settings, coverage_young=2, coverage_year=3, coverage_old=4)
    own = replace(selection, account=replace(selection.account, settings=goals))
    assert coverage.rows(Facts(demo.store), own)["goal"].max() == 4 < coverage.rows(facts, selection)["goal"].max()


def test_own_against_own_tells_where_ads_buy_what_comes_anyway(owner, facts, selection):
    rows = overlaps.rows(facts, selection)
    first = rows.filter(pl.col("overlap") == OwnOverlap.PAID_FIRST.value)
    assert len(first)
    assert (first["own_rank"] <= 1).all()
    assert (first["spend"] > 0).all()
    page = text_of(owner.get(f"/reach/own-against-own?{ACCOUNT}&where=overlap:is:paid where you rank first"))
    top = first.row(0, named=True)
    test = ad_free_test(top["paid_clicks"], top["free_clicks"], top["paid_orders"], 90)
    assert (f"{test.days} days without ads would tell" if test.days else "would not tell within 12 weeks") in page
    two = rows.filter(pl.col("overlap") == OwnOverlap.TWO_ITEMS.value)
    assert two.select(((pl.col("items") > 1) | pl.col("buying").str.contains(",")).all()).item()


def test_two_phrases_stand_side_by_side_with_their_ranges(owner, facts, selection):
    page = owner.get(f"/reach/two-phrases?{ACCOUNT}&one=seed tray&other=grow lamp")
    assert page.status_code == 200
    row = two_phrases.found(facts, selection, "Seed Tray")
    known = two_phrases.compared(facts, selection, row)
    assert known.cvr.low < known.cvr.value < known.cvr.high
    terms = target_frames.term_sums(facts, selection.account.id, selection.window)
    assert known.clicks == int(terms.filter(normal_id=row["normal_id"])["clicks"].sum())
    lines = exported(owner, "two-phrases", "&one=seed tray&other=grow lamp")
    assert [each["phrase"] for each in lines] == ["seed tray", "grow lamp"]
    assert int(lines[0]["clicks"]) == known.clicks


def test_a_phrase_that_nobody_knows_is_named(owner):
    page = owner.get(f"/reach/two-phrases?{ACCOUNT}&one=zzz qqq&other=grow lamp")
    assert "“zzz qqq” is in no report" in text_of(page)
    assert owner.get(f"/reach/two-phrases/export.csv?{ACCOUNT}&one=zzz qqq&other=xxx").status_code in (200, 404)


def test_a_list_that_was_brought_in_is_a_source_of_the_pool(owner):
    page = owner.get(f"/reach/phrases?{ACCOUNT}&where=list:has:ideas for spring")
    assert row_ids(page)
    drawer = owner.get(f"/reach/phrases/evidence?{ACCOUNT}&open={row_ids(page)[0]}")
    assert "On your list “ideas for spring”." in text_of(drawer)
    lines = exported(owner, "phrases", "&where=list:has:ideas for spring")
    assert {each["lists"] for each in lines} == {"ideas for spring"}


def test_phrases_become_a_campaign_for_each_word_that_several_share(owner, planned):
    page = owner.get(f"/reach/phrases?{ACCOUNT}&where=status:is:proposed&where=sku:is:ST-TRAY-12CELLS")
    data = {"account": "fernhollow-de", "rows": row_ids(page), "by_word": "yes"}
    owner.post("/reach/phrases/group", data=data | {"sure": "yes", "asked": "yes"})
    changes = [each.change for each in planned()]
    made = {each.campaign for each in changes if each.field == "daily_budget"}
    targets = [each for each in changes if each.entity is Entity.TARGET]
    assert len(made) > 1
    assert len(targets) == len(row_ids(page))
    for campaign in made:
        members = [each.target for each in targets if each.campaign == campaign]
        word = re.search(r"long tail ?(\S*) ·", campaign).group(1)
        assert len(members) >= 3 or not word
        assert all(word.rstrip("s") in each for each in members)


def test_terms_with_a_small_share_become_a_campaign_a_product_without_those_searches_elsewhere(owner, planned):
    rows = row_ids(owner.get(f"/reach/small-shares?{ACCOUNT}"))[:6]
    data = {"account": "fernhollow-de", "rows": rows, "campaign_name": "Top", "budget": "9"}
    assert "Preview:" in text_of(owner.post("/reach/small-shares/group", data=data))
    owner.post("/reach/small-shares/group", data=data | {"sure": "yes", "asked": "yes"})
    changes = [each.change for each in planned()]
    made = {each.campaign for each in changes if each.field == "daily_budget"}
    assert made
    assert all(each.startswith("Top") for each in made)
    targets = [each for each in changes if each.entity is Entity.TARGET]
    assert {each.campaign for each in targets} == made
    assert {each.match_type for each in targets} == {"exact"}
    negatives = {each.target for each in changes if each.entity is Entity.NEGATIVE}
    assert negatives == {each.target for each in targets}
    assert owner.post("/reach/rivals/group", data=data).status_code == 404


def test_a_set_of_rivals_is_kept_by_name_put_in_force_and_forgotten(owner, demo):
    def settings():
        return accounts.by_key(demo.store, "fernhollow-de").settings

    items = row_ids(owner.get(f"/reach/rivals?{ACCOUNT}"))
    data = {"account": "fernhollow-de"}
    try:
        owner.post("/reach/rivals/choose", data=data | {"rows": items[:3], "set_name": "large ones"})
        owner.post("/reach/rivals/choose", data=data | {"rows": items[3:5], "set_name": "cheap"})
        assert settings().chosen_rivals == tuple(items[3:5])
        page = text_of(owner.get(f"/reach/rivals?{ACCOUNT}"))
        assert "large ones, 3 items" in page
        assert "cheap, 2 items" in page
        owner.post("/reach/rivals/choose", data=data | {"set_name": "large ones", "use": "yes"})
        assert settings().chosen_rivals == tuple(items[:3])
        owner.post("/reach/rivals/forget", data=data | {"set_name": "cheap"})
        assert len(settings().rival_sets) == 1
        wrong = owner.post("/reach/rivals/choose", data=data | {"rows": items[:2], "set_name": "a = b"})
        assert wrong.status_code == 400
    finally:
        owner.post("/reach/rivals/forget", data=data | {"set_name": "large ones"})
        owner.post("/reach/rivals/choose", data=data)
    assert settings().chosen_rivals == settings().rival_sets == ()


def test_the_answer_of_rank_gaps_counts_only_what_it_speaks_of(owner, facts, selection):
    rows = ranks.gaps(facts, selection)
    behind = rows.filter(pl.col("gap").is_in([Gap.BEHIND.value, Gap.ABSENT.value]))
    pays = len(behind.filter(pl.col("fight").is_in([Fight.BOTH.value, Fight.KEYWORD.value])))
    page = text_of(owner.get(f"/reach/ranks?{ACCOUNT}"))
    assert f"far behind or absent on {len(behind)} phrases. An exact keyword would pay for {pays} of them." in page
