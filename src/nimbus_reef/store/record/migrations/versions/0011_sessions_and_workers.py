"""Sessions are kept here, so that they can be named and ended; workers say that they are there."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin", "if_not_exists": True}


def upgrade() -> None:
    op.create_table(
        "person_session",
        sa.Column("id", mysql.INTEGER(unsigned=True), autoincrement=True, nullable=False),
        sa.Column("person_id", mysql.INTEGER(unsigned=True), nullable=False),
        sa.Column("digest", mysql.CHAR(64, charset="ascii", collation="ascii_bin"), nullable=False),
        sa.Column("agent", sa.String(255), nullable=False),
        sa.Column("address", sa.String(64), nullable=False),
        sa.Column("kept", mysql.MEDIUMTEXT, nullable=True),
        sa.Column("begun_at", sa.DateTime, nullable=False, server_default=sa.text("utc_timestamp()")),
        sa.Column("seen_at", sa.DateTime, nullable=False, server_default=sa.text("utc_timestamp()")),
        sa.Column("ended_at", sa.DateTime, nullable=True),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_person_session_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_person_session")),
        sa.UniqueConstraint("digest", name=op.f("uq_person_session_digest")),
        **_TABLE,
    )
    op.create_table(
        "worker",
        sa.Column("name", sa.String(128), nullable=False),
        sa.Column("begun_at", sa.DateTime, nullable=False, server_default=sa.text("utc_timestamp()")),
        sa.Column("seen_at", sa.DateTime, nullable=False, server_default=sa.text("utc_timestamp()")),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_worker")),
        **_TABLE,
    )
    op.alter_column("job", "worker", existing_type=sa.String(64), type_=sa.String(128), existing_nullable=True)
    if "sessions" in {column["name"] for column in sa.inspect(op.get_bind()).get_columns("person")}:
        op.drop_column("person", "sessions")


def downgrade() -> None:
    op.add_column("person", sa.Column("sessions", sa.Integer, nullable=False, server_default="0"))
    op.alter_column("job", "worker", existing_type=sa.String(128), type_=sa.String(64), existing_nullable=True)
    op.drop_table("worker")
    op.drop_table("person_session")
