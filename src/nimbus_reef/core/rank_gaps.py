"""Where rivals rank and we do not: which fights are worth it, and whether the listing or ads come first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core.cases import first_that_holds


@dataclass(frozen=True, slots=True)
class BattleLimits:
    """
    Which gaps are worth a fight. held: at this own rank or better a phrase is left alone; behind: from this own rank on
    we are behind; rivals: the rank that rivals must hold for it.
    """

    held: int = 10
    behind: int = 20
    rivals: int = 10


STANDARD: Final = BattleLimits()


class Gap(StrEnum):
    """How we stand on a phrase against the rivals."""

    HELD = "we hold it"
    NEAR = "near the first page"
    BEHIND = "far behind"
    ABSENT = "absent"
    OPEN = "no rival there"


class Title(StrEnum):
    """Whether a phrase stands in its product's title."""

    EXACT = "as it is"
    SCATTERED = "all its words"
    PART = "some of its words"
    NONE = "none of its words"


class Fight(StrEnum):
    """What would be done first."""

    BOTH = "add the words to the title, and bid"
    LISTING = "add the words to the title"
    KEYWORD = "bid on it"
    BOUGHT = "bought already: look at its bid"
    LEAVE = "leave it"


def gap(limits: BattleLimits = STANDARD) -> pl.Expr:
    """
    The gap of each phrase over own_rank and best_rival (organic ranks, null for none): held, near, far behind or absent
    where a rival holds its rank, else nobody there to fight.
    """
    own, theirs = pl.col("own_rank"), pl.col("best_rival")
    return (
        pl.when(own <= limits.held)
        .then(pl.lit(Gap.HELD.value))
        .when(theirs.is_null() | (theirs > limits.rivals))
        .then(pl.lit(Gap.OPEN.value))
        .when(own.is_null())
        .then(pl.lit(Gap.ABSENT.value))
        .when(own >= limits.behind)
        .then(pl.lit(Gap.BEHIND.value))
        .otherwise(pl.lit(Gap.NEAR.value))
    )


def fight() -> pl.Expr:
    """
    What comes first on each phrase, over gap, missing (words its title lacks), bought and would_pay (an exact keyword
    would): the listing where words are missing, and a keyword where it would pay.
    """
    worth = pl.col("gap").is_in([Gap.BEHIND.value, Gap.ABSENT.value, Gap.NEAR.value])
    lacks = pl.col("missing") != ""
    cases = (
        (Fight.LEAVE, ~worth),
        (Fight.BOTH, lacks & pl.col("would_pay")),
        (Fight.LISTING, lacks),
        (Fight.KEYWORD, pl.col("would_pay")),
        (Fight.BOUGHT, pl.col("bought")),
    )
    return first_that_holds(cases, Fight.LEAVE)


def titled(phrase: Sequence[str], title: Sequence[str]) -> tuple[Title, str]:
    """How a phrase stands in a title, and the words that the title lacks; both as words in their order, singular."""
    missing = [word for word in dict.fromkeys(phrase) if word not in title]
    if not missing:
        together = f" {' '.join(phrase)} " in f" {' '.join(title)} "
        return (Title.EXACT if together else Title.SCATTERED), ""
    return (Title.NONE if len(missing) == len(dict.fromkeys(phrase)) else Title.PART), " ".join(missing)
