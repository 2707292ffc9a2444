"""A change and its promise, as tests of the plan need one: a keyword's bid, and nothing at all expected of it."""

from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.promises import Promise

PROMISE = Promise(
    window=("2026-10-01", "2026-10-30"),
    clicks=0,
    orders=0,
    spend=0,
    sales=0,
    a=1,
    b=1,
    aov=1,
    target_acos=0.3,
    view="targets",
    row_id="1",
    projected={"spend": (0, 0, 0), "sales": (0, 0, 0)},
)
BID = Change(
    row=0,
    action=Action.UPDATE,
    entity=Entity.TARGET,
    campaign="C",
    ad_group="G",
    target="t",
    match_type="broad",
    field="bid",
    old_value="1.00",
    new_value="0.70",
)
