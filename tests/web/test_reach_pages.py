"""Reach: the pool of phrases that were never bought, weeded, taken and read."""

import re
from datetime import date

import polars as pl
import pytest

from nimbus_reef.analysis.reach import buying, market, pool, ranks
from nimbus_reef.analysis.selection import asked
from nimbus_reef.core.changes import Action, Entity
from nimbus_reef.core.market_fit import parts
from nimbus_reef.core.rank_gaps import Fight, Gap
from nimbus_reef.core.unbought import LeftOut
from nimbus_reef.jobs import intake
from nimbus_reef.store.people import accounts, hidden_findings, target_acos
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.reach.routes import VIEWS

PAGE = "/reach/phrases?account=fernhollow-de"


@pytest.fixture(scope="module")
def facts(demo):
    return Facts(demo.store)


def look(demo, facts):
    account = accounts.by_key(demo.store, "fernhollow-de")
    return asked(facts, account, target_acos.aims(demo.store, account), "")


def keys(page):
    return re.findall(r'data-row="(\d+)"', page)


def test_phrases_that_would_pay_come_first_with_what_was_left_out(owner):
    page = owner.get(PAGE).get_data(as_text=True)
    assert re.search(r"\d+ phrases you never bought would pay: about €\W*[\d,]+ profit in 28 days", page)
    assert "with a rival’s brand" in page
    assert "of another category" in page
    assert len(keys(page)) == 100


def test_no_phrase_of_the_pool_names_a_rival_or_is_bought(demo, facts):
    """Of what the simulated market holds: no rival's brand, nothing with a paid click or a live keyword."""
    found = pool.pool(facts, look(demo, facts))
    every = market.phrases(facts, look(demo, facts))
    bought = set(every.filter(every["own_clicks"] > 0)["phrase"])
    brands = [name.lower() for name in ("Brackenloft", "Umbrelane", "Wickelgrun", "Tolvane", "Hesperwood")]
    phrases = found.rows["phrase"].to_list()
    assert phrases
    assert not bought & set(phrases)
    assert not [phrase for phrase in phrases if any(brand in phrase for brand in brands)]
    assert found.left_out[LeftOut.RIVAL_BRAND] > 50


def test_a_brand_of_two_words_is_named_by_both_and_a_word_that_products_are_called_by_names_none(demo, facts):
    """“light” in a brand of two words keeps no lamp out; a brand that is plainly “light” neither, but where listed."""
    selection = look(demo, facts)
    name = pool._names  # what it does to a list of brands
    assert name(facts, selection, {("light", "house"), ("light",), ("tolvane",)}, ()) == [
        ("light", "house"),
        ("tolvane",),
    ]
    assert ("light",) in name(facts, selection, {("light",)}, ["Light"])


def test_a_phrase_opens_with_its_sentence(owner):
    first = keys(owner.get(f"{PAGE}&where=status:is:proposed&where=free_clicks:ge:20").get_data(as_text=True))[0]
    drawer = owner.get(f"/reach/phrases/evidence?account=fernhollow-de&open={first}").get_data(as_text=True)
    for said in (
        "add it as an exact keyword at €",
        "without ads",
        "at the usual €",
        "profit in 28 days",
        "Who ranks for it",
    ):
        assert said in drawer


def test_one_key_puts_an_exact_keyword_into_the_plan(owner, planned):
    first = keys(owner.get(f"{PAGE}&where=status:is:proposed").get_data(as_text=True))[0]
    owner.post("/reach/phrases/accept", data={"account": "fernhollow-de", "row": first})
    (only,) = planned()
    assert (only.change.action, only.change.entity, only.change.match_type) == (Action.CREATE, Entity.TARGET, "exact")
    assert only.promise.projected["sales"][1] > only.promise.projected["spend"][1] > 0
    again = owner.get(f"{PAGE}&where=status:is:in the plan").get_data(as_text=True)
    assert keys(again) == [first]


