"""An account's naming pattern; and when a boost holds, which may be dates and a condition."""

import sqlalchemy as sa
from alembic import op

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    if "naming" not in {column["name"] for column in sa.inspect(op.get_bind()).get_columns("account")}:
        op.add_column("account", sa.Column("naming", sa.String(255), nullable=False, server_default=""))
    op.alter_column("change", "days", existing_type=sa.String(16), type_=sa.String(64), existing_nullable=False)


def downgrade() -> None:
    op.alter_column("change", "days", existing_type=sa.String(64), type_=sa.String(16), existing_nullable=False)
    op.drop_column("account", "naming")
