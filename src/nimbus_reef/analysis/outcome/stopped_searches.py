"""Searches that pauses and negatives stopped: which these were, and which targets they went to."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from nimbus_reef.analysis.outcome import measured
from nimbus_reef.analysis.outcome.kinds import OutcomeKind, kind_of
from nimbus_reef.analysis.outcome.measured import AccountMoves
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import words
from nimbus_reef.core.changes import Change, Entity
from nimbus_reef.core.model import MatchType
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.sendings import CarriedOut
from nimbus_reef.store.reading.facts import Facts


@dataclass
class StoppedSearches:
    """Finds them among carried-out changes. once: keeps by a key what is made for several changes."""

    facts: Facts
    selection: Selection
    where: AccountMoves
    done: Sequence[CarriedOut]
    once: Callable[[tuple[Any, ...], Callable[[], Any]], Any]

    def shut_out(self, day: date, before: Window) -> Mapping[int, tuple[float, float]]:
        """
        Clicks and spend before, by target, of searches that a negative of the same day took away: what became of those
        is the negative's outcome, and a bid is judged on the others.
        """

        def make() -> Mapping[int, tuple[float, float]]:
            rows = self.on(day, before, pauses=False)
            sums = rows.group_by("target_id").agg(pl.col("clicks", "spend").sum())
            return {row[0]: (row[1], row[2]) for row in sums.rows()}

        found: Mapping[int, tuple[float, float]] = self.once(("shut out", day, before), make)
        return found

    def on(self, day: date, before: Window, *, pauses: bool = True) -> pl.DataFrame:
        """Searches before, by target, that any pause or negative of a day stopped; each once."""

        def make() -> pl.DataFrame:
            was = measured.searches(self.facts, self.selection, before)
            parts = [was.clear()]
            for each in self.done:
                kind = kind_of(each.change)
                if kind.stops and each.earliest == day and (pauses or kind is OutcomeKind.NEGATIVES):
                    parts.append(self.of(each.change, was))
            return pl.concat(parts).unique(["target_id", "normal_id", "term"])

        found: pl.DataFrame = self.once(("stopped", day, before, pauses), make)
        return found

    def receivers(self, before: Window, after: Window) -> frozenset[int]:
        """
        Targets that the searches of something stopped came to, or may have: what came back to them is no season, so
        they are no control.
        """
        days = {each.earliest for each in self.done if kind_of(each.change).stops}
        parts = [self.on(day, before) for day in sorted(days) if before.first <= day <= after.last]
        if not parts:
            return frozenset()
        terms = pl.concat(parts)["normal_id"].unique().implode()
        sides = [measured.searches(self.facts, self.selection, window) for window in (before, after)]
        found = pl.concat(sides).filter(pl.col("normal_id").is_in(terms))["target_id"].unique()
        return frozenset(found.to_list())

    def of(self, change: Change, was: pl.DataFrame) -> pl.DataFrame:
        """What was stopped, by search: all of a target's, or those of a negative's place that it shuts out."""
        if change.entity is not Entity.NEGATIVE:
            return was.filter(pl.col("target_id") == (self.where.id_of(change) or 0))
        names = (change.campaign, change.ad_group) if change.ad_group else (change.campaign,)
        here = was.filter(pl.col("target_id").is_in(self.where.within(names)))
        phrase = change.match_type == MatchType.NEGATIVE_PHRASE.value
        hit = {term for term in here["term"].unique().to_list() if words.stops(change.target, term, phrase=phrase)}
        return here.filter(pl.col("term").is_in(list(hit)))
