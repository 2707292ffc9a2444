"""What a change is held to: by its kind, compared with what, from which day on."""

from dataclasses import replace

import pytest

from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.promises import Comparison, Promise, PromiseKind, typed

BID = Change(1, Action.UPDATE, Entity.TARGET, "C", "bid", "0.50", "0.60", "G", "lamp", "exact")
PROMISED = Promise(("2026-10-01", "2026-10-30"), 60, 2, 30.0, 40.0, 3.0, 60.0, 20.0, 0.3, {})


@pytest.mark.parametrize(
    ("change", "kind", "from_day"),
    [
        (BID, PromiseKind.PROFIT, 7),
        (replace(BID, field="state", new_value="paused"), PromiseKind.SPEND_STAYS_AWAY, 14),
        (replace(BID, action=Action.CREATE, old_value=""), PromiseKind.PAYS, 14),
        (replace(BID, entity=Entity.NEGATIVE, field="state", new_value="enabled"), PromiseKind.SPEND_STAYS_AWAY, 14),
        (replace(BID, entity=Entity.CAMPAIGN, field="name", new_value="New"), PromiseKind.NOTHING, 0),
    ],
)
def test_a_promise_says_what_its_change_is_held_to_and_when(change, kind, from_day):
    told = typed(change, PROMISED)
    assert (told.kind, told.after[0]) == (kind, from_day)
    assert (told.against is Comparison.NOTHING) == (kind is PromiseKind.NOTHING)
