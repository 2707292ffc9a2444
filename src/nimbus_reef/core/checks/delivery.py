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
        title="Money shown outside the marketplace that does not come back",
        question="Which campaigns pay for off-site clicks above target, and are not limited?",
        to_do="limit off-site",
        condition=(pl.col("verdict") == Verdict.COSTLY.value) & _OFF_SITE & ~pl.col("limited"),
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
        title="Placements that cost more than they may",
        question="In which placements do campaigns miss the target ACOS after a fair test?",
        to_do="set the base bid and the raises together",
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
        title="Budgets that run dry before shoppers buy",
        question="Which campaigns have no budget left in hours in which they would sell?",
        to_do="move budget from campaigns that never spend theirs",
        condition=pl.col("runs_dry") & (pl.col("stake") > 0),
        view="budgets",
        drawer=False,
        sentence=lambda _: (
            "dry on {dry_days} of {held_days} days, from about {from_hour} h; {low:money} to {high:money} of sales a"
            " month"
        ),
    )
)
