"""A brand's own logo on the client's report."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None
_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin"}


def upgrade() -> None:
    op.create_table(
        "logo",
        sa.Column("account_id", mysql.INTEGER(unsigned=True), nullable=False),
        sa.Column("media", sa.String(32), nullable=False),
        sa.Column("content", mysql.MEDIUMTEXT(), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_logo_account_id")),
        sa.PrimaryKeyConstraint("account_id", name=op.f("pk_logo")),
        if_not_exists=True,
        **_TABLE,
    )
