"""Search terms by the words they share: rows, evidence, and a negative wherever it was paid for."""

import io
from urllib.parse import quote

import polars as pl
from tests.pages import link, row_ids, text_of, texts

from nimbus_reef.store.people import plans

WORDS = "/targeting/words"


def costly(owner):
    """Words to shut out; the demo's misspelt word among them."""
    return row_ids(owner.get(f"{WORDS}?where=fate:is:negative%20phrase"))


def test_phrases_stand_with_their_terms_and_the_money_without_an_order(owner):
    page = text_of(owner.get(WORDS))
    assert "terms without order" in page
    assert "phrases" in page
    one_word = row_ids(owner.get(f"{WORDS}?where=length:eq:1"))
    assert one_word
    assert [each for each in one_word if " " in each.replace(" + ", "")] == [], "words, or those that stand together"


def test_words_are_ranked_by_what_they_themselves_do(owner, demo):
    """By waste, whatever they cost; what was due, came, and what a phrase would hit stand beside."""
    page = text_of(owner.get(WORDS))
    for head in ("waste", "due", "came", "factor", "terms", "good terms"):
        assert head in page
    rows = pl.read_csv(io.StringIO(owner.get(f"{WORDS}/export.csv").get_data(as_text=True)))
    judged = rows.filter(pl.col("factor").is_not_null())
    assert len(judged) > 50
    assert judged["waste"].drop_nulls().is_sorted(descending=True)
    assert not rows["spend"].is_sorted(descending=True)
    assert judged.filter(pl.col("fate") == "negative phrase")["factor"].max() <= 0.6
    assert (judged["waste"] <= judged["spend"] + 0.01).all()


def test_a_word_is_held_against_what_was_due_without_it(owner):
    word = costly(owner)[0]
    page = text_of(owner.get(f"{WORDS}?open={quote(word)}"))
    assert "expected" in page
    assert "comparable searches of this account" in page
    assert "expected without it" in owner.get(f"{WORDS}?open={quote(word)}").get_data(as_text=True)


def test_what_a_phrase_would_hit_is_listed_whole(owner):
    """Terms that sell within target first; behind the first few all of them, as a table."""
    word = row_ids(owner.get(f"{WORDS}?where=good_terms:ge:2"))[0]
    page = owner.get(f"{WORDS}?open={quote(word)}")
    terms = [each for each in texts(page, "li > span") if each.startswith("term “")]
    good = ["within target" in term for term in terms]
    assert good[:2] == [True, True]
    assert good == sorted(good, reverse=True)
    listed = text_of(owner.get(link(page, "All its search terms") + "&sort=-sales"))
    assert terms[0].partition("”")[0].removeprefix("term “") in listed


def test_the_drawer_shows_its_terms_and_the_rows_behind(owner):
    phrase = row_ids(owner.get(f"{WORDS}?where=length:eq:2"))[0]
    page = text_of(owner.get(f"{WORDS}?open={quote(phrase)}"))
    assert "of the same length" in page
    assert "term “" in page
    behind = text_of(owner.get(f"{WORDS}/rows?open={quote(phrase)}"))
    assert "search_term_daily" in behind or "Search terms" in behind


def test_accepting_a_phrase_puts_a_phrase_negative_where_it_was_paid_for(owner, demo):
    phrase = next(
        each for each in costly(owner) if "negative phrase" in text_of(owner.get(f"{WORDS}?open={quote(each)}"))
    )
    owner.post(f"{WORDS}/accept", data={"row": phrase, "sure": "yes", "take": phrase})
    accepted = plans.planned(demo.store, 1)
    assert accepted
    assert {each.change.match_type for each in accepted} == {"negative_phrase"}
    places = [(each.change.campaign, each.change.ad_group, each.change.target) for each in accepted]
    assert len(set(places)) == len(places)
    assert all(each.promise.projected["spend"][1] < 0 for each in accepted)
    assert "In the plan, row" in text_of(owner.get(f"{WORDS}?open={quote(phrase)}"))


def test_phrases_leave_as_a_file(owner):
    lines = owner.get(f"{WORDS}/export.csv").get_data(as_text=True).splitlines()
    assert lines[0].startswith("phrase,spelt,words,terms,idle_terms,idle_spend,due,came,factor,p_word,waste,good_terms")
    assert len(lines) > 50
