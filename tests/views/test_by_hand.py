"""What was done by hand or kept on purpose: each with its name, its figures before and since, and a verdict."""

from datetime import date, timedelta

import pytest

from nimbus_reef.analysis.catalog.ads import listed as ads
from nimbus_reef.analysis.delivery import placements
from nimbus_reef.analysis.judged import judged_targets, judged_terms
from nimbus_reef.analysis.outcome import by_hand
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.store.people import hidden_findings
from nimbus_reef.store.people.hidden_findings import DONE, PutAway
from nimbus_reef.web.outcome import hand_pages


@pytest.fixture
def away(own, selection, monkeypatch):
    """One finding of each kind of row, put away some weeks ago or lately; the largest of each."""

    def put(days, *, done, **rows):
        since = own.newest_day(selection.account.id) - timedelta(days=days)
        found = [
            PutAway(number, check, row_id, date(2027, 1, 1), None, f"{DONE if done else ''}why", since, "Ona")
            for number, (check, row_id) in enumerate(rows.items(), 1)
        ]
        monkeypatch.setattr(hidden_findings, "away", lambda *_: found)
        return by_hand.rows(own, selection)

    return put


def largest(rows):
    return rows.sort("clicks", descending=True)["row_id"][0]


def of_each_kind(own, selection):
    return {
        "costly-targets": largest(judged_targets(own, selection)),
        "wasted-terms": largest(judged_terms(own, selection)),
        "costly-ads": largest(ads(own, selection)),
        "off-site": placements.judged(own, selection)["row_id"][0],
        "leaking-products": str(ads(own, selection).sort("clicks")["sku"][-1]),
        "bottom-quarter": "x",
    }


def test_each_kind_of_row_is_named_and_has_its_figures(own, selection, away):
    rows = away(21, done=True, **of_each_kind(own, selection))
    assert len(rows) == 6
    named = dict(zip(rows["finding"], rows["what"], strict=True))
    assert not any(name.isdigit() for name in named.values()), named
    told = rows.filter(rows["clicks_before"].is_not_null())
    assert len(told) == 5, "a category has no rows of its own in any report"
    assert (told["clicks_before"] > 0).all()
    decided = {OutcomeVerdict.KEPT.value, OutcomeVerdict.DID_NOT.value, OutcomeVerdict.TOO_EARLY.value}
    assert set(rows["verdict"]) <= decided


def test_what_is_young_is_too_early_until_a_day_and_what_is_kept_has_no_verdict(own, selection, away):
    kinds = of_each_kind(own, selection)
    young = away(3, done=True, **kinds)
    assert set(young["verdict"]) == {"too early"}
    since = own.newest_day(selection.account.id) - timedelta(days=3)
    assert set(young["until"]) == {since + timedelta(days=15 + selection.account.maturing_days)}
    kept = away(21, done=False, **kinds)
    assert set(kept["verdict"]) == {"no verdict"}
    assert set(kept["kind"]) == {by_hand.KEPT_KIND}


def test_the_page_says_what_there_is(ask):
    view = hand_pages.page(ask(window="last-14"))
    assert view.answer.bold == "Nothing was done by hand or kept on purpose yet."
