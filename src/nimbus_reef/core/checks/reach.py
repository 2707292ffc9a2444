"""Checks on what could be won: phrases that nothing of the account bids on."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, register

PHRASES = register(
    Check(
        key="phrases-to-buy",
        area=AreaKey.REACH,
        subject=Subject.NEW_PHRASE,
        reads=Reading.POOL,
        money=Money.MISSED,
        title="Phrases to bid on that you never bought",
        question="Which searches would pay that no keyword of yours covers?",
        to_do="add an exact keyword",
        condition=pl.lit(True),
        accepts=True,
        see_all=("status:is:proposed",),
        view="phrases",
        sentence=lambda row: (
            "pays with {pays:rate 0} at the usual price; bid {bid:money 2} for about {expected_clicks:count} clicks"
        ),
    )
)
