"""The words of every normal form are kept, so that nobody has to split a text again."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

from nimbus_reef.store.loading import spelling

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "word",
        sa.Column("id", mysql.INTEGER(unsigned=True), autoincrement=True, nullable=False),
        sa.Column("text", sa.String(255), nullable=False),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_word")),
        sa.UniqueConstraint("text", name=op.f("uq_word_text")),
        mysql_engine="InnoDB", mysql_charset="utf8mb4", mysql_collate="utf8mb4_bin",
        if_not_exists=True,
    )
    if "words" not in {column["name"] for column in sa.inspect(op.get_bind()).get_columns("phrase")}:
        op.add_column("phrase", sa.Column("words", mysql.TEXT(charset="ascii", collation="ascii_bin"), nullable=True))
    spelling.fill_in(op.get_bind())


def downgrade() -> None:
    op.drop_column("phrase", "words")
    op.drop_table("word")
