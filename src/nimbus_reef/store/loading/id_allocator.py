"""
The id allocator gives keys their ids: it looks them up, and in a transaction of its own makes those
that nobody has.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Final, TypeVar

import polars as pl
from sqlalchemy import Connection, Table, func, select

from nimbus_reef.core.words import normal_forms, spelling
from nimbus_reef.store.record import bulk, locks
from nimbus_reef.store.record.dictionary import KEYS, Dictionary
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import MAX_PHRASE, MAX_WORD, phrase, word

T = TypeVar("T")
_NAMES: Final = "names"


class IdAllocator:
    """
    Ids for one piece of work. making: keys that nobody has get new ids; else they stay null. settled: whether all that
    is known is as it was found. seen: what is known of each table by now.

    Ids are given here, not by the database: the next after the newest. Whoever makes some has the turn, so that ids are
    committed in their order (`record.dictionary` counts on it).
    """

    def __init__(self, connection: Connection, dictionary: Dictionary, scratch: Path, *, making: bool) -> None:
        self.connection, self.scratch, self.making = connection, scratch, making
        self._dictionary = dictionary
        self.seen: dict[Table, pl.DataFrame] = {}
        self.settled = True

    def _known(self, table: Table) -> pl.DataFrame:
        if table not in self.seen:
            self.seen[table] = self._dictionary.of(self.connection, table)
        return self.seen[table]

    def ids(self, table: Table, wanted: pl.DataFrame) -> pl.DataFrame:
        """The distinct keys of `wanted` with their `id`."""
        keys = list(KEYS[table.name])
        distinct = wanted.select(keys).unique(maintain_order=True)
        found = _found(distinct, self._known(table), keys)
        if not self.making or not found["id"].null_count():
            return found
        self._add(table, self.numbered(table, found.filter(pl.col("id").is_null()).select(keys)))
        return _found(distinct, self._known(table), keys)

    def _add(self, table: Table, rows: pl.DataFrame, computed: str = "") -> None:
        known = self._known(table)
        bulk.load(self.connection, table.name, rows, self.scratch, computed=computed)
        self.seen[table] = pl.concat([known, rows.select(known.columns)])

    def numbered(self, table: Table, rows: pl.DataFrame) -> pl.DataFrame:
        """Rows with the ids that they would get, beginning after the newest."""
        newest = self.connection.execute(select(func.coalesce(func.max(table.c.id), 0))).scalar_one()
        return rows.select(pl.int_range(newest + 1, newest + 1 + pl.len(), dtype=pl.UInt32).alias("id"), pl.all())

    def phrases(self, texts: pl.Series) -> pl.DataFrame:
        """text, id of every distinct text; each new one is linked to its normal form."""
        distinct = texts.drop_nulls().unique(maintain_order=True).to_frame("text")
        found = _found(distinct, self._known(phrase), ["text"])
        if not self.making or not found["id"].null_count():
            return found
        self._add_phrases(found.filter(pl.col("id").is_null())["text"])
        return _found(distinct, self._known(phrase), ["text"])

    def _add_phrases(self, texts: pl.Series) -> None:
        # A normal form can be longer than its text; terms as long as that are alike in their beginning.
        new = pl.DataFrame({"text": texts, "normal": normal_forms(texts).str.head(MAX_PHRASE)})
        # Normal forms come first, whose ids the others refer to; one that nobody has is a phrase too.
        normals = _found(new.select(text="normal").unique(maintain_order=True), self._known(phrase), ["text"])
        selves = normals.filter(pl.col("id").is_null()).select("text")
        selves = self.numbered(phrase, selves.with_columns(words=self.words(selves["text"])))
        self._add(phrase, selves.with_columns(normal_id="id"), _DIGEST)
        others = new.join(selves, on="text", how="anti", maintain_order="left")
        links = _found(others.select(text="normal").unique(), self._known(phrase), ["text"])
        links = links.rename({"text": "normal", "id": "normal_id"})
        linked = others.join(links, on="normal", maintain_order="left").select("text", "normal_id")
        self._add(phrase, self.numbered(phrase, linked), _DIGEST)

    def words(self, normal: pl.Series) -> pl.Series:
        """The ids of the words of normal forms as they are kept: “12,7,99”."""
        tokens = (
            pl.DataFrame({"text": spelling(normal)})
            .with_row_index("at")
            .explode("text")
            .with_columns(pl.col("text").str.head(MAX_WORD))
        )
        ids = self.ids(word, tokens.select("text").drop_nulls())
        return (
            tokens.join(ids, on="text", how="left", maintain_order="left")
            .group_by("at", maintain_order=True)
            .agg(pl.col("id").drop_nulls().cast(pl.String).str.join(",").fill_null("").alias("words"))["words"]
        )


_DIGEST: Final = "digest = MD5(text)"
"""What a text is found by in the database: it may be longer than an index there can hold."""


def _found(wanted: pl.DataFrame, known: pl.DataFrame, keys: list[str]) -> pl.DataFrame:
    """Each of the wanted keys with its id, in their order; null where it is not known."""
    few = known.join(wanted, on=keys, how="semi")
    return wanted.join(few, on=keys, how="left", maintain_order="left")


def with_turn(store: Store, work: Callable[[IdAllocator], T]) -> T:
    """Runs `work` with a allocator that makes what is missing, in a transaction of its own, one after the other."""

    def alone(connection: Connection) -> tuple[T, IdAllocator]:
        locks.take(connection, locks.NO_ACCOUNT, _NAMES)
        allocator = IdAllocator(connection, store.dictionary, store.scratch, making=True)
        return work(allocator), allocator

    done, allocator = store.transact(alone)
    store.dictionary.adopt(allocator.seen)
    return done
