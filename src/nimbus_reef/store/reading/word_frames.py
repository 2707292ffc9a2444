"""The words that an account's search terms are made of, as they were kept."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core import words
from nimbus_reef.core.cohorts import Spelling
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts


def tokens(facts: Facts, account_id: int) -> pl.DataFrame:
    """The words of every search term of the account, one under the other in their order: normal_id, word_id."""

    def make() -> pl.DataFrame:
        return (
            _normal_forms(facts, account_id)
            .select("normal_id", word_id=pl.col("words").str.split(","))
            .explode("word_id")
            .with_columns(pl.col("word_id").cast(pl.UInt32, strict=False))
            .drop_nulls()
        )

    return facts.kept("tokens", account_id, make)


def vocabulary(facts: Facts, account_id: int) -> pl.DataFrame:
    """The words of the account's search terms: word_id, word."""

    def make() -> pl.DataFrame:
        used = tokens(facts, account_id).select(pl.col("word_id").unique())
        return facts.query("SELECT id AS word_id, text AS word FROM word").join(used, on="word_id", how="semi")

    return facts.kept("vocabulary", account_id, make)


def spelling(facts: Facts, account_id: int) -> Spelling:
    """What the fit takes of it: each word of a term once, ids of items left out."""

    def make() -> Spelling:
        shapes = product_frames.item_shapes(facts, account_id)
        # Few terms are built like an id at all; only those are looked at one by one.
        alike = _normal_forms(facts, account_id).filter(pl.col("text").str.contains(r"^[a-z0-9]*\d[a-z0-9]*$"))
        ids = alike.filter(
            pl.Series([words.item_shape(each) in shapes for each in alike["text"].to_list()], dtype=pl.Boolean)
        )
        pairs = tokens(facts, account_id).unique().join(ids, on="normal_id", how="anti")
        return Spelling(pairs.sort("normal_id", "word_id"), vocabulary(facts, account_id))

    return facts.kept("spelling", account_id, make)


def _normal_forms(facts: Facts, account_id: int) -> pl.DataFrame:
    return facts.query(
        "SELECT n.id AS normal_id, n.text, n.words FROM phrase n WHERE n.id IN ("
        "SELECT p.normal_id FROM campaign c JOIN ad_group g ON g.campaign_id = c.id "
        "JOIN target t ON t.ad_group_id = g.id JOIN target_term w ON w.target_id = t.id "
        "JOIN phrase p ON p.id = w.phrase_id WHERE c.account_id = :account) AND n.words IS NOT NULL",
        account=account_id,
    )
