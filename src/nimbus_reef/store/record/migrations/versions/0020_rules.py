"""Own rules on rows of lists, and when they were last run."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None
_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin"}
_ID = mysql.INTEGER(unsigned=True)


def upgrade() -> None:
    op.create_table(
        "rule",
        sa.Column("id", _ID, nullable=False, autoincrement=True),
        sa.Column("account_id", _ID, nullable=True),
        sa.Column("person_id", _ID, nullable=True),
        sa.Column("view", sa.String(16), nullable=False),
        sa.Column("place", _ID, nullable=False),
        sa.Column("conditions", sa.JSON(), nullable=False),
        sa.Column("query", sa.String(256), nullable=False, server_default=""),
        sa.Column("action", sa.String(24), nullable=False),
        sa.Column("value", sa.String(512), nullable=False, server_default=""),
        sa.Column("no_sale", sa.String(8), nullable=False, server_default=""),
        sa.Column("every", mysql.TINYINT(unsigned=True), nullable=False, server_default="0"),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_rule_account_id")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_rule_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_rule")),
        if_not_exists=True,
        **_TABLE,
    )
    op.create_index(op.f("ix_rule_view_account_id"), "rule", ["view", "account_id"], if_not_exists=True)
    op.create_table(
        "rule_run",
        sa.Column("account_id", _ID, nullable=False),
        sa.Column("view", sa.String(16), nullable=False),
        sa.Column("at", sa.DateTime(), nullable=False, server_default=sa.text("utc_timestamp()")),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_rule_run_account_id")),
        sa.PrimaryKeyConstraint("account_id", "view", name=op.f("pk_rule_run")),
        if_not_exists=True,
        **_TABLE,
    )
