"""Blocks beside days, longer names, files that feed several kinds."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

_DAILY = (
    "campaign_daily", "target_daily", "search_term_daily", "product_ad_daily", "placement_daily", "hourly",
    "product_sales_daily", "sales_hourly",
)
_LONGER = (
    ("campaign", "name", 512), ("ad_group", "name", 512), ("product", "sku", 512), ("change", "campaign", 512),
    ("change", "ad_group", 512), ("change", "target", 1024), ("change", "sku", 512), ("aim", "name", 512),
    ("phrase", "text", 1024),
)
_ID = mysql.INTEGER(unsigned=True)


def _columns(table: str) -> set[str]:
    return {column["name"] for column in sa.inspect(op.get_bind()).get_columns(table)}


def _add(table: str, column: sa.Column) -> None:
    """Adds a column unless an earlier try, cut off later on, has added it."""
    if column.name not in _columns(table):
        op.add_column(table, column)


def upgrade() -> None:
    for table in _DAILY:
        _add(table, sa.Column("first_day", sa.Date(), nullable=True))
    _phrases()
    for table, column, length in _LONGER:
        op.execute(
            f"ALTER TABLE `{table}` MODIFY `{column}` VARCHAR({length}) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL"
        )
    for table, key in (("day_version", ("account_id", "kind", "day")), ("batch_day", ("batch_id", "day"))):
        _add(table, sa.Column("first_day", sa.Date(), nullable=True))
        op.execute(f"UPDATE `{table}` SET first_day = day WHERE first_day IS NULL")
        rest = ", part" if table == "batch_day" else ""
        op.execute(
            f"ALTER TABLE `{table}` MODIFY first_day DATE NOT NULL, DROP PRIMARY KEY, "
            f"ADD PRIMARY KEY ({', '.join(key)}, first_day{rest})"
        )
    _add("batch_day", sa.Column("told", sa.Boolean(), server_default="1", nullable=False))
    _add("batch", sa.Column("together", _ID, nullable=True))
    op.create_index(op.f("ix_batch_together"), "batch", ["together"], if_not_exists=True)


def _phrases() -> None:
    """A text's own index gives way to one of its digest, which has no length to be over."""
    _add("phrase", sa.Column("digest", mysql.CHAR(32, charset="ascii", collation="ascii_bin"), nullable=True))
    op.execute("UPDATE phrase SET digest = MD5(text) WHERE digest IS NULL")
    held = {index["name"] for index in sa.inspect(op.get_bind()).get_indexes("phrase")}
    if "uq_phrase_digest" not in held:
        op.execute(
            "ALTER TABLE phrase MODIFY digest CHAR(32) CHARACTER SET ascii COLLATE ascii_bin NOT NULL, "
            "ADD UNIQUE INDEX uq_phrase_digest (digest)"
        )
    for name in held & {"uq_phrase_text", "text"}:
        op.drop_index(name, table_name="phrase")