def test_many_are_shown_first_and_then_taken(owner, planned):
    rows = keys(owner.get(f"{PAGE}&where=status:is:proposed").get_data(as_text=True))[:30]
    data = {"account": "fernhollow-de", "rows": rows}
    preview = owner.post("/reach/phrases/accept-many", data=data).get_data(as_text=True)
    assert "Preview: 30 phrases" in preview
    owner.post("/reach/phrases/accept-many", data=data | {"sure": "yes", "asked": "yes"})
    assert len(planned()) == 30


def test_what_is_not_proposed_says_why_and_changes_nothing(owner, planned):
    row = keys(owner.get(f"{PAGE}&where=status:is:unlikely to pay").get_data(as_text=True))[0]
    drawer = owner.get(f"/reach/phrases/evidence?account=fernhollow-de&open={row}").get_data(as_text=True)
    assert "not proposed: unlikely to pay" in drawer
    owner.post("/reach/phrases/accept", data={"account": "fernhollow-de", "row": row})
    assert not planned()


def test_a_phrase_is_set_aside_and_brought_back(owner, demo):
    rows = keys(owner.get(f"{PAGE}&where=status:is:proposed").get_data(as_text=True))[:2]
    for until, status in (("", "not ours"), ("later", "later")):
        owner.post("/reach/phrases/put-away", data={"account": "fernhollow-de", "rows": rows, "until": until})
        assert set(keys(owner.get(f"{PAGE}&where=status:is:{status}").get_data(as_text=True))) == set(rows)
    owner.post("/reach/phrases/bring-back", data={"account": "fernhollow-de", "rows": rows})
    account = accounts.by_key(demo.store, "fernhollow-de")
    assert not [each for each in hidden_findings.away(demo.store, account.id) if each.row_id in rows]


def test_what_is_too_much_to_set_aside_one_by_one_is_dropped_by_word(owner):
    answer = owner.post("/reach/phrases/put-away", data={"account": "fernhollow-de", "all": "yes"})
    assert answer.status_code == 400
    assert "drop a word" in answer.get_data(as_text=True)


def test_a_word_is_dropped_for_good_and_taken_back(owner):
    def with_word():
        page = owner.get(f"{PAGE}&where=name:has:hanging").get_data(as_text=True)
        return len(keys(page)), page

    before, _ = with_word()
    assert before
    owner.post("/reach/phrases/words", data={"account": "fernhollow-de", "word": "hanging"})
    after, page = with_word()
    assert after == 0
    assert "with a word never to bid on" in page
    owner.post("/reach/phrases/words", data={"account": "fernhollow-de", "word": "hanging", "back": "yes"})
    assert with_word()[0] == before


def test_a_viewer_sees_all_and_changes_nothing(viewer):
    page = viewer.get(PAGE).get_data(as_text=True)
    row = keys(page)[0]
    assert "Not ours" not in page
    for path, data in (("accept", {"row": row}), ("put-away", {"rows": [row]}), ("words", {"word": "lamp"})):
        assert viewer.post(f"/reach/phrases/{path}", data={"account": "fernhollow-de"} | data).status_code == 403


def test_the_pool_leaves_as_a_file_narrowed_and_sorted_as_on_its_page(owner):
    address = "/reach/phrases/export.csv?account=fernhollow-de&where=status:is:proposed&sort=volume"
    lines = owner.get(address).get_data(as_text=True).splitlines()
    head, first, last = lines[0].split(","), lines[1].split(","), lines[-1].split(",")
    assert float(first[head.index("searches_a_week")]) <= float(last[head.index("searches_a_week")])
    assert {line.split(",")[head.index("status")] for line in lines[1:]} == {"proposed"}


def test_a_product_s_part_shows_its_phrases_alone(owner, demo, facts):
    page = owner.get(f"{PAGE}&product=GL-CLIP-DOUBLE").get_data(as_text=True)
    own = set(pool.pool(facts, look(demo, facts)).rows.filter(pl.col("sku") == "GL-CLIP-DOUBLE")["row_id"])
    assert own
    assert set(keys(page)) <= own


