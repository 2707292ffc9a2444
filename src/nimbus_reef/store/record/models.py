"""The tables. Integer keys everywhere; texts live once, in `phrase`."""

from __future__ import annotations

from typing import Any, Final

from sqlalchemy import (
    JSON,
    Boolean,
    Column,
    Date,
    DateTime,
    Double,
    ForeignKey,
    Index,
    Integer,
    MetaData,
    String,
    Table,
    UniqueConstraint,
    func,
)
from sqlalchemy.dialects.mysql import BIGINT, CHAR, INTEGER, LONGBLOB, MEDIUMTEXT, SMALLINT, TEXT, TINYINT

from nimbus_reef.core.promises import Promise
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.store.record.json_columns import JsonOf

MAX_NAME: Final = 512
MAX_PHRASE: Final = 1024
MAX_WORD: Final = 255
_SHORT: Final = 255

metadata = MetaData(
    naming_convention={
        "uq": "uq_%(table_name)s_%(column_0_N_name)s",
        "fk": "fk_%(table_name)s_%(column_0_name)s",
        "ix": "ix_%(table_name)s_%(column_0_N_name)s",
    }
)
_BIN: Final = "utf8mb4_bin"
_TABLE: Final[dict[str, Any]] = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": _BIN}


def _id() -> Column[Any]:
    return Column("id", INTEGER(unsigned=True), primary_key=True, autoincrement=True)


def _ref(name: str, target: str, **options: Any) -> Column[Any]:
    options.setdefault("nullable", False)
    return Column(name, INTEGER(unsigned=True), ForeignKey(f"{target}.id"), **options)


def _now(name: str) -> Column[Any]:
    return Column(name, DateTime, nullable=False, server_default=func.utc_timestamp())


# --- people and accounts --------------------------------------------------------

person = Table(
    "person",
    metadata,
    _id(),
    Column("email", String(_SHORT), nullable=False, unique=True),
    Column("name", String(_SHORT), nullable=False),
    Column("password_hash", String(_SHORT), nullable=False),
    Column("role", String(10), nullable=False),
    Column("active", Boolean, nullable=False, server_default="1"),
    # Whether they may send changes to a marketplace.
    Column("sends", Boolean, nullable=False, server_default="0"),
    # Grows when all sessions shall end: each was begun at one of its values.
    _now("created_at"),
    **_TABLE,
)
# A link that works once: the set-up of an empty installation, or somebody's invitation. The token itself is not kept.
one_time_link = Table(
    "one_time_link",
    metadata,
    _id(),
    Column("purpose", String(16), nullable=False),
    Column("digest", CHAR(64, charset="ascii", collation="ascii_bin"), nullable=False, unique=True),
    _ref("person_id", "person", nullable=True),
    Column("ends_at", DateTime, nullable=True),
    Column("used_at", DateTime, nullable=True),
    _now("made_at"),
    **_TABLE,
)
person_session = Table(
    "person_session",
    metadata,
    _id(),
    _ref("person_id", "person"),
    Column("digest", CHAR(64, charset="ascii", collation="ascii_bin"), nullable=False, unique=True),
    Column("agent", String(_SHORT), nullable=False),
    Column("address", String(64), nullable=False),
    # what the session remembers, but for what its cookie holds
    Column("kept", MEDIUMTEXT, nullable=True),
    _now("begun_at"),
    _now("seen_at"),
    Column("ended_at", DateTime, nullable=True),
    **_TABLE,
)
brand = Table("brand", metadata, _id(), Column("name", String(_SHORT), nullable=False, unique=True), **_TABLE)
person_brand = Table(
    "person_brand",
    metadata,
    Column("person_id", INTEGER(unsigned=True), ForeignKey("person.id"), primary_key=True),
    Column("brand_id", INTEGER(unsigned=True), ForeignKey("brand.id"), primary_key=True),
    **_TABLE,
)
account = Table(
    "account",
    metadata,
    _id(),
    Column("key", String(64), nullable=False, unique=True),
    _ref("brand_id", "brand"),
    Column("marketplace", String(64), nullable=False),
    Column("country", String(2), nullable=False),
    Column("currency", String(3), nullable=False),
    Column("locale", String(16), nullable=False),
    Column("timezone", String(64), nullable=False),
    # NULL: not set yet, see `core.targeting.ASSUMED_TARGET`
    Column("target_acos", Double, nullable=True),
    Column("min_clicks", Integer, nullable=False, server_default="10"),
    Column("maturing_days", Integer, nullable=False, server_default="3"),
    Column("bid_floor", BIGINT, nullable=False, server_default="20000"),
    Column("bid_ceiling", BIGINT, nullable=False, server_default="10000000"),
    # how campaigns are called: see `core.naming`; empty before one is set
    Column("naming", String(_SHORT), nullable=False, server_default=""),
    # Put to rest: kept, and shown nowhere but among the accounts.
    Column("resting", Boolean, nullable=False, server_default="0"),
    # Grows with every setting, so that what was worked out under the former ones is made anew.
    Column("settings_version", Integer, nullable=False, server_default="0"),
    **_TABLE,
)
# What an account sets otherwise than is usual: see `core.settings`.
account_setting = Table(
    "account_setting",
    metadata,
    Column("account_id", INTEGER(unsigned=True), ForeignKey("account.id"), primary_key=True),
    Column("name", String(64), primary_key=True),
    Column("value", String(2048), nullable=False),
    **_TABLE,
)

