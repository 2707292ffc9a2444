"""Names in report rows to integer keys, one level of the hierarchy after the other."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Final

import polars as pl
from sqlalchemy import Connection, Table, bindparam, delete, insert, select, update

from nimbus_reef.formats.distinct_texts import DistinctTexts
from nimbus_reef.store.loading import id_allocator
from nimbus_reef.store.loading.id_allocator import IdAllocator
from nimbus_reef.store.record import bulk
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import (
    KEYS_OF,
    ad_group,
    campaign,
    marketplace_id,
    product,
    product_ad,
    target,
    target_term,
)

WHOLE_CAMPAIGN: Final = ""
"""Name of the ad group that stands for the whole campaign (campaign-wide negatives)."""


@dataclass(frozen=True, slots=True)
class Named:
    """
    Rows of a report whose names are on their way to ids; each combination of names is looked up once.

    ids: for each of `distinct_texts.distinct` its key columns, and campaign_id where rows have one; null where nobody
    has that name yet. settled: nothing that is known has another name or id of the marketplace now.
    """

    account_id: int
    kind: str
    distinct_texts: DistinctTexts
    ids: pl.DataFrame
    settled: bool

    @property
    def keyed(self) -> pl.DataFrame:
        """The rows with their ids in place of names, other texts as they are."""
        others = self.distinct_texts.distinct.drop(_SAID, strict=False)
        rows = pl.concat([others, self.ids], how="horizontal")
        return replace(self.distinct_texts, distinct=rows).whole

    @property
    def complete(self) -> bool:
        """True where nothing has to be made or renamed."""
        return self.settled and not any(column.null_count() for column in self.ids)


_SAID: Final = (
    "campaign",
    "campaign_id",
    "ad_group",
    "ad_group_id",
    "target",
    "target_id",
    "match_type",
    "search_term",
    "sku",
    "ad_id",
    "query",
    "keyword",
)
"""What names something, in the contract's words."""


def looked_up(store: Store, connection: Connection, account_id: int, kind: str, distinct_texts: DistinctTexts) -> Named:
    """Rows with the ids of the names that are known; nothing is changed."""
    allocator = IdAllocator(connection, store.dictionary, store.scratch, making=False)
    return Named(
        account_id,
        kind,
        distinct_texts,
        _ids_of(allocator, account_id, kind, distinct_texts.distinct),
        allocator.settled,
    )


def completed(store: Store, named: Named) -> Named:
    """The same with all of its ids: what nobody has yet is made, and kept at once, whatever becomes of the rows."""
    account_id, kind, rows = named.account_id, named.kind, named.distinct_texts.distinct
    ids = id_allocator.with_turn(store, lambda allocator: _ids_of(allocator, account_id, kind, rows))
    return replace(named, ids=ids, settled=True)


def _ids_of(allocator: IdAllocator, account_id: int, kind: str, frame: pl.DataFrame) -> pl.DataFrame:
    """The ids of combinations of names, in their order."""
    rows = frame.select(name for name in frame.columns if name in _SAID)
    rows = rows.with_row_index(_ORDER).with_columns(account_id=pl.lit(account_id, pl.UInt32))
    if "campaign" in rows.columns:
        rows = _named(allocator, campaign, account_id, rows, "campaign")
    if "ad_group" in rows.columns:
        rows = rows.with_columns(pl.col("ad_group").fill_null(WHOLE_CAMPAIGN))
        rows = _named(allocator, ad_group, account_id, rows, "ad_group")
    rows = rows.rename({name: _TOLD[name] for name in _TOLD if name in rows.columns})
    if "target" in rows.columns:
        rows = _where_given(rows, "target", "target_id", lambda given: _targets(allocator, given))
        _keep_ids(allocator, "target", rows, "target_id")
    if "search_term" in rows.columns:
        rows = _with(rows, allocator.phrases(rows["search_term"]), "search_term", "phrase_id")
        rows = _keyed(allocator, target_term, rows, "target_term_id").drop("phrase_id")
    if "sku" in rows.columns:
        rows = _where_given(rows, "sku", "product_id", lambda given: _keyed(allocator, product, given, "product_id"))
    for column in ("query", "keyword"):
        if column in rows.columns:
            rows = _with(rows, allocator.phrases(rows[column]), column, f"{column}_phrase_id")
    if "product_ad_id" in KEYS_OF[kind]:
        rows = _keyed(allocator, product_ad, rows, "product_ad_id")
        _keep_ids(allocator, "ad", rows, "product_ad_id")
    return rows.sort(_ORDER).select(name for name in rows.columns if name in _IDS)


