"""What people keep: saved views, findings put away, remarks, targets of their own."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

_ID = mysql.INTEGER(unsigned=True)


def _table(name: str, *parts: sa.schema.SchemaItem) -> None:
    op.create_table(
        name,
        sa.Column("id", _ID, autoincrement=True, nullable=False),
        *parts,
        sa.PrimaryKeyConstraint("id"),
        if_not_exists=True,
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )


def _key(table: str, column: str, to: str) -> sa.ForeignKeyConstraint:
    return sa.ForeignKeyConstraint([column], [f"{to}.id"], name=op.f(f"fk_{table}_{column}"))


def _now(name: str) -> sa.Column:
    return sa.Column(name, sa.DateTime(), server_default=sa.func.utc_timestamp(), nullable=False)


def upgrade() -> None:
    _table(
        "saved_view",
        sa.Column("person_id", _ID, nullable=False),
        sa.Column("place", sa.String(64), nullable=False),
        sa.Column("name", sa.String(64), nullable=False),
        sa.Column("query", sa.String(2048), nullable=False),
        _now("saved_at"),
        _key("saved_view", "person_id", "person"),
        sa.UniqueConstraint("person_id", "place", "name", name=op.f("uq_saved_view_person_id_place_name")),
    )
    _table(
        "put_away",
        sa.Column("account_id", _ID, nullable=False),
        sa.Column("person_id", _ID, nullable=True),
        sa.Column("check", sa.String(32), nullable=False),
        sa.Column("row_id", sa.String(64), nullable=False),
        sa.Column("until_day", sa.Date(), nullable=True),
        sa.Column("until_clicks", _ID, nullable=True),
        sa.Column("reason", sa.String(512), nullable=False),
        _now("at"),
        sa.Column("open", mysql.TINYINT(unsigned=True), server_default="1", nullable=True),
        _key("put_away", "account_id", "account"),
        _key("put_away", "person_id", "person"),
        sa.UniqueConstraint(
            "account_id", "check", "row_id", "open", name=op.f("uq_put_away_account_id_check_row_id_open")
        ),
    )
    _table(
        "remark",
        sa.Column("account_id", _ID, nullable=False),
        sa.Column("person_id", _ID, nullable=True),
        sa.Column("view", sa.String(16), nullable=False),
        sa.Column("row_id", sa.String(64), nullable=False),
        sa.Column("text", sa.String(2048), nullable=False),
        _now("at"),
        sa.Column("removed_at", sa.DateTime(), nullable=True),
        _key("remark", "account_id", "account"),
        _key("remark", "person_id", "person"),
    )
    op.create_index(
        op.f("ix_remark_account_id_view_row_id"), "remark", ["account_id", "view", "row_id"], if_not_exists=True
    )
    _table(
        "aim",
        sa.Column("account_id", _ID, nullable=False),
        sa.Column("level", sa.String(10), nullable=False),
        sa.Column("name", sa.String(255), nullable=False),
        sa.Column("target_acos", sa.Double(), nullable=False),
        _key("aim", "account_id", "account"),
        sa.UniqueConstraint("account_id", "level", "name", name=op.f("uq_aim_account_id_level_name")),
    )


def downgrade() -> None:
    for name in ("aim", "remark", "put_away", "saved_view"):
        op.drop_table(name)