logo = Table(
    "logo",
    metadata,
    Column("account_id", INTEGER(unsigned=True), ForeignKey("account.id"), primary_key=True, autoincrement=False),
    Column("media", String(32), nullable=False),
    Column("content", MEDIUMTEXT, nullable=False),
    **_TABLE,
)
label = Table(
    "label",
    metadata,
    Column("account_id", INTEGER(unsigned=True), ForeignKey("account.id"), primary_key=True, autoincrement=False),
    Column("kind", String(8), primary_key=True),
    Column("name", String(_SHORT), primary_key=True),
    Column("label", String(64), primary_key=True),
    **_TABLE,
)

# --- names -----------------------------------------------------------------------

phrase = Table(
    "phrase",
    metadata,
    _id(),
    # MD5 of the text, since a text may be longer than an index can hold.
    Column("digest", CHAR(32, charset="ascii", collation="ascii_bin"), nullable=False, unique=True),
    Column("text", String(MAX_PHRASE), nullable=False),
    # Null only between a phrase's insert and the end of the same transaction.
    Column("normal_id", INTEGER(unsigned=True), ForeignKey("phrase.id"), nullable=True, index=True),
    # Ids of a normal form's words in their order, "12,7,99"; null on other texts.
    Column("words", TEXT(charset="ascii", collation="ascii_bin"), nullable=True),
    **_TABLE,
)
word = Table("word", metadata, _id(), Column("text", String(MAX_WORD), nullable=False, unique=True), **_TABLE)


def _named(name: str, parent: str) -> Table:
    return Table(
        name,
        metadata,
        _id(),
        _ref(f"{parent}_id", parent),
        Column("name", String(MAX_NAME), nullable=False),
        Column("external_id", String(64), nullable=True),
        UniqueConstraint(f"{parent}_id", "name"),
        UniqueConstraint(f"{parent}_id", "external_id"),
        **_TABLE,
    )


campaign = _named("campaign", "account")
ad_group = _named("ad_group", "campaign")
target = Table(
    "target",
    metadata,
    _id(),
    _ref("ad_group_id", "ad_group"),
    _ref("phrase_id", "phrase"),
    Column("match_type", String(16), nullable=False),
    UniqueConstraint("ad_group_id", "phrase_id", "match_type"),
    **_TABLE,
)
target_term = Table(
    "target_term",
    metadata,
    _id(),
    _ref("target_id", "target"),
    _ref("phrase_id", "phrase"),
    UniqueConstraint("target_id", "phrase_id"),
    **_TABLE,
)
product = Table(
    "product",
    metadata,
    _id(),
    _ref("account_id", "account"),
    Column("sku", String(MAX_NAME), nullable=False),
    UniqueConstraint("account_id", "sku"),
    **_TABLE,
)
product_ad = Table(
    "product_ad",
    metadata,
    _id(),
    _ref("ad_group_id", "ad_group"),
    _ref("product_id", "product"),
    UniqueConstraint("ad_group_id", "product_id"),
    **_TABLE,
)

