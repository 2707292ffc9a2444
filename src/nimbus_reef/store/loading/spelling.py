"""The words of search terms, kept beside their normal forms from the intake on."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, text

from nimbus_reef.core import words
from nimbus_reef.store.record import bulk
from nimbus_reef.store.record.models import MAX_WORD, word

_AT_ONCE: Final = 50_000


def spelt(connection: Connection, normal: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    """The ids of the words of normal forms, as they are kept: id, words. normal: id, text."""
    lists = pl.DataFrame({"id": normal["id"], "text": words.spelling(normal["text"])})
    tokens = lists.explode("text").with_columns(pl.col("text").str.head(MAX_WORD))
    ids = bulk.ensure_ids(connection, word, ["text"], tokens.select("text").drop_nulls(), scratch)
    named = tokens.join(ids.rename({"id": "word_id"}), on="text", how="left", maintain_order="left")
    return named.group_by("id", maintain_order=True).agg(
        pl.col("word_id").drop_nulls().cast(pl.String).str.join(",").fill_null("").alias("words")
    )


def fill_in(connection: Connection) -> None:
    """Spells the normal forms that are held without their words; what is cut off is gone on with."""
    waiting = text("SELECT id, text FROM phrase WHERE normal_id = id AND words IS NULL LIMIT :most")
    with tempfile.TemporaryDirectory() as folder:
        scratch = Path(folder)
        while rows := connection.execute(waiting, {"most": _AT_ONCE}).fetchall():
            held = pl.DataFrame(rows, schema={"id": pl.UInt32, "text": pl.String}, orient="row")
            connection.exec_driver_sql("DROP TEMPORARY TABLE IF EXISTS `spelt`")
            connection.exec_driver_sql(
                "CREATE TEMPORARY TABLE `spelt` (id INT UNSIGNED PRIMARY KEY, "
                "words TEXT CHARACTER SET ascii COLLATE ascii_bin NOT NULL)"
            )
            bulk.load(connection, "spelt", spelt(connection, held, scratch), scratch)
            connection.exec_driver_sql("UPDATE phrase p JOIN `spelt` s USING (id) SET p.words = s.words")
            connection.exec_driver_sql("DROP TEMPORARY TABLE `spelt`")
