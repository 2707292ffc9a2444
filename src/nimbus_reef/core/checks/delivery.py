"""Checks on where and when ads run: off-site traffic, placements, budgets that run dry."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, register
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.model import Placement, Verdict

_OFF_SITE = pl.col("placement") == Placement.OFF_SITE.value

OFF_SITE = register(
    Check(
        key="off-site",
        area=AreaKey.DELIVERY,
        subject=Subject.PLACEMENT,
        reads=Reading.PLACEMENTS,
        money=Money.OVERSPEND,
        title="Off-site spend without return",
        question="Which campaigns are above target off-site and not limited?",
        to_do="limit off-site",
        condition=(pl.col("verdict") == Verdict.ABOVE.value) & _OFF_SITE & ~pl.col("limited"),
        accepts=True,
        view="placements",
    )
)

COSTLY_PLACEMENTS = register(
    Check(
        key="costly-placements",
        area=AreaKey.DELIVERY,
        subject=Subject.PLACEMENT,
        reads=Reading.PLACEMENTS,
        money=Money.OVERSPEND,
        title="Placements above target ACOS",
        question="In which placements do campaigns miss target ACOS after a fair test?",
        to_do="set base bid and adjustments together",
        condition=flagged() & pl.col("own_test") & ~_OFF_SITE,
        accepts=True,
        view="placements",
    )
)

DRY_BUDGETS = register(
    Check(
        key="dry-budgets",
        area=AreaKey.DELIVERY,
        subject=Subject.CAMPAIGN,
        reads=Reading.BUDGETS,
        money=Money.MISSED,
        title="Campaigns out of budget during selling hours",
        question="Which campaigns have no budget left in hours when they would sell?",
        to_do="move budget from campaigns that never use theirs",
        condition=pl.col("runs_dry") & (pl.col("stake") > 0),
        view="budgets",
        drawer=False,
        sentence=lambda _: (
            "out of budget on {dry_days} of {held_days} days, from about {from_hour} h; misses {low:money} to"
            " {high:money} of sales"
        ),
    )
)