# --- loading ---------------------------------------------------------------------

upload = Table(
    "upload",
    metadata,
    _id(),
    _ref("person_id", "person", nullable=True),
    _ref("account_id", "account"),
    Column("file_name", String(_SHORT), nullable=False),
    Column("sha256", String(64), nullable=False),
    Column("size", BIGINT(unsigned=True), nullable=False),
    # waiting for a mapping, loading, loaded, failed, discarded
    Column("state", String(12), nullable=False),
    _now("created_at"),
    **_TABLE,
)
batch = Table(
    "batch",
    metadata,
    _id(),
    _ref("account_id", "account"),
    _ref("upload_id", "upload", nullable=True),
    _ref("person_id", "person", nullable=True),
    Column("kind", String(32), nullable=False),
    Column("scope", String(10), nullable=False),
    Column("file_name", String(_SHORT), nullable=False),
    Column("sha256", String(64), nullable=False),
    Column("signature", String(64), nullable=False),
    Column("mapping", JsonOf(ColumnMap), nullable=False),
    Column("first_day", Date, nullable=True),
    Column("last_day", Date, nullable=True),
    Column("rows", INTEGER(unsigned=True), nullable=False),
    Column("rejected", INTEGER(unsigned=True), nullable=False),
    Column("removed", INTEGER(unsigned=True), nullable=False),
    Column("sums", JSON, nullable=False),
    Column("warnings", JSON, nullable=False),
    # the first batch of the same file, where that feeds several kinds: they are undone together
    Column("together", INTEGER(unsigned=True), nullable=True, index=True),
    # the job that loaded it: a job that is done again sees by it that it was done
    Column("job_id", INTEGER(unsigned=True), nullable=True, index=True),
    _now("loaded_at"),
    Column("undone_at", DateTime, nullable=True),
    **_TABLE,
)
batch_day = Table(
    "batch_day",
    metadata,
    Column("batch_id", INTEGER(unsigned=True), ForeignKey("batch.id"), primary_key=True),
    Column("day", Date, primary_key=True),
    # of a block, whose last day `day` is, its first; else the same day
    Column("first_day", Date, primary_key=True),
    # A day too large for one packet to the database is kept in several parts.
    Column("part", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
    # the rows the batch took the place of, as a compressed Arrow file; null where there were none
    Column("replaced", LONGBLOB, nullable=True),
    # whether the batch says what happened then, or only took away what was held
    Column("told", Boolean, nullable=False, server_default="1"),
    Column("undone", Boolean, nullable=False, server_default="0"),
    **_TABLE,
)
reject = Table(
    "reject",
    metadata,
    _id(),
    _ref("batch_id", "batch", index=True),
    Column("line", INTEGER(unsigned=True), nullable=False),
    Column("column", String(64), nullable=False),
    Column("value", String(512), nullable=False),
    Column("reason", String(_SHORT), nullable=False),
    **_TABLE,
)
turn = Table(
    "turn",
    metadata,
    Column("account_id", INTEGER(unsigned=True), primary_key=True, autoincrement=False),
    Column("what", String(32), primary_key=True),
    Column("taken", BIGINT(unsigned=True), nullable=False),
    **_TABLE,
)
day_version = Table(
    "day_version",
    metadata,
    Column("account_id", INTEGER(unsigned=True), primary_key=True, autoincrement=False),
    Column("kind", String(32), primary_key=True),
    Column("day", Date, primary_key=True),
    Column("first_day", Date, primary_key=True),
    Column("version", INTEGER(unsigned=True), nullable=False),
    Column("rows", INTEGER(unsigned=True), nullable=False),
    **_TABLE,
)
job = Table(
    "job",
    metadata,
    _id(),
    _ref("account_id", "account", nullable=True),
    _ref("person_id", "person", nullable=True),
    _ref("upload_id", "upload", nullable=True),
    Column("kind", String(16), nullable=False),
    # queued, running, done, failed, asks
    Column("state", String(10), nullable=False),
    Column("progress", Double, nullable=False, server_default="0"),
    Column("message", String(1024), nullable=False, server_default=""),
    Column("remedy", String(1024), nullable=False, server_default=""),
    Column("request", JSON, nullable=False),
    Column("result", JSON, nullable=True),
    Column("worker", String(128), nullable=True),
    Column("attempts", TINYINT(unsigned=True), nullable=False, server_default="0"),
    _now("created_at"),
    Column("finished_at", DateTime, nullable=True),
    **_TABLE,
)
worker = Table(
    "worker", metadata, Column("name", String(128), primary_key=True), _now("begun_at"), _now("seen_at"), **_TABLE
)

# --- facts: one row per key and day, primary key in the order files are loaded ------


_KEY_TYPES: Final[dict[str, Any]] = {
    "hour": TINYINT(unsigned=True),
    "placement": String(20),
    "name": String(_SHORT),
    "what": String(8),
    "category": String(_SHORT),
    "country": String(8),
    "format": String(10),
    "metric": String(16),
    "item_id": String(64),
    "field": String(32),
    "at": DateTime(),
}
"""Keys that are not ids: short words, and few rows."""


def _fact_head(*keys: str) -> tuple[Column[Any], ...]:
    return (
        Column("account_id", SMALLINT(unsigned=True), primary_key=True, autoincrement=False),
        Column("day", Date, primary_key=True),
        *(
            Column(key, _KEY_TYPES.get(key, INTEGER(unsigned=True)), primary_key=True, autoincrement=False)
            for key in keys
        ),
        Column("scope", TINYINT(unsigned=True), nullable=False),
        Column("batch_id", INTEGER(unsigned=True), nullable=False),
    )


def _measures() -> tuple[Column[Any], ...]:
    return (
        Column("impressions", INTEGER(unsigned=True), nullable=False),
        Column("clicks", INTEGER(unsigned=True), nullable=False),
        Column("spend", BIGINT, nullable=False),
        Column("orders", INTEGER(unsigned=True), nullable=False),
        Column("units", INTEGER(unsigned=True), nullable=False),
        Column("sales", BIGINT, nullable=False),
    )


target_daily = Table(
    "target_daily",
    metadata,
    *_fact_head("target_id"),
    *_measures(),
    Column("top_of_search_share", Double, nullable=True),
    **_TABLE,
)
search_term_daily = Table(
    "search_term_daily",
    metadata,
    *_fact_head("target_term_id"),
    *_measures(),
    Column("impression_share", Double, nullable=True),
    Column("impression_rank", Double, nullable=True),
    **_TABLE,
)
product_ad_daily = Table(
    "product_ad_daily",
    metadata,
    *_fact_head("product_ad_id"),
    Column("state", String(10), nullable=True),
    *_measures(),
    **_TABLE,
)
campaigns = Table(
    "campaigns",
    metadata,
    *_fact_head("campaign_id"),
    Column("portfolio", String(_SHORT), nullable=True),
    Column("format", String(10), nullable=False),
    Column("targeting", String(10), nullable=False),
    Column("state", String(10), nullable=False),
    Column("daily_budget", BIGINT, nullable=False),
    Column("bidding", String(12), nullable=True),
    Column("adj_top_of_search", Double, nullable=True),
    Column("adj_product_page", Double, nullable=True),
    Column("adj_elsewhere", Double, nullable=True),
    Column("offsite_limited", String(3), nullable=True),
    Column("start_date", Date, nullable=True),
    **_TABLE,
)
targets = Table(
    "targets",
    metadata,
    *_fact_head("target_id"),
    Column("state", String(10), nullable=False),
    Column("bid", BIGINT, nullable=True),
    Column("ad_group_bid", BIGINT, nullable=True),
    **_TABLE,
)
catalog = Table(
    "catalog",
    metadata,
    *_fact_head("product_id"),
    Column("item_id", String(64), nullable=False),
    Column("parent_item_id", String(64), nullable=True),
    Column("title", String(1024), nullable=False),
    Column("brand", String(_SHORT), nullable=True),
    Column("category", String(_SHORT), nullable=True),
    Column("launch_date", Date, nullable=True),
    Column("price", BIGINT, nullable=True),
    Column("margin", Double, nullable=True),
    Column("fulfilment", String(12), nullable=True),
    Column("ad_eligible", String(3), nullable=True),
    Column("ineligible_reason", String(_SHORT), nullable=True),
    **_TABLE,
)


def _fact(name: str, keys: tuple[str, ...], *columns: Column[Any]) -> Table:
    return Table(name, metadata, *_fact_head(*keys), *columns, **_TABLE)


def _money(name: str, *, required: bool = False) -> Column[Any]:
    return Column(name, BIGINT, nullable=not required)


def _count(name: str, *, required: bool = True) -> Column[Any]:
    return Column(name, INTEGER(unsigned=True), nullable=not required)


def _text(name: str, length: int = _SHORT, *, required: bool = False) -> Column[Any]:
    return Column(name, String(length), nullable=not required)


def _number(name: str, *, required: bool = False) -> Column[Any]:
    return Column(name, Double, nullable=not required)


_FURTHER: Final = (
    _fact("campaign_daily", ("campaign_id",), *_measures()),
    _fact("ad_groups", ("ad_group_id",), _text("state", 10, required=True), _money("default_bid", required=True)),
    _fact("product_ads", ("product_ad_id",), _text("state", 10, required=True)),
    _fact("placement_daily", ("campaign_id", "placement"), *_measures()),
    _fact("hourly", ("campaign_id", "hour"), *_measures(), _count("in_budget_minutes", required=False)),
    _fact(
        "boosts",
        ("campaign_id", "name", "what"),
        Column("from", Date, nullable=False),
        Column("to", Date, nullable=False),
        _text("weekdays", 16),
        _count("from_hour"),
        _count("to_hour"),
        _number("percent", required=True),
        _text("condition"),
    ),
    _fact(
        "product_sales_daily",
        ("product_id",),
        _count("sessions"),
        _count("total_orders"),
        _count("total_units"),
        _money("total_sales", required=True),
    ),
    _fact("sales_hourly", ("hour",), _count("total_orders"), _money("total_sales", required=True)),
    _fact(
        "peer_benchmarks",
        ("category", "country", "format", "metric"),
        _count("brands"),
        *(_number(f"p{part:02}", required=True) for part in (5, 10, 20, 30, 40, 50, 60, 70, 80, 90, 95)),
    ),
    _fact(
        "peer_format_mix",
        ("category", "country", "format"),
        _number("campaign_share", required=True),
        _number("spend_share", required=True),
    ),
    _fact(
        "query_funnel",
        ("query_phrase_id", "product_id"),
        _count("search_volume"),
        *(
            _count(f"{who}_{stage}")
            for who in ("market", "own")
            for stage in ("impressions", "clicks", "cart_adds", "purchases")
        ),
    ),
    _fact(
        "keyword_ranks",
        ("keyword_phrase_id", "item_id"),
        _count("search_volume"),
        _text("category"),
        _text("brand"),
        _number("organic_rank"),
        _number("sponsored_rank"),
        _money("suggested_bid"),
    ),
    _fact("phrase_lists", ("keyword_phrase_id", "name"), _count("search_volume", required=False), _text("category")),
    _fact(
        "rivals",
        ("item_id",),
        _text("brand", required=True),
        _text("title", 1024, required=True),
        _text("category"),
        Column("launch_date", Date, nullable=True),
        _money("price"),
        _number("rating"),
        _count("reviews", required=False),
        _money("monthly_sales_estimate"),
    ),
    _fact(
        "events",
        ("name",),
        Column("from", Date, nullable=False),
        Column("to", Date, nullable=False),
        _text("country", 8),
    ),
    _fact(
        "listings",
        ("product_id",),
        _text("title", 1024, required=True),
        _count("bullets"),
        _count("images"),
        _text("rich_content", 3, required=True),
        _text("brand_section", 3, required=True),
        _number("rating"),
        _count("reviews", required=False),
        _money("price"),
        _text("in_stock", 3, required=True),
        _text("main_offer", 5),
    ),
    _fact(
        "changes",
        ("at", "campaign_id", "ad_group_id", "target_id", "product_id", "field"),
        _text("old"),
        _text("new"),
        _text("by"),
    ),
)

FACTS: Final[dict[str, Table]] = {
    table.name: table
    for table in (target_daily, search_term_daily, product_ad_daily, campaigns, targets, catalog, *_FURTHER)
}
for _name, _facts in FACTS.items():
    if KINDS[_name].takes_blocks:
        # Of a block, whose last day `day` is, its first; null, and no byte, where a row is one day.
        _facts.append_column(Column("first_day", Date, nullable=True))
KEYS_OF: Final[dict[str, tuple[str, ...]]] = {
    name: tuple(c.name for c in table.primary_key if c.name not in ("account_id", "day"))
    for name, table in FACTS.items()
}
"""The key columns of each fact table, besides account and day."""
# --- the plan and the trail -------------------------------------------------------

change = Table(
    "change",
    metadata,
    _id(),
    _ref("account_id", "account"),
    _ref("person_id", "person", nullable=True),
    Column("row", INTEGER(unsigned=True), nullable=False),
    Column("action", String(10), nullable=False),
    Column("entity", String(16), nullable=False),
    Column("campaign", String(MAX_NAME), nullable=False),
    Column("ad_group", String(MAX_NAME), nullable=False),
    Column("target", String(MAX_PHRASE), nullable=False),
    Column("match_type", String(16), nullable=False),
    Column("sku", String(MAX_NAME), nullable=False),
    Column("placement", String(32), nullable=False),
    Column("days", String(64), nullable=False),
    Column("from_hour", String(4), nullable=False),
    Column("to_hour", String(4), nullable=False),
    Column("field", String(32), nullable=False),
    Column("old_value", String(_SHORT), nullable=False),
    Column("new_value", String(_SHORT), nullable=False),
    Column("reason", String(1024), nullable=False),
    Column("finding", String(64), nullable=False),
    # the row of the first change that it was proposed with, 0 of one alone
    Column("package", INTEGER(unsigned=True), nullable=False, server_default="0"),
    # the row of the change that makes what this one belongs to, 0 of one that stands for itself
    Column("parent", INTEGER(unsigned=True), nullable=False, server_default="0"),
    # planned, sent, done, failed, or taken back
    Column("state", String(12), nullable=False, server_default="planned"),
    # what the promise rests on: posterior, window, clicks, spend, sales
    Column("basis", JsonOf(Promise), nullable=False),
    # a hash of the key while planned, null once taken out: one open change per key
    Column("open_key", String(64), nullable=True),
    _now("accepted_at"),
    Column("removed_at", DateTime, nullable=True),
    UniqueConstraint("account_id", "open_key"),
    UniqueConstraint("account_id", "row"),
    **_TABLE,
)
plan_step = Table(
    "plan_step",
    metadata,
    _id(),
    _ref("account_id", "account"),
    _ref("person_id", "person", nullable=True),
    Column("what", String(16), nullable=False),
    _now("at"),
    Column("undone_at", DateTime, nullable=True),
    **_TABLE,
)
plan_step_change = Table(
    "plan_step_change",
    metadata,
    _ref("step_id", "plan_step", primary_key=True),
    _ref("change_id", "change", primary_key=True),
    # added, replaced, taken out, edited or done
    Column("did", String(12), nullable=False),
    Column("old_value", String(_SHORT), nullable=False, server_default=""),
    Column("new_value", String(_SHORT), nullable=False, server_default=""),
    Column("old_reason", String(1024), nullable=False, server_default=""),
    **_TABLE,
)
sending = Table(
    "sending",
    metadata,
    _id(),
    _ref("account_id", "account"),
    _ref("person_id", "person", nullable=True),
    Column("sheet", String(8), nullable=False),
    # the same sheet of the same plan is one sending
    Column("key", String(64), nullable=False),
    # the newest step before it: only later ones can be undone
    Column("after_step", INTEGER(unsigned=True), nullable=False, server_default="0"),
    _now("at"),
    # a sheet; or of what a marketplace is sent: approval, queued, sent, answered, cancelled
    Column("state", String(12), nullable=False, server_default="sheet"),
    # by what the marketplace is asked about it, the day from which it holds there, and what went wrong last
    Column("receipt", String(64), nullable=True),
    Column("day", Date, nullable=True),
    Column("said", String(512), nullable=False, server_default=""),
    # why it was sent beyond a guard, and who let it go
    Column("override", String(512), nullable=False, server_default=""),
    Column("approved_by", INTEGER(unsigned=True), nullable=True),
    UniqueConstraint("account_id", "key"),
    **_TABLE,
)
sending_change = Table(
    "sending_change",
    metadata,
    _ref("sending_id", "sending", primary_key=True),
    _ref("change_id", "change", primary_key=True),
    Column("new_value", String(_SHORT), nullable=False),
    # sent, done or failed, and what was said of it: a code, and words
    Column("result", String(12), nullable=False, server_default="sent"),
    Column("code", String(32), nullable=False, server_default=""),
    Column("said", String(512), nullable=False, server_default=""),
    **_TABLE,
)
# A token by which a program reads what a person may see; the token itself is not kept.
api_token = Table(
    "api_token",
    metadata,
    _id(),
    _ref("person_id", "person"),
    _ref("account_id", "account", nullable=True),
    Column("name", String(64), nullable=False),
    Column("digest", CHAR(64, charset="ascii", collation="ascii_bin"), nullable=False, unique=True),
    Column("ends_at", DateTime, nullable=False),
    Column("used_at", DateTime, nullable=True),
    Column("revoked_at", DateTime, nullable=True),
    _now("made_at"),
    **_TABLE,
)
# A marketplace that an account is linked to; its secret is encrypted.
marketplace_link = Table(
    "marketplace_link",
    metadata,
    _ref("account_id", "account", primary_key=True),
    Column("url", String(_SHORT), nullable=False),
    Column("client_id", String(_SHORT), nullable=False),
    Column("secret", String(1024), nullable=False),
    Column("active", Boolean, nullable=False, server_default="1"),
    Column("every_minutes", INTEGER(unsigned=True), nullable=False),
    Column("simulated", Boolean, nullable=False, server_default="0"),
    # when it was asked last, what day it was there, and what went wrong
    Column("asked_at", DateTime, nullable=True),
    Column("today", Date, nullable=True),
    Column("said", String(512), nullable=False, server_default=""),
    **_TABLE,
)
# A report that a marketplace is asked for.
report_order = Table(
    "report_order",
    metadata,
    _id(),
    _ref("account_id", "account"),
    Column("kind", String(32), nullable=False),
    Column("first_day", Date, nullable=False),
    Column("last_day", Date, nullable=False),
    # tells it from every other, so that it is ordered once
    Column("key", CHAR(32, charset="ascii", collation="ascii_bin"), nullable=False, unique=True),
    Column("handle", String(64), nullable=True),
    # open, loaded, empty or failed
    Column("state", String(12), nullable=False, server_default="open"),
    # the marketplace's day when it was ordered
    Column("as_of", Date, nullable=False),
    Column("tries", SMALLINT(unsigned=True), nullable=False, server_default="0"),
    Column("said", String(512), nullable=False, server_default=""),
    _now("at"),
    Index("ix_report_order_account_id_state", "account_id", "state"),
    **_TABLE,
)
trail = Table(
    "trail",
    metadata,
    _id(),
    _ref("person_id", "person", nullable=True),
    _ref("account_id", "account", nullable=True),
    Column("what", String(32), nullable=False),
    Column("detail", JSON, nullable=False),
    _now("at"),
    **_TABLE,
)

# --- what people keep: views, remarks, findings put away, targets of their own ---------

saved_view = Table(
    "saved_view",
    metadata,
    _id(),
    _ref("person_id", "person"),
    Column("place", String(64), nullable=False),
    Column("name", String(64), nullable=False),
    Column("query", String(2048), nullable=False),
    # The brand whose people see it besides; null for nobody else.
    _ref("brand_id", "brand", nullable=True),
    _now("saved_at"),
    UniqueConstraint("person_id", "place", "name"),
    **_TABLE,
)
put_away = Table(
    "put_away",
    metadata,
    _id(),
    _ref("account_id", "account"),
    _ref("person_id", "person", nullable=True),
    Column("check", String(32), nullable=False),
    # the row the finding is about, as a URL names it
    Column("row_id", String(64), nullable=False),
    # a null end and no clicks: dismissed for good
    Column("until_day", Date, nullable=True),
    Column("until_clicks", INTEGER(unsigned=True), nullable=True),
    Column("reason", String(512), nullable=False),
    _now("at"),
    # 1 while it is away, null once brought back: one of these per finding
    Column("open", TINYINT(unsigned=True), nullable=True, server_default="1"),
    UniqueConstraint("account_id", "check", "row_id", "open"),
    **_TABLE,
)
remark = Table(
    "remark",
    metadata,
    _id(),
    _ref("account_id", "account"),
    _ref("person_id", "person", nullable=True),
    Column("view", String(16), nullable=False),
    Column("row_id", String(64), nullable=False),
    Column("thing", String(255), nullable=False, server_default=""),
    Column("place", String(255), nullable=False, server_default=""),
    Column("text", String(2048), nullable=False),
    _now("at"),
    Column("removed_at", DateTime, nullable=True),
    Index(None, "account_id", "view", "row_id"),
    **_TABLE,
)
closing = Table(
    "closing",
    metadata,
    _id(),
    _ref("account_id", "account"),
    _ref("person_id", "person", nullable=True),
    Column("at", DateTime, nullable=False),
    # the part of the account that was looked at, and the whole address, as query strings
    Column("part", String(512), nullable=False),
    Column("address", String(2048), nullable=False),
    Column("overspend", BIGINT, nullable=False),
    # check, row, name, where, stake of each finding
    Column("found", JSON, nullable=False),
    Index(None, "account_id"),
    **_TABLE,
)
aim = Table(
    "aim",
    metadata,
    _id(),
    _ref("account_id", "account"),
    # target, campaign, portfolio, product or label; the account's own stands with the account
    Column("level", String(10), nullable=False),
    Column("name", String(MAX_NAME), nullable=False),
    # target_acos, or which limit of its bids
    Column("what", String(12), nullable=False, server_default="target_acos"),
    Column("value", Double, nullable=False),
    # from which day on it is as if it were not set
    Column("until_day", Date, nullable=True),
    UniqueConstraint("account_id", "level", "name", "what"),
    **_TABLE,
)
rule = Table(
    "rule",
    metadata,
    _id(),
    # the account it is for; null for all of them
    _ref("account_id", "account", nullable=True),
    _ref("person_id", "person", nullable=True),
    Column("view", String(16), nullable=False),
    Column("place", INTEGER(unsigned=True), nullable=False),
    # filters as an address has them, and the text that is searched for
    Column("conditions", JSON, nullable=False),
    Column("query", String(256), nullable=False, server_default=""),
    Column("action", String(24), nullable=False),
    Column("value", String(MAX_NAME), nullable=False, server_default=""),
    Column("no_sale", String(8), nullable=False, server_default=""),
    # days between two runs; 0: by hand
    Column("every", TINYINT(unsigned=True), nullable=False, server_default="0"),
    Index(None, "view", "account_id"),
    **_TABLE,
)
rule_run = Table(
    "rule_run",
    metadata,
    _ref("account_id", "account", primary_key=True),
    Column("view", String(16), primary_key=True),
    _now("at"),
    **_TABLE,
)
marketplace_id = Table(
    "marketplace_id",
    metadata,
    # target or ad: those of campaigns and ad groups stand with these
    Column("kind", String(8), primary_key=True),
    Column("thing_id", INTEGER(unsigned=True), primary_key=True, autoincrement=False),
    Column("external_id", String(64), nullable=False),
    **_TABLE,
)
sheet_layout = Table(
    "sheet_layout",
    metadata,
    _id(),
    _ref("account_id", "account"),
    Column("name", String(128), nullable=False),
    Column("content", JSON, nullable=False),
    UniqueConstraint("account_id", "name"),
    **_TABLE,
)
