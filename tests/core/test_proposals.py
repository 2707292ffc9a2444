"""One type for what is proposed anywhere: what it counts as, what it stops, what it asks about."""

from dataclasses import replace

import pytest

from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.projection import Projected, Range
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.proposals import EntityKey, Evidence, Proposal, Stopped
from nimbus_reef.core.reasons import Headline, HeadlineKey

PROMISE = Promise(("2026-10-01", "2026-10-30"), 60, 2, 30.0, 40.0, 3.0, 60.0, 20.0, 0.3, {})
EVIDENCE = Evidence("above target", 60, 0, 30.0, 0.0)
PAUSE = Change(0, Action.UPDATE, Entity.TARGET, "C", "state", "paused", "enabled", "G", "lamp", "exact")
BID = replace(PAUSE, field="bid", old_value="0.50", new_value="0.60")
NEGATIVE = replace(
    PAUSE, action=Action.CREATE, entity=Entity.NEGATIVE, new_value="enabled", match_type="negative_exact"
)


def proposal(*changes, kind=Subject.TARGET, **more):
    package = tuple((change, PROMISE) for change in changes)
    return Proposal(EntityKey(kind, "C", "G", "lamp"), "7", Headline(HeadlineKey.PAUSE), package, **more)


@pytest.mark.parametrize(
    ("changes", "kind"),
    [
        ((PAUSE,), "pause"),
        ((replace(PAUSE, new_value="enabled", old_value="paused"),), "start"),
        ((BID,), "raise"),
        ((replace(BID, new_value="0.40"),), "cut"),
        ((NEGATIVE,), "negative"),
        ((replace(BID, action=Action.CREATE, old_value=""),), "new target"),
        ((replace(PAUSE, action=Action.CREATE, entity=Entity.PRODUCT_AD),), "new product ad"),
        ((PAUSE, BID), "package"),
        ((PAUSE, replace(PAUSE, target="desk lamp")), "pause"),
    ],
)
def test_it_is_counted_as_what_its_changes_are(changes, kind):
    assert proposal(*changes).kind == kind


def test_only_a_pause_or_negative_of_something_judged_ends_it():
    assert proposal(PAUSE, evidence=EVIDENCE).ends
    assert not proposal(BID, evidence=EVIDENCE).ends
    assert not proposal(PAUSE).ends
    assert not proposal(PAUSE, kind=Subject.AD, evidence=EVIDENCE).ends


def test_what_else_it_stops_is_part_of_its_whole_effect():
    effect = Projected(Range(-3, -2, -1), Range(0, 0, 0))
    stopped = Stopped("8", "lamps", 4, 1, 2_000_000, 9_000_000, Projected(Range(-2, -2, -2), Range(-9, -9, -9)))
    alone = proposal(NEGATIVE, effect=effect)
    assert alone.whole == effect
    whole = replace(alone, stops=(stopped,)).whole
    assert (whole.spend.middle, whole.sales.middle) == (-4, -9)


def test_what_is_merely_possible_is_left_out_where_many_are_accepted():
    assert proposal(PAUSE).advised().package
    assert not proposal(PAUSE, optional=True).advised().package


def test_a_raise_beyond_the_settings_is_asked_about():
    assert proposal(BID).is_beyond(0.1, 1000)
    assert not proposal(BID).is_beyond(0.25, 1000)
    assert not proposal(PAUSE).is_beyond(0.0, 0.0)
