"""Whose brand judged rows name: the account's own, a rival's, or nobody's."""

from __future__ import annotations

from typing import Final

import polars as pl

from nimbus_reef.analysis.selection import Selection
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
    names = product_frames.brand_words(facts, account.id, account.brand)
    return names | {word for text in account.settings.own_words for word in words.words(text)}


def own_names(facts: Facts, account: Account) -> frozenset[tuple[str, ...]]:
    """The same brands as words that stand in a text together."""
    named = {account.brand, *product_frames.catalog(facts, account.id)["brand"].cast(pl.String).drop_nulls()}
    return frozenset(name for each in (*named, *account.settings.own_words) if (name := words.words(each)))


def rivals(facts: Facts, account: Account) -> frozenset[tuple[str, ...]]:
    """
    Names of rivals' brands, as words that stand in a text together: those of the rivals report, and what its settings
    add.
    """
    named = {*account.settings.rival_words, *product_frames.rival_brands(facts, account.id)}
    return frozenset(name for each in named if (name := words.words(each)))


def brand_of(facts: Facts, selection: Selection, text: str) -> str:
    """Whose brand a text names: see `with_brand`."""
    return str(with_brand(facts, selection, Subject.TERM, pl.DataFrame({"term": [text]}))["brand"][0])


def with_brand(facts: Facts, selection: Selection, subject: Subject, rows: pl.DataFrame) -> pl.DataFrame:
    """
    Judged rows with `brand`: OWN where a word of them is one of the account's brands, else RIVAL where a rival is
    named, else NEITHER.
    """
    text = rows[_TEXT[subject]].cast(pl.String)
    whose = words.naming(text, own_brand(facts, selection.account), rivals(facts, selection.account))
    chained_then = pl.when(whose["own"]).then(pl.lit(OWN)).when(whose["rival"]).then(pl.lit(RIVAL))
    return rows.with_columns(whose.select(brand=chained_then.otherwise(pl.lit(NEITHER))))
