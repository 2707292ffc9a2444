"""Lists of phrases that were brought in, and the bid that a marketplace suggests for a keyword."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("keyword_ranks", sa.Column("suggested_bid", mysql.BIGINT(), nullable=True), if_not_exists=True)
    op.create_table(
        "phrase_lists",
        sa.Column("account_id", mysql.SMALLINT(unsigned=True), autoincrement=False, nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("keyword_phrase_id", mysql.INTEGER(unsigned=True), autoincrement=False, nullable=False),
        sa.Column("name", sa.String(255), nullable=False),
        sa.Column("scope", mysql.TINYINT(unsigned=True), nullable=False),
        sa.Column("batch_id", mysql.INTEGER(unsigned=True), nullable=False),
        sa.Column("search_volume", mysql.INTEGER(unsigned=True), nullable=True),
        sa.Column("category", sa.String(255), nullable=True),
        sa.PrimaryKeyConstraint("account_id", "day", "keyword_phrase_id", "name"),
        if_not_exists=True,
        mysql_engine="InnoDB",
        mysql_charset="utf8mb4",
        mysql_collate="utf8mb4_bin",
    )


def downgrade() -> None:
    op.drop_table("phrase_lists")
    op.drop_column("keyword_ranks", "suggested_bid")
