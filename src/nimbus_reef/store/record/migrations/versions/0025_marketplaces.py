"""Marketplaces that accounts are linked to, reports that are ordered there, and what became of what is sent."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

_TABLE = {
    "if_not_exists": True,
    "mysql_engine": "InnoDB",
    "mysql_charset": "utf8mb4",
    "mysql_collate": "utf8mb4_bin",
}
_ID = mysql.INTEGER(unsigned=True)


def upgrade() -> None:
    for column in (
        sa.Column("state", sa.String(12), nullable=False, server_default="sheet"),
        sa.Column("receipt", sa.String(64), nullable=True),
        sa.Column("day", sa.Date(), nullable=True),
        sa.Column("said", sa.String(512), nullable=False, server_default=""),
        sa.Column("override", sa.String(512), nullable=False, server_default=""),
        sa.Column("approved_by", _ID, nullable=True),
    ):
        op.add_column("sending", column, if_not_exists=True)
    op.add_column(
        "sending_change", sa.Column("code", sa.String(32), nullable=False, server_default=""), if_not_exists=True
    )
    op.add_column(
        "person", sa.Column("sends", sa.Boolean(), nullable=False, server_default="0"), if_not_exists=True
    )
    op.execute("UPDATE person SET sends = 1 WHERE role = 'owner'")
    op.create_table(
        "marketplace_link",
        sa.Column("account_id", _ID, sa.ForeignKey("account.id"), primary_key=True, nullable=False),
        sa.Column("url", sa.String(255), nullable=False),
        sa.Column("client_id", sa.String(255), nullable=False),
        sa.Column("secret", sa.String(1024), nullable=False),
        sa.Column("active", sa.Boolean(), nullable=False, server_default="1"),
        sa.Column("every_minutes", _ID, nullable=False),
        sa.Column("simulated", sa.Boolean(), nullable=False, server_default="0"),
        sa.Column("asked_at", sa.DateTime(), nullable=True),
        sa.Column("today", sa.Date(), nullable=True),
        sa.Column("said", sa.String(512), nullable=False, server_default=""),
        **_TABLE,
    )
    op.create_table(
        "report_order",
        sa.Column("id", _ID, primary_key=True, autoincrement=True),
        sa.Column("account_id", _ID, sa.ForeignKey("account.id"), nullable=False),
        sa.Column("kind", sa.String(32), nullable=False),
        sa.Column("first_day", sa.Date(), nullable=False),
        sa.Column("last_day", sa.Date(), nullable=False),
        sa.Column("key", mysql.CHAR(32, charset="ascii", collation="ascii_bin"), nullable=False, unique=True),
        sa.Column("handle", sa.String(64), nullable=True),
        sa.Column("state", sa.String(12), nullable=False, server_default="open"),
        sa.Column("as_of", sa.Date(), nullable=False),
        sa.Column("tries", mysql.SMALLINT(unsigned=True), nullable=False, server_default="0"),
        sa.Column("said", sa.String(512), nullable=False, server_default=""),
        sa.Column("at", sa.DateTime(), nullable=False, server_default=sa.text("UTC_TIMESTAMP()")),
        **_TABLE,
    )
    op.create_index("ix_report_order_account_id_state", "report_order", ["account_id", "state"], if_not_exists=True)


def downgrade() -> None:
    op.drop_table("report_order")
    op.drop_table("marketplace_link")
    op.drop_column("person", "sends")
    op.drop_column("sending_change", "code")
    for name in ("approved_by", "override", "said", "day", "receipt", "state"):
        op.drop_column("sending", name)