def test_what_a_phrase_is_told_by_multiplies_to_what_is_expected(demo, facts):
    """The factors that the sentence names, and those too plain to name, are those of the figure."""
    selection = look(demo, facts)
    fit = market.fitted(facts, selection)
    (row,) = buying.rows_of(facts, selection, [pool.pool(facts, selection).rows["row_id"][0]])
    texts = {word_id: str(word_id) for word_id in row["words"]}
    found = parts(fit, row["sku"], list(texts.items()), row["rank"], row["rivals"])
    product = fit.mean
    for factor in (found.product, found.rank, found.rivals, *(factor for _, factor in found.words)):
        product *= factor or 1.0
    assert product == pytest.approx(row["mean"])


RANKS = "/reach/ranks?account=fernhollow-de"


def test_rank_gaps_say_where_rivals_are_ahead_and_what_comes_first(owner, demo, facts):
    page = owner.get(f"{RANKS}&where=gap:is:far behind").get_data(as_text=True)
    assert "Rivals rank high where you are far behind or absent on" in page
    rows = ranks.gaps(facts, look(demo, facts))
    behind = rows.filter(pl.col("gap") == Gap.BEHIND.value)
    assert len(behind)
    assert behind["own_rank"].min() >= 20
    assert behind["best_rival"].max() <= 10
    assert set(keys(page)) <= set(behind["row_id"])
    held = rows.filter(pl.col("own_rank") <= 3)
    assert set(held["fight"]) == {Fight.LEAVE.value}


def test_what_rivals_pay_for_marks_what_is_new_and_what_is_ours(owner, demo, facts):
    rows = ranks.gaps(facts, look(demo, facts))
    page = owner.get("/reach/rival-ads?account=fernhollow-de&where=new_paying:ge:1").get_data(as_text=True)
    new = set(rows.filter(pl.col("new_paying") > 0)["row_id"])
    assert new
    assert set(keys(page)) <= new
    assert " new</td>" in page
    assert rows.filter(pl.col("own_ad").is_not_null())["bought"].mean() > 0.9


def test_a_rival_leads_to_the_phrases_on_which_it_is_ahead(owner, demo, facts):
    page = owner.get("/reach/rivals?account=fernhollow-de").get_data(as_text=True)
    assert "Your ranks are compared with 40 items of other brands" in page
    there = owner.get(f"{RANKS}&where=ahead:has:Tolvane").get_data(as_text=True)
    ahead = ranks.gaps(facts, look(demo, facts)).filter(pl.col("ahead").str.contains("Tolvane"))
    assert keys(there)
    assert set(keys(there)) <= set(ahead["row_id"])


def test_rivals_are_chosen_by_hand_and_all_that_follows_is_of_them(owner, demo):
    account = accounts.by_key(demo.store, "fernhollow-de")
    items = keys_of_items(owner.get("/reach/rivals?account=fernhollow-de").get_data(as_text=True))[:3]
    try:
        owner.post("/reach/rivals/choose", data={"account": "fernhollow-de", "rows": items})
        page = owner.get("/reach/rivals?account=fernhollow-de").get_data(as_text=True)
        assert "Your ranks are compared with 3 items of other brands" in page
        chosen = accounts.by_key(demo.store, "fernhollow-de")
        look_at = asked(Facts(demo.store), chosen, target_acos.aims(demo.store, chosen), "")
        assert set(market.rivals(Facts(demo.store), look_at)["item"]) == set(items)
        assert market.phrases(Facts(demo.store), look_at)["rivals_asked"].max() <= 3
    finally:
        owner.post("/reach/rivals/choose", data={"account": "fernhollow-de"})
    assert accounts.by_key(demo.store, "fernhollow-de").settings.chosen_rivals == account.settings.chosen_rivals


def keys_of_items(page):
    return re.findall(r'data-row="(TM\d+)"', page)


@pytest.mark.parametrize("view", VIEWS)
def test_every_view_says_what_it_lacks_where_no_list_is_loaded(visitor, view, store, account):
    page = visitor.get(f"/reach/{view}?account={account.key}")
    assert page.status_code == 200
    assert "Nothing is loaded" in page.get_data(as_text=True)