def _keep_ids(allocator: IdAllocator, kind: str, rows: pl.DataFrame, key: str) -> None:
    """Keeps the marketplace's ids of targets or product ads, where the file tells them; the newest word counts."""
    told = {"target": _TOLD["target_id"], "ad": _TOLD["ad_id"]}[kind]
    if told not in rows.columns:
        return
    given = (
        rows.select(thing_id=pl.col(key), external_id=pl.col(told))
        .drop_nulls()
        .filter(pl.col("thing_id") > 0)
        .unique("thing_id", keep="last", maintain_order=True)
    )
    if given.is_empty():
        return
    # Ids of one load lie close together: what is known between its first and its last is enough.
    known = select(marketplace_id.c.thing_id, marketplace_id.c.external_id).where(
        marketplace_id.c.kind == kind,
        marketplace_id.c.thing_id.between(given["thing_id"].min(), given["thing_id"].max()),
    )
    held = pl.DataFrame(
        allocator.connection.execute(known).fetchall(),
        schema={"thing_id": pl.UInt32, "external_id": pl.String},
        orient="row",
    )
    new = given.join(held, on=["thing_id", "external_id"], how="anti", maintain_order="left")
    allocator.settled &= new.is_empty()
    if allocator.making and len(new):
        for piece in new.with_columns(kind=pl.lit(kind)).iter_slices(1000):
            former = marketplace_id.c.kind == kind, marketplace_id.c.thing_id.in_(piece["thing_id"].to_list())
            allocator.connection.execute(delete(marketplace_id).where(*former))
            allocator.connection.execute(insert(marketplace_id).values(piece.to_dicts()))


_TOLD: Final = {"target_id": "_target_id", "ad_id": "_ad_id"}
"""Ids of the marketplace as a file tells them, beside which ours are made."""
_ORDER: Final = "_order"
_IDS: Final = frozenset(
    {
        "campaign_id",
        "ad_group_id",
        "target_id",
        "target_term_id",
        "product_id",
        "product_ad_id",
        "query_phrase_id",
        "keyword_phrase_id",
    }
)


def _where_given(
    rows: pl.DataFrame, column: str, key: str, with_key: Callable[[pl.DataFrame], pl.DataFrame]
) -> pl.DataFrame:
    """Ids for the rows whose column says something; 0 for those in which it is left open."""
    rows = rows.drop(key, strict=False)
    given = rows.filter(pl.col(column).is_not_null())
    if len(given) == len(rows):
        return with_key(given)
    rest = rows.filter(pl.col(column).is_null()).with_columns(pl.lit(0, pl.UInt32).alias(key))
    return pl.concat([with_key(given), rest], how="diagonal") if len(given) else rest


def _with(rows: pl.DataFrame, ids: pl.DataFrame, column: str, key: str) -> pl.DataFrame:
    return rows.join(ids.rename({"text": column, "id": key}), on=column, how="left", maintain_order="left")


def _keyed(allocator: IdAllocator, table: Table, rows: pl.DataFrame, key: str) -> pl.DataFrame:
    """Rows with the ids of one table, found by the columns that are its keys."""
    ids = allocator.ids(table, rows).rename({"id": key})
    return rows.join(ids, on=[name for name in ids.columns if name != key], how="left", maintain_order="left")


def _targets(allocator: IdAllocator, rows: pl.DataFrame) -> pl.DataFrame:
    rows = _with(rows, allocator.phrases(rows["target"]), "target", "phrase_id")
    return _keyed(allocator, target, rows, "target_id").drop("phrase_id")


# --- campaigns and ad groups: few, and of these alone the names change -------------------


