"""The words of search terms that were kept before their words were."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, text

from nimbus_reef.store.loading.id_allocator import IdAllocator
from nimbus_reef.store.record import bulk
from nimbus_reef.store.record.dictionary import Dictionary

_AT_ONCE: Final = 50_000


def fill_in(connection: Connection) -> None:
    """Spells the normal forms that are held without their words; what is cut off is gone on with."""
    waiting = text("SELECT id, text FROM phrase WHERE normal_id = id AND words IS NULL LIMIT :most")
    with tempfile.TemporaryDirectory() as folder:
        scratch = Path(folder)
        while rows := connection.execute(waiting, {"most": _AT_ONCE}).fetchall():
            frame = pl.DataFrame(rows, schema={"id": pl.UInt32, "text": pl.String}, orient="row")
            connection.exec_driver_sql("DROP TEMPORARY TABLE IF EXISTS `spelt`")
            connection.exec_driver_sql(
                "CREATE TEMPORARY TABLE `spelt` (id INT UNSIGNED PRIMARY KEY, "
                "words TEXT CHARACTER SET ascii COLLATE ascii_bin NOT NULL)"
            )
            allocator = IdAllocator(connection, Dictionary(scratch), scratch, making=True)
            spelt = frame.select("id", words=allocator.words(frame["text"]))
            bulk.load(connection, "spelt", spelt, scratch)
            connection.exec_driver_sql("UPDATE phrase p JOIN `spelt` s USING (id) SET p.words = s.words")
            connection.exec_driver_sql("DROP TEMPORARY TABLE `spelt`")