def test_selected_phrases_become_campaigns_of_their_own_one_a_product(owner, planned, demo):
    rows = keys(owner.get(f"{PAGE}&where=status:is:proposed").get_data(as_text=True))[:8]
    data = {"account": "fernhollow-de", "rows": rows}
    preview = owner.post("/reach/phrases/group", data=data).get_data(as_text=True)
    assert re.search(r"Preview: \d new campaign", preview)
    owner.post("/reach/phrases/group", data=data | {"sure": "yes", "asked": "yes"})
    changes = [each.change for each in planned()]
    made = [each for each in changes if each.field == "daily_budget"]
    targets = [each for each in changes if each.entity is Entity.TARGET]
    assert len(targets) == 8
    assert {each.campaign for each in targets} == {each.campaign for each in made}
    assert {each.match_type for each in targets} == {"exact"}
    ads = {each.campaign: each.sku for each in changes if each.entity is Entity.PRODUCT_AD}
    assert all(each.ad_group == ads[each.campaign] for each in targets)
    assert all("long tail" in each.campaign for each in made)
    status = owner.get(f"{PAGE}&where=status:is:in the plan").get_data(as_text=True)
    assert set(keys(status)) == set(rows)
    # What is in the plan already is not taken twice.
    owner.post("/reach/phrases/group", data=data | {"sure": "yes", "asked": "yes"})
    assert len(planned()) == len(changes)


def test_a_campaign_takes_the_name_and_budget_that_are_typed(owner, planned):
    rows = keys(owner.get(f"{PAGE}&where=status:is:proposed&where=sku:is:GL-CLIP-DOUBLE").get_data(as_text=True))[:3]
    data = {"account": "fernhollow-de", "rows": rows, "campaign_name": "Clip lamps, tail", "budget": "12.50"}
    owner.post("/reach/phrases/group", data=data | {"sure": "yes", "asked": "yes"})
    (budget,) = [each.change for each in planned() if each.change.field == "daily_budget"]
    assert (budget.campaign, budget.new_value) == ("Clip lamps, tail", "12.50")
    wrong = owner.post("/reach/phrases/group", data=data | {"budget": "much"})
    assert wrong.status_code == 400
    assert "is not a budget" in wrong.get_data(as_text=True)


@pytest.mark.parametrize(
    "part", ["product=GL-CLIP-DOUBLE&format=product", "portfolio=Grow lights", "category=Seed trays"]
)
@pytest.mark.parametrize("view", VIEWS)
def test_every_part_of_the_account_is_answered_also_where_it_has_no_phrase(owner, view, part):
    page = owner.get(f"/reach/{view}?account=fernhollow-de&{part}")
    assert page.status_code in (200, 404)
    assert "fault" not in page.headers.get("X-Reef-Error", "")
    narrow = owner.get(f"/reach/{view}?account=fernhollow-de&{part}&q=nothinglikethis")
    assert narrow.status_code == page.status_code


def test_a_small_account_with_a_list_of_its_newest_day_is_told_that_it_is_too_small(visitor, store, account, tmp_path):
    head = "date,keyword,search_volume,category,item_id,brand,organic_rank,sponsored_rank\n"
    lists = tmp_path / "keyword_ranks.csv"
    lists.write_text(head + "2026-11-01,seed tray,3000,Seed trays,TM0900100,Umbrelane,3,\n")
    terms = tmp_path / "search_term_daily.csv"
    terms.write_text(
        "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,units,sales\n"
        "2026-11-01,C,G,seed tray,exact,seed tray,100,3,1.20,0,0,0\n"
    )
    for path, kind in ((lists, "keyword_ranks"), (terms, "search_term_daily")):
        intake.take(store, account, path, path.name, kind, today=date(2026, 11, 20))
    for view in VIEWS:
        page = visitor.get(f"/reach/{view}?account={account.key}")
        assert page.status_code == 200, view
    assert "too few clicks and orders to judge" in visitor.get(f"/reach/phrases?account={account.key}").get_data(
        as_text=True
    )
    assert visitor.get(f"/reach/phrases/export.csv?account={account.key}").status_code == 200
