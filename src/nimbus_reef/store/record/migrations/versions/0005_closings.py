"""Audits that were closed."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

_ID = mysql.INTEGER(unsigned=True)


def upgrade() -> None:
    op.create_table(
        "closing",
        sa.Column("id", _ID, autoincrement=True, nullable=False),
        sa.Column("account_id", _ID, nullable=False),
        sa.Column("person_id", _ID, nullable=True),
        sa.Column("at", sa.DateTime(), nullable=False),
        sa.Column("part", sa.String(512), nullable=False),
        sa.Column("address", sa.String(2048), nullable=False),
        sa.Column("overspend", sa.BigInteger(), nullable=False),
        sa.Column("found", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_closing_account_id")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_closing_person_id")),
        sa.PrimaryKeyConstraint("id"),
        if_not_exists=True,
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )
    op.create_index(op.f("ix_closing_account_id"), "closing", ["account_id"], if_not_exists=True)


def downgrade() -> None:
    op.drop_table("closing")
