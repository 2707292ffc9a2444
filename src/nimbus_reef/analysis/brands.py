"""Whose brand judged rows name: the account's own, a rival's, or nobody's."""

from __future__ import annotations

from typing import Final

import polars as pl

from nimbus_reef.analysis.look import Look
from nimbus_reef.core import words
from nimbus_reef.core.checks import Subject
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

OWN: Final = "own"
RIVAL: Final = "a rival’s"
NEITHER: Final = "none"
_TEXT: Final = {Subject.TARGET: "target", Subject.TERM: "term", Subject.PHRASE: "phrase"}


def own_brand(facts: Facts, account: Account) -> frozenset[str]:
    """Words of the account's own brands: its name, those of the catalog, and what its settings add."""
    told = product_frames.brand_words(facts, account.id, account.brand)
    return told | {word for text in account.settings.own_words for word in words.words(text)}


def rivals(facts: Facts, account: Account) -> frozenset[tuple[str, ...]]:
    """
    Names of rivals' brands, as words that stand in a text together: those of the rivals report, and what its settings
    add.
    """
    named = {*account.settings.rival_words, *product_frames.rival_brands(facts, account.id)}
    return frozenset(name for each in named if (name := words.words(each)))


def brand_of(facts: Facts, look: Look, text: str) -> str:
    """Whose brand a text names: see `with_brand`."""
    return str(with_brand(facts, look, Subject.TERM, pl.DataFrame({"term": [text]}))["brand"][0])


def with_brand(facts: Facts, look: Look, subject: Subject, rows: pl.DataFrame) -> pl.DataFrame:
    """
    Judged rows with `brand`: OWN where a word of them is one of the account's brands, else RIVAL where a rival is
    named, else NEITHER.
    """
    text = rows[_TEXT[subject]].cast(pl.String)
    whose = words.naming(text, own_brand(facts, look.account), rivals(facts, look.account))
    told = pl.when(whose["own"]).then(pl.lit(OWN)).when(whose["rival"]).then(pl.lit(RIVAL))
    return rows.with_columns(whose.select(brand=told.otherwise(pl.lit(NEITHER))))