def _held(connection: Connection, table: Table, account_id: int) -> pl.DataFrame:
    """What an account has of a table: id, parent, name, external_id."""
    parent = table.c[_PARENT[table.name]]
    wanted = select(table.c.id, parent.label("parent"), table.c.name, table.c.external_id)
    if table is ad_group:
        wanted = wanted.join(campaign, campaign.c.id == parent).where(campaign.c.account_id == account_id)
    else:
        wanted = wanted.where(parent == account_id)
    schema = {"id": pl.UInt32, "parent": pl.UInt32, "name": pl.String, "external_id": pl.String}
    return pl.DataFrame(connection.execute(wanted).fetchall(), schema=schema, orient="row")


_PARENT: Final = {"campaign": "account_id", "ad_group": "campaign_id"}


def _named(allocator: IdAllocator, table: Table, account_id: int, rows: pl.DataFrame, column: str) -> pl.DataFrame:
    """Rows with `<column>_id`, the id of the name in that column under its parent, in place of the marketplace's id."""
    own, parent = f"{column}_id", _PARENT[table.name]
    expression = pl.col(own) if own in rows.columns else pl.lit(None, pl.String)
    names = rows.select(pl.col(parent).alias("parent"), pl.col(column).alias("name"), expression.alias("external_id"))
    names = names.unique(maintain_order=True)
    frame, renamed = _renamed(_held(allocator.connection, table, account_id), names)
    given = _to_give(frame, names)
    if allocator.making:
        _change(allocator.connection, table, renamed)
        missing = names.select("parent", "name").unique(maintain_order=True)
        missing = missing.join(frame, on=["parent", "name"], how="anti", maintain_order="left")
        new = allocator.numbered(table, missing)
        bulk.load(allocator.connection, table.name, new.rename({"parent": parent}), allocator.scratch)
        frame = pl.concat([frame, new], how="diagonal")
        _change(allocator.connection, table, _to_give(frame, names))
    allocator.settled &= renamed.is_empty() and given.is_empty()
    ids = frame.select(pl.col("parent").alias(parent), pl.col("name").alias(column), pl.col("id").alias(own))
    return rows.drop(own, strict=False).join(ids, on=[parent, column], how="left", maintain_order="left")


def _renamed(rows: pl.DataFrame, names: pl.DataFrame) -> tuple[pl.DataFrame, pl.DataFrame]:
    """
    An id that stays while the name changes is a rename: what is held, under the names of now, and id, name of what
    changed.

    A name that another has stays with that one.
    """
    frame = _told(names).rename({"name": "now"})
    changes = [pl.DataFrame(schema={"id": pl.UInt32, "name": pl.String})]
    while len(frame):
        changed = (
            rows.join(frame, on=["parent", "external_id"])
            .filter(pl.col("name") != pl.col("now"))
            .join(rows.select("parent", now="name"), on=["parent", "now"], how="anti")
            .unique(["parent", "now"], keep="first", maintain_order=True)
            .select("id", "now")
        )
        if changed.is_empty():
            break
        # A name that this sets free may be what another is called now.
        changes.append(changed.rename({"now": "name"}))
        rows = rows.join(changed, on="id", how="left", maintain_order="left")
        rows = rows.with_columns(name=pl.coalesce("now", "name")).drop("now")
    return rows, pl.concat(changes)


def _told(names: pl.DataFrame) -> pl.DataFrame:
    """What each id of the marketplace is called, as said last."""
    return names.drop_nulls().unique(["parent", "external_id"], keep="last", maintain_order=True)


def _to_give(rows: pl.DataFrame, names: pl.DataFrame) -> pl.DataFrame:
    """id, external_id: what was met without an id of the marketplace takes that of its name, unless another has it."""
    frame = _told(names)
    if frame.is_empty():
        return rows.select("id", "external_id").clear()
    bare = rows.filter(pl.col("external_id").is_null()).select("id", "parent", "name")
    taken = rows.drop_nulls("external_id")
    return (
        frame.join(taken, on=["parent", "external_id"], how="anti", maintain_order="left")
        .join(bare, on=["parent", "name"], maintain_order="left")
        .unique("id", keep="first", maintain_order=True)
        .select("id", "external_id")
    )


def _change(connection: Connection, table: Table, changed: pl.DataFrame) -> None:
    """One other column of rows, by their ids."""
    if len(changed):
        column = changed.columns[1]
        statement = update(table).where(table.c.id == bindparam("of")).values({column: bindparam("now")})
        connection.execute(statement, changed.rename({"id": "of", column: "now"}).to_dicts())


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
