"""Names in report rows to integer keys, one level of the hierarchy after the other."""

from __future__ import annotations

from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, Table, select, update

from nimbus_reef.core.words import normal_form
from nimbus_reef.errors import BadFile
from nimbus_reef.store import bulk
from nimbus_reef.store.models import (
    MAX_NAME,
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
    _refuse_long(rows)
    if "campaign" in rows.columns:
        rows = _campaigns(connection, account_id, rows, scratch)
    if "ad_group" in rows.columns:
        rows = _ad_groups(connection, rows, scratch)
    if "target" in rows.columns:
        rows = _targets(connection, rows, scratch)
    if "search_term" in rows.columns:
        rows = _terms(connection, rows, scratch)
    if "sku" in rows.columns:
        rows = _products(connection, account_id, rows, scratch)
    if kind == "product_ad_daily":
        ids = bulk.ensure_ids(connection, product_ad, ["ad_group_id", "product_id"], rows, scratch)
        rows = rows.join(ids.rename({"id": "product_ad_id"}), on=["ad_group_id", "product_id"])
    return rows


def _refuse_long(rows: pl.DataFrame) -> None:
    """A name longer than its column would be cut and could meet another; say so instead."""
    for column, most in (
        ("campaign", MAX_NAME), ("ad_group", MAX_NAME), ("sku", MAX_NAME),
        ("target", MAX_PHRASE), ("search_term", MAX_PHRASE),
    ):  # fmt: skip
        if column in rows.columns:
            longest = rows[column].str.len_chars().max()
            if isinstance(longest, int) and longest > most:
                raise BadFile(
                    f"A value in {column} has {longest} characters; at most {most} are kept.",
                    remedy="Check the mapping of that column.",
                )


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


def _campaigns(connection: Connection, account_id: int, rows: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    rows = rows.rename({"campaign_id": "campaign_external"}, strict=False).with_columns(
        account_id=pl.lit(account_id, pl.UInt32), name=pl.col("campaign")
    )
    _by_external_id(connection, campaign, "account_id", rows, "name", "campaign_external")
    ids = bulk.ensure_ids(connection, campaign, ["account_id", "name"], rows, scratch)
    # A second pass gives a campaign met for the first time its id of the marketplace.
    _by_external_id(connection, campaign, "account_id", rows, "name", "campaign_external")
    return rows.join(ids.rename({"id": "campaign_id"}), on=["account_id", "name"]).drop("name")


def _ad_groups(connection: Connection, rows: pl.DataFrame, scratch: Path) -> pl.DataFrame:
    rows = rows.rename({"ad_group_id": "ad_group_external"}, strict=False).with_columns(
        name=pl.col("ad_group").fill_null(WHOLE_CAMPAIGN)
    )
    _by_external_id(connection, ad_group, "campaign_id", rows, "name", "ad_group_external")
    ids = bulk.ensure_ids(connection, ad_group, ["campaign_id", "name"], rows, scratch)
    _by_external_id(connection, ad_group, "campaign_id", rows, "name", "ad_group_external")
    return rows.join(ids.rename({"id": "ad_group_id"}), on=["campaign_id", "name"]).drop("name")


def _phrase_ids(connection: Connection, texts: pl.Series, scratch: Path) -> pl.DataFrame:
    """Text → id, each new phrase linked to its normal form."""
    known = bulk.ensure_ids(connection, phrase, ["text"], texts.unique().to_frame("text"), scratch)
    bare = pl.DataFrame(
        connection.execute(select(phrase.c.id, phrase.c.text).where(phrase.c.normal_id.is_(None))).fetchall(),
        schema={"id": pl.UInt32, "text": pl.String},
        orient="row",
    )
    if len(bare):
        normal = bare.with_columns(normal=pl.col("text").map_elements(normal_form, return_dtype=pl.String))
        normals = bulk.ensure_ids(
            connection, phrase, ["text"], normal.select(pl.col("normal").alias("text")), scratch
        ).rename({"id": "normal_id", "text": "normal"})
        links = normal.join(normals, on="normal").select("id", "normal_id")
        # A normal form is its own; one that was just made is not among the bare ones.
        selves = normals.select(pl.col("normal_id").alias("id"), "normal_id")
        _link(connection, pl.concat([links, selves]).unique("id"), scratch)
    return known


def _link(connection: Connection, links: pl.DataFrame, scratch: Path) -> None:
    connection.exec_driver_sql("DROP TEMPORARY TABLE IF EXISTS `links`")
    connection.exec_driver_sql(
        "CREATE TEMPORARY TABLE `links` (id INT UNSIGNED PRIMARY KEY, normal_id INT UNSIGNED NOT NULL)"
    )
    bulk.load(connection, "links", links, scratch)
    connection.exec_driver_sql(
        "UPDATE phrase p JOIN `links` l USING (id) SET p.normal_id = l.normal_id WHERE p.normal_id IS NULL"
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
