"""Links that work once, sessions that can be ended, and the settings of an account."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin", "if_not_exists": True}


def _add(table: str, *columns: sa.Column) -> None:
    there = {column["name"] for column in sa.inspect(op.get_bind()).get_columns(table)}
    for column in columns:
        if column.name not in there:
            op.add_column(table, column)


def upgrade() -> None:
    _add("person", sa.Column("sessions", sa.Integer, nullable=False, server_default="0"))
    _add(
        "account",
        sa.Column("resting", sa.Boolean, nullable=False, server_default="0"),
        sa.Column("settings_version", sa.Integer, nullable=False, server_default="0"),
    )
    op.create_table(
        "one_time_link",
        sa.Column("id", mysql.INTEGER(unsigned=True), autoincrement=True, nullable=False),
        sa.Column("purpose", sa.String(16), nullable=False),
        sa.Column("digest", mysql.CHAR(64, charset="ascii", collation="ascii_bin"), nullable=False),
        sa.Column("person_id", mysql.INTEGER(unsigned=True), nullable=True),
        sa.Column("ends_at", sa.DateTime, nullable=True),
        sa.Column("used_at", sa.DateTime, nullable=True),
        sa.Column("made_at", sa.DateTime, nullable=False, server_default=sa.text("utc_timestamp()")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_one_time_link_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_one_time_link")),
        sa.UniqueConstraint("digest", name=op.f("uq_one_time_link_digest")),
        **_TABLE,
    )
    op.create_table(
        "account_setting",
        sa.Column("account_id", mysql.INTEGER(unsigned=True), nullable=False),
        sa.Column("name", sa.String(64), nullable=False),
        sa.Column("value", sa.String(2048), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_account_setting_account_id")),
        sa.PrimaryKeyConstraint("account_id", "name", name=op.f("pk_account_setting")),
        **_TABLE,
    )


def downgrade() -> None:
    op.drop_table("account_setting")
    op.drop_table("one_time_link")
    op.drop_column("account", "settings_version")
    op.drop_column("account", "resting")
    op.drop_column("person", "sessions")
