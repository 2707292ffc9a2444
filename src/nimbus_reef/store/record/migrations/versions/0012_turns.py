"""Turns are written, not only locked, so that they hold between the nodes of a cluster; a batch knows its job."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None

_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin", "if_not_exists": True}


def upgrade() -> None:
    op.create_table(
        "turn",
        sa.Column("account_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False),
        sa.Column("what", sa.String(32), nullable=False),
        sa.Column("taken", mysql.BIGINT(unsigned=True), nullable=False),
        sa.PrimaryKeyConstraint("account_id", "what", name=op.f("pk_turn")),
        **_TABLE,
    )
    op.drop_table("load_lock", if_exists=True)
    job = sa.Column("job_id", mysql.INTEGER(unsigned=True), nullable=True)
    op.add_column("batch", job, if_not_exists=True)
    op.create_index(op.f("ix_batch_job_id"), "batch", ["job_id"], if_not_exists=True)


def downgrade() -> None:
    op.drop_index(op.f("ix_batch_job_id"), "batch")
    op.drop_column("batch", "job_id")
    op.create_table(
        "load_lock",
        sa.Column("account_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False),
        sa.Column("kind", sa.String(32), nullable=False),
        sa.PrimaryKeyConstraint("account_id", "kind", name=op.f("pk_load_lock")),
        **_TABLE,
    )
    op.drop_table("turn")
