"""Tokens by which programs read what a person may see."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

_ID = mysql.INTEGER(unsigned=True)


def upgrade() -> None:
    op.create_table(
        "api_token",
        sa.Column("id", _ID, primary_key=True, autoincrement=True),
        sa.Column("person_id", _ID, sa.ForeignKey("person.id"), nullable=False),
        sa.Column("account_id", _ID, sa.ForeignKey("account.id"), nullable=True),
        sa.Column("name", sa.String(64), nullable=False),
        sa.Column("digest", mysql.CHAR(64, charset="ascii", collation="ascii_bin"), nullable=False, unique=True),
        sa.Column("ends_at", sa.DateTime(), nullable=False),
        sa.Column("used_at", sa.DateTime(), nullable=True),
        sa.Column("revoked_at", sa.DateTime(), nullable=True),
        sa.Column("made_at", sa.DateTime(), nullable=False, server_default=sa.text("UTC_TIMESTAMP()")),
        if_not_exists=True,
        mysql_engine="InnoDB",
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
    )


def downgrade() -> None:
    op.drop_table("api_token")
