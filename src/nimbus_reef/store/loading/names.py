"""Names in report rows to integer keys, one level of the hierarchy after the other."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, Table, select, update

from nimbus_reef.core.words import normal_form
from nimbus_reef.store.loading import spelling
from nimbus_reef.store.record import bulk
from nimbus_reef.store.record.models import (
    KEYS_OF,
    MAX_PHRASE,
    ad_group,
    campaign,
    phrase,
    product,
    product_ad,
    target,
    target_term,
)

WHOLE_CAMPAIGN: Final = ""
"""Name of the ad group that stands for the whole campaign (campaign-wide negatives)."""


def with_ids(
    connection: Connection, account_id: int, kind: str, rows: pl.DataFrame, scratch: Path
) -> pl.DataFrame:
    """Adds the key column of the kind's fact table, and campaign_id where rows have one."""
    # A report repeats its names day after day: each combination of them is looked up once.
    said = [column for column in _SAID if column in rows.columns]
    if not said:
        return rows
    distinct = rows.select(said).unique(maintain_order=True).with_row_index(_COMBINATION)
    named = _with_ids(connection, account_id, kind, distinct, scratch)
    return (
        rows.join(distinct, on=said, nulls_equal=True, maintain_order="left")
        .drop(said)
        .join(named, on=_COMBINATION, maintain_order="left")
        .drop(_COMBINATION)
    )


_COMBINATION: Final = "_combination"
_SAID: Final = (
    "campaign", "campaign_id", "ad_group", "ad_group_id", "target", "target_id", "match_type", "search_term",
    "sku", "query", "keyword",
)  # fmt: skip
"""What names something, in the contract's words."""


def _with_ids(
    connection: Connection, account_id: int, kind: str, rows: pl.DataFrame, scratch: Path
) -> pl.DataFrame:
    if "campaign" in rows.columns:
        rows = _campaigns(connection, account_id, rows, scratch)
    if "ad_group" in rows.columns:
        rows = _ad_groups(connection, rows, scratch)
    if "target" in rows.columns:
        rows = _where_given(rows, "target", "target_id", lambda given: _targets(connection, given, scratch))
    if "search_term" in rows.columns:
        rows = _terms(connection, rows, scratch)
    if "sku" in rows.columns:
        rows = _where_given(
            rows, "sku", "product_id", lambda given: _products(connection, account_id, given, scratch)
        )
    for column in ("query", "keyword"):
        if column in rows.columns:
            ids = _phrase_ids(connection, rows[column], scratch)
            rows = rows.join(ids.rename({"id": f"{column}_phrase_id", "text": column}), on=column)
    if "product_ad_id" in KEYS_OF[kind]:
        ids = bulk.ensure_ids(connection, product_ad, ["ad_group_id", "product_id"], rows, scratch)
        rows = rows.join(ids.rename({"id": "product_ad_id"}), on=["ad_group_id", "product_id"])
    return rows


def _where_given(
    rows: pl.DataFrame, column: str, key: str, with_key: Callable[[pl.DataFrame], pl.DataFrame]
) -> pl.DataFrame:
    """Ids for the rows whose column says something; 0 for those in which it is left open."""
    given = rows.filter(pl.col(column).is_not_null())
    if len(given) == len(rows):
        return with_key(rows)
    rest = rows.filter(pl.col(column).is_null()).with_columns(pl.lit(0, pl.UInt32).alias(key))
    return pl.concat([with_key(given), rest], how="diagonal") if len(given) else rest


def _by_external_id(
    connection: Connection, table: Table, parent: str, rows: pl.DataFrame, name: str, id_column: str
) -> None:
    """An id that stays while the name changes is a rename: the held row takes the new name."""
    if id_column not in rows.columns:
        return
    pairs = rows.select(parent, name, id_column).drop_nulls().unique(maintain_order=True)
    for pair in pairs.unique(subset=[parent, id_column], keep="last", maintain_order=True).to_dicts():
        same_id = (table.c[parent] == pair[parent]) & (table.c.external_id == pair[id_column])
        held = connection.execute(select(table.c.id, table.c.name).where(same_id)).first()
        same_name = (table.c[parent] == pair[parent]) & (table.c.name == pair[name])
        if held is None:
            connection.execute(
                update(table)
                .where(same_name & table.c.external_id.is_(None))
                .values(external_id=pair[id_column])
            )
        elif held.name != pair[name]:
            taken = connection.execute(select(table.c.id).where(same_name)).first()
            if taken is None:
                connection.execute(update(table).where(same_id).values(name=pair[name]))


def known_by_id(connection: Connection, account_id: int) -> dict[str, dict[str, str]]:
    """What ids of campaigns and ad groups stand for, as files have told so far."""
    own = campaign.c.account_id == account_id
    campaigns = connection.execute(
        select(campaign.c.external_id, campaign.c.name).where(own, campaign.c.external_id.is_not(None))
    )
    groups = connection.execute(
        select(ad_group.c.external_id, ad_group.c.name)
        .join(campaign, campaign.c.id == ad_group.c.campaign_id)
        .where(own, ad_group.c.external_id.is_not(None))
    )
    return {"campaign": {row[0]: row[1] for row in campaigns}, "ad_group": {row[0]: row[1] for row in groups}}


