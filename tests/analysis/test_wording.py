"""Proposals in words: every reason and headline has its words, and every proposal says on what and why."""

import re
from pathlib import Path

import pytest

from nimbus_reef import core
from nimbus_reef.analysis.wording import change_words, headline_words, mark, reason_words, why_nothing, worded
from nimbus_reef.core.bids import BidMove, Held, TargetAdvice
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.projection import Projected, Range
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.proposals import EntityKey, Evidence, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.recommendations import Row, for_target
from nimbus_reef.formats.figures import Figures

EURO = Figures("en_IE", "EUR")
WORDS = {
    ReasonKey.AIM: (1.2, 0.28, 0.336, 0.42, 1.25, "", 0, 1.0, None, 0.75),
    ReasonKey.LOSES: (0.97, 0.4),
    ReasonKey.BOOST_AT: ("bid", 1.4, "1 2", "", "2026-11-27", "stock", 18, 22),
    ReasonKey.BROUGHT_BY: ("lamp", 2, "C", "G"),
    ReasonKey.CHILD_SHARES: ("GL-1", 0.66, 0.2, 812),
    ReasonKey.EVIDENCE_SAYS: ("too early to tell",),
    ReasonKey.KEPT_FROM_SOURCE: ("led strip", "C", "G", 1),
    ReasonKey.KEPT_IN: ("C · G", "oldest"),
    ReasonKey.OFF_SITE_DID: (80, 0, 12.0),
    ReasonKey.OWN_RULE: ("own rule: ACOS from 60 → pause",),
    ReasonKey.SET_BACK: ("2026-11-03",),
    ReasonKey.SETS_BASE: ("top_of_search", 0.1),
    ReasonKey.SHIFT_BESIDE: ("GL-2", "GL-3"),
    ReasonKey.SHIFT_TO: (120.0, "GL-2"),
    ReasonKey.TO_MEND: ("needs a fifth bullet",),
}
HEADLINES = {
    HeadlineKey.ADD_AD: ("GL-1", "C · G"),
    HeadlineKey.BUDGET: (20.0, 16.0),
    HeadlineKey.CATCH_ALL: (20,),
    HeadlineKey.PAUSE_ADS: ("GL-1", 2, "GL-2", 1),
    HeadlineKey.PROMOTE: (0.49, "C", "G", 0, 1),
    HeadlineKey.SOLVE: (0.6, 0.5, 28, "top_of_search", 0.83),
    HeadlineKey.TAKE_BUDGETS: (12.0, 1),
}
ONLY_OF_SEVERAL = {ReasonKey.CANNOT_SET_BACK, ReasonKey.STANDS_THERE}
"""Said of rows that are left out of an acceptance, never on one alone."""


@pytest.mark.parametrize("key", [key for key in ReasonKey if key not in ONLY_OF_SEVERAL])
def test_every_reason_has_words(key):
    said = reason_words(Reason(key, WORDS.get(key, (3.0, 2.0, 0.5, 1.2))), EURO)
    assert len(said) > 4
    assert key.value not in said or "_" not in key.value


@pytest.mark.parametrize("key", list(HeadlineKey))
def test_every_headline_has_words(key):
    said = headline_words(Headline(key, HEADLINES.get(key, (3.0, 2.0, 1.0))), EURO)
    assert said
    assert "_" not in said


def plainly(key, figures):
    return reason_words(Reason(key, figures), EURO).replace("\N{NO-BREAK SPACE}", " ")


def test_a_bid_is_said_in_one_sentence_from_its_worth_to_the_step():
    plain = (1.2, 0.28, 0.336, 0.42, 1.25, "", 0, 1.0, None, 0.75)
    assert plainly(ReasonKey.AIM, plain) == (
        "a click brings € 1.20 in sales. At 28 % it may cost € 0.34. You bid 1.25 for each 1.00 you pay, so the aim is"
        " € 0.42. This is half of the way from € 1.00"
    )
    peak = (1.2, 0.193, 0.232, 0.29, 2.0, "most", 1, None, 0.43, 0.75)
    assert plainly(ReasonKey.AIM, peak) == (
        "a click brings € 1.20 in sales. Profit peaks at 19 % (margin 43 %, clicks follow your bids by 0.75): it may"
        " cost € 0.23. You bid more than twice what you pay, counted as twice, your adjustments included, so the aim is"
        " € 0.29"
    )


