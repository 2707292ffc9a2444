"""Which judged rows the plan changes already: by the thing that is changed, not by the page it was changed on."""

from dataclasses import replace
from datetime import datetime

import polars as pl

from nimbus_reef.analysis.planned_rows import NO, YES, marked
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.promises import Promise
from nimbus_reef.store.people.plans import Planned

ROWS = pl.DataFrame(
    {
        "row_id": ["1", "2"],
        "campaign": ["C", "C"],
        "ad_group": ["G", "G"],
        "target": ["a", "b"],
        "match_type": ["exact", "exact"],
        "term": ["a x", "b x"],
    }
)
BID = Change(0, Action.UPDATE, Entity.TARGET, "C", "bid", "0.50", "1.00", "G", "b", "exact")
NEGATIVE = Change(0, Action.CREATE, Entity.NEGATIVE, "C", "state", "enabled", "", "G", "a x", "negative_exact")
PROMISE = Promise(
    ("2026-10-01", "2026-10-30"), 0, 0, 0, 0, 1, 1, 1, 0.3, {"spend": (0, 0, 0), "sales": (0, 0, 0)}, "placements", "9"
)


def planned(*changes, promise=PROMISE):
    return [Planned(n, change, promise, datetime(2026, 11, 1)) for n, change in enumerate(changes)]


def test_a_target_is_known_by_its_names_wherever_it_was_planned():
    assert marked(ROWS, Subject.TARGET, planned(BID, NEGATIVE))["planned"].to_list() == [NO, YES]
    assert marked(ROWS, Subject.TARGET, [])["planned"].to_list() == [NO, NO]


def test_a_term_is_known_by_its_negative_or_by_what_was_planned_of_it():
    assert marked(ROWS, Subject.TERM, planned(BID, NEGATIVE))["planned"].to_list() == [YES, NO]
    own = planned(replace(BID, field="state", new_value="paused"), promise=replace(PROMISE, view="terms", row_id="2"))
    assert marked(ROWS, Subject.TERM, own)["planned"].to_list() == [NO, YES]
