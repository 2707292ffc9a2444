"""Batches can be undone: every day they touched keeps the rows they replaced."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("batch", sa.Column("undone_at", sa.DateTime(), nullable=True), if_not_exists=True)
    op.create_table(
        "batch_day",
        sa.Column("batch_id", mysql.INTEGER(unsigned=True), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("part", mysql.SMALLINT(unsigned=True), autoincrement=False, nullable=False),
        sa.Column("replaced", mysql.LONGBLOB(), nullable=True),
        sa.Column("undone", sa.Boolean(), server_default="0", nullable=False),
        sa.ForeignKeyConstraint(["batch_id"], ["batch.id"], name=op.f("fk_batch_day_batch_id")),
        sa.PrimaryKeyConstraint("batch_id", "day", "part"),
        if_not_exists=True,
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
        mysql_engine="InnoDB",
    )


def downgrade() -> None:
    op.drop_table("batch_day")
    op.drop_column("batch", "undone_at")
