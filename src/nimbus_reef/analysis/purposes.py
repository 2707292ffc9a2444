"""What campaigns are for, how old they are, and which are too young to be judged for what they are for (N49)."""

from __future__ import annotations

from typing import Final

import polars as pl

from nimbus_reef.analysis import paused_products
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import naming
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import labels
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import delivery_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

_KINDS: Final = ("campaign_daily", "placement_daily")
"""Reports that tell a campaign's first day with spend."""


def purpose(account: Account) -> pl.Expr:
    """The part of the campaign's name that says what it is for, by the account's pattern; null where none does."""
    pattern = naming.pattern(account.naming) if account.naming else None
    named = next((part for part in ("purpose", "goal") if pattern and part in pattern.parts), "")
    if pattern is None or not named:
        return pl.lit(None, pl.String).alias("purpose")

    def read(name: str) -> str | None:
        return (pattern.read(name) or {}).get(named)

    return pl.col("campaign").cast(pl.String).map_elements(read, return_dtype=pl.String).alias("purpose")


def by_hand(facts: Facts, account: Account) -> dict[str, str]:
    """The purposes that labels set, by campaign."""
    own = labels.of_account(facts.store, account.id).campaigns
    return {name: text for name, texts in own.items() for text in texts if text in labels.PURPOSES}


def set_apart(facts: Facts, selection: Selection) -> dict[str, str]:
    """Campaigns that launch, defend or test, by a label or by name, and which of these: told apart in findings."""
    account = selection.account
    names = setting_frames.campaign_settings(facts, account.id, selection.window).select("campaign")
    rows = names.with_columns(purpose(account)).select(pl.col("campaign").cast(pl.String), "purpose").rows()
    every = {name: named for name, named in rows if named} | by_hand(facts, account)
    return {name: named for name, named in every.items() if named in labels.PURPOSES[:3]}


def ages(facts: Facts, selection: Selection) -> pl.DataFrame:
    """campaign_id, age: days from the first loaded day with spend to the window's end."""
    last = selection.window.last
    known = _first_days(facts, selection.account).filter(pl.col("first") <= last)
    return known.select("campaign_id", age=(pl.lit(last) - pl.col("first")).dt.total_days() + 1)


def _first_days(facts: Facts, account: Account) -> pl.DataFrame:
    """campaign_id, first: the first loaded day with spend. Kept: all windows share it."""

    def make() -> pl.DataFrame:
        found = [pl.DataFrame(schema={"campaign_id": pl.UInt32, "day": pl.Date, "spend": pl.Int64})]
        for kind in _KINDS:
            spans = [span.days for span in facts.spans(account.id).get(kind, [])]
            if spans:
                days = Window(min(each.first for each in spans), max(each.last for each in spans))
                rows = delivery_frames.campaign_spend_days(facts, account.id, days, kind)
                found.append(rows.select("campaign_id", "day", "spend"))
        spent = pl.concat(found).filter(pl.col("spend") > 0)
        return spent.group_by("campaign_id").agg(first=pl.col("day").min()).sort("campaign_id")

    return facts.kept("first days", account.id, make)


def waiting(facts: Facts, selection: Selection) -> dict[str, str]:
    """Campaigns too young to be judged for their purpose, and why: “launch, day 12 of 30”."""
    account = selection.account
    least = account.settings.days_of_purposes
    if not least:
        return {}
    names = setting_frames.campaign_settings(facts, account.id, selection.window).select("campaign_id", "campaign")
    rows = names.with_columns(purpose(account)).join(ages(facts, selection), on="campaign_id")
    hand = dict(account.purposes)
    found = {}
    for name, named, age in rows.select(pl.col("campaign").cast(pl.String), "purpose", "age").rows():
        what = hand.get(name, named)
        if what in least and age < least[what]:
            found[name] = f"{what}, day {age} of {least[what]}"
    return found


_BETWEEN: Final = "\x1f"


def held_back(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """
    Judged rows of campaigns; of those that are too young for their purpose none is above target yet, nor of targets and
    search terms in ad groups that a product was paused in lately. waits: why, where any has to wait.
    """
    found = waiting(facts, selection)
    paused = paused_products.waiting(facts, selection) if {"ad_group", "target"} <= set(rows.columns) else {}
    if not found and not paused:
        return rows
    waits = pl.col("campaign").cast(pl.String).replace_strict(found, default=None, return_dtype=pl.String)
    if paused:
        place = pl.concat_str(pl.col("campaign", "ad_group").cast(pl.String), separator=_BETWEEN)
        known = {_BETWEEN.join(names): why for names, why in paused.items()}
        waits = pl.coalesce(waits, place.replace_strict(known, default=None, return_dtype=pl.String))
    over = pl.col("verdict").cast(pl.String).is_in([Verdict.ABOVE.value, Verdict.LIKELY_ABOVE.value])
    early = pl.when(waits.is_not_null() & over).then(pl.lit(Verdict.TOO_EARLY.value)).otherwise(pl.col("verdict"))
    return rows.with_columns(early.cast(rows.schema["verdict"]).alias("verdict"), waits=waits)