@pytest.mark.parametrize("held", list(Held))
def test_every_reason_for_which_a_bid_stays_is_said_of_many_rows_too(held):
    row = Row(30, 60, 2, 48.0, 60.0, 4.0, 96.0, 30.0, 0.28, Verdict.TOO_EARLY, False, False, None)
    why = for_target(row, TargetAdvice(1.0, 1.0, 0.4, BidMove.NONE, held.value)).reasons[0]
    assert why_nothing(nothing(why.key)) != "see their evidence"


def nothing(why):
    return Proposal(EntityKey(Subject.TARGET), "1", Headline(HeadlineKey.LEAVE), reasons=(Reason(why),))


def test_every_reason_for_doing_nothing_is_said_of_many_rows_too():
    """What stands first where nothing is recommended: from the sources, so that a new one cannot be missed."""
    found = {"CANNOT_SET_BACK", "STANDS_THERE"}
    for file in [*Path(core.__file__).parent.glob("*.py"), *(Path(core.__file__).parents[1] / "analysis").glob("*.py")]:
        text = file.read_text(encoding="utf-8")
        for said in re.findall(r"(?:Move\.NONE, \(|_nothing\()(?:[^()]|\([^()]*\))*", text):
            found |= set(re.findall(r"ReasonKey\.([A-Z_]+)", said))
    assert len(found) > 14
    for name in found:
        assert why_nothing(nothing(ReasonKey[name])) != "see their evidence", name


BID = Change(0, Action.UPDATE, Entity.TARGET, "C", "bid", "0.50", "0.60", "G", "led strip", "exact")
PROMISE = Promise(("2026-10-01", "2026-10-30"), 60, 2, 30.0, 40.0, 3.0, 60.0, 20.0, 0.3, {})


def test_a_judged_row_says_its_fact_and_then_its_reasons():
    made = worded(
        Proposal(
            EntityKey(Subject.TARGET, "C", "G", "led strip", "exact"),
            "7",
            Headline(HeadlineKey.BID, (0.6, 0.5)),
            ((BID, PROMISE),),
            (Reason(ReasonKey.STEP_DOWN, (0.3,)), Reason(ReasonKey.NO_RAISE)),
            Reason(ReasonKey.CLICKS_BROUGHT, (60, 1)),
            Projected(Range(-9, -6, -3), Range(-4, -2, 0)),
            Evidence("above target", 60, 1, 30.0, 20.0),
            name="led strip",
            context=Reason(ReasonKey.IN_AD_GROUP, ("C", "G")),
        ),
        EURO,
    )
    assert (made.name, made.where, made.headline) == ("led strip", "C · G", "bid 0.60 → 0.50")
    assert made.reason.startswith("60 clicks brought 1 order. Limited to one step, −30")
    assert made.reason.endswith("no raise: it is above target in this period.")
    assert made.package[0][0].reason == made.reason
    assert "Per 30 days" in made.effect
    assert mark(made.proposal) == "above"


def test_changes_that_stand_for_others_have_reasons_of_their_own():
    negative = Change(
        0, Action.CREATE, Entity.NEGATIVE, "C", "state", "enabled", "", "G", "led strip", "negative_exact"
    )
    source = Reason(ReasonKey.KEPT_FROM_SOURCE, ("led strip", "D", "H", 0))
    made = worded(
        Proposal(
            EntityKey(Subject.TERM, "C", "G", "led strip"),
            "7",
            Headline(HeadlineKey.PROMOTE, (0.4, "D", "H", 0, 1)),
            ((BID, PROMISE), (negative, PROMISE)),
            (Reason(ReasonKey.WINS, (4, 0.2)),),
            sources=((1, source),),
        ),
        EURO,
    )
    first, second = (change.reason for change, _ in made.package)
    assert first.startswith("4 orders at 20.0")
    assert second == ("“led strip” gets an exact target in D · H. This negative stops it from being bought here too.")
    assert change_words(negative) == "negative exact: led strip in G"
    assert change_words(BID) == "led strip (exact · G): bid 0.60 → 0.50"