def _campaigns(connection: Connection, account_id: int, rows: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    rows = rows.rename({"campaign_id": "campaign_external"}, strict=False).with_columns(
        account_id=pl.lit(account_id, pl.UInt32)
    )
    return _named(connection, campaign, "account_id", rows, "campaign", scratch)


def _ad_groups(connection: Connection, rows: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    rows = rows.rename({"ad_group_id": "ad_group_external"}, strict=False).with_columns(
        pl.col("ad_group").fill_null(WHOLE_CAMPAIGN)
    )
    return _named(connection, ad_group, "campaign_id", rows, "ad_group", scratch)


def _named(
    connection: Connection, table: Table, parent: str, rows: pl.DataFrame, column: str, scratch: Path
) -> pl.DataFrame:
    """Adds `<column>_id`, the id of the name in that column under its parent."""
    external = f"{column}_external"
    kept = [parent, column, *([external] if external in rows.columns else [])]
    names = rows.select(kept).unique(maintain_order=True).rename({column: "name"})
    _by_external_id(connection, table, parent, names, "name", external)
    ids = bulk.ensure_ids(connection, table, [parent, "name"], names, scratch)
    # A second pass gives a name met for the first time its id of the marketplace.
    _by_external_id(connection, table, parent, names, "name", external)
    return rows.join(ids.rename({"id": f"{column}_id", "name": column}), on=[parent, column])


def _digest(text: str) -> str:
    """What a text is found by: it may be longer than an index of the database can hold."""
    return hashlib.md5(text.encode(), usedforsecurity=False).hexdigest()


def _ensure_phrases(connection: Connection, texts: pl.Series, scratch: Path) -> pl.DataFrame:
    """The id of every text, rows made where they are missing: text, id."""
    distinct = texts.unique()
    wanted = distinct.to_frame("text").with_columns(
        pl.Series("digest", [_digest(text) for text in distinct.to_list()], dtype=pl.String)
    )
    ids = bulk.ensure_ids(connection, phrase, ["digest"], wanted, scratch, carried=["text"])
    return wanted.join(ids, on="digest").select("text", "id")


def _phrase_ids(connection: Connection, texts: pl.Series, scratch: Path) -> pl.DataFrame:
    """Text → id, each new phrase linked to its normal form."""
    known = _ensure_phrases(connection, texts, scratch)
    bare = pl.DataFrame(
        connection.execute(select(phrase.c.id, phrase.c.text).where(phrase.c.normal_id.is_(None))).fetchall(),
        schema={"id": pl.UInt32, "text": pl.String},
        orient="row",
    )
    if len(bare):
        # A normal form can be longer than its text; terms as long as that are alike in their beginning.
        normal = bare.with_columns(
            normal=pl.col("text").map_elements(normal_form, return_dtype=pl.String).str.head(MAX_PHRASE)
        )
        # Most texts are in their normal form already, and need nobody else's id.
        own = pl.col("normal") == pl.col("text")
        others = normal.filter(~own)
        normals = _ensure_phrases(connection, others["normal"], scratch).rename(
            {"id": "normal_id", "text": "normal"}
        )
        links = others.join(normals, on="normal").select("id", "normal_id")
        # A normal form is its own; one that was just made is not among the bare ones.
        selves = pl.concat(
            [
                normal.filter(own).select("id", "text"),
                normals.select(pl.col("normal_id").alias("id"), pl.col("normal").alias("text")),
            ]
        ).unique("id")
        spelt = spelling.spelt(connection, selves, scratch).with_columns(normal_id="id")
        _link(connection, pl.concat([spelt, links], how="diagonal").unique("id", keep="first"), scratch)
    return known


def _link(connection: Connection, links: pl.DataFrame, scratch: Path) -> None:
    connection.exec_driver_sql("DROP TEMPORARY TABLE IF EXISTS `links`")
    connection.exec_driver_sql(
        "CREATE TEMPORARY TABLE `links` (id INT UNSIGNED PRIMARY KEY, normal_id INT UNSIGNED NOT NULL, "
        "words TEXT CHARACTER SET ascii COLLATE ascii_bin)"
    )
    bulk.load(connection, "links", links, scratch)
    connection.exec_driver_sql(
        "UPDATE phrase p JOIN `links` l USING (id) SET p.normal_id = l.normal_id, p.words = l.words "
        "WHERE p.normal_id IS NULL"
    )
    connection.exec_driver_sql("DROP TEMPORARY TABLE `links`")


def _targets(connection: Connection, rows: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    texts = [rows["target"]]
    if "search_term" in rows.columns:
        texts.append(rows["search_term"].alias("target"))
    phrases = _phrase_ids(connection, pl.concat([series.unique() for series in texts]), scratch)
    rows = rows.join(phrases.rename({"id": "phrase_id", "text": "target"}), on="target")
    if "search_term" in rows.columns:
        rows = rows.join(phrases.rename({"id": "term_phrase_id", "text": "search_term"}), on="search_term")
    key = ["ad_group_id", "phrase_id", "match_type"]
    ids = bulk.ensure_ids(connection, target, key, rows, scratch)
    rows = rows.drop("target_id", strict=False)
    return rows.join(ids.rename({"id": "target_id"}), on=key).drop("phrase_id")


def _terms(connection: Connection, rows: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    rows = rows.rename({"term_phrase_id": "phrase_id"})
    key = ["target_id", "phrase_id"]
    ids = bulk.ensure_ids(connection, target_term, key, rows, scratch)
    return rows.join(ids.rename({"id": "target_term_id"}), on=key).drop("phrase_id")


def _products(connection: Connection, account_id: int, rows: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    rows = rows.with_columns(account_id=pl.lit(account_id, pl.UInt32))
    ids = bulk.ensure_ids(connection, product, ["account_id", "sku"], rows, scratch)
    return rows.join(ids.rename({"id": "product_id"}), on=["account_id", "sku"])
