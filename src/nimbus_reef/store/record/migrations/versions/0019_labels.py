"""Own labels on products and campaigns."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None
_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin"}


def upgrade() -> None:
    op.create_table(
        "label",
        sa.Column("account_id", mysql.INTEGER(unsigned=True), nullable=False),
        sa.Column("kind", sa.String(8), nullable=False),
        sa.Column("name", sa.String(255), nullable=False),
        sa.Column("label", sa.String(64), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_label_account_id")),
        sa.PrimaryKeyConstraint("account_id", "kind", "name", "label", name=op.f("pk_label")),
        if_not_exists=True,
        **_TABLE,
    )
