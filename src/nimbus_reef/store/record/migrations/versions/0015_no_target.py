"""Accounts without a target ACOS."""

import sqlalchemy as sa
from alembic import op

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None
_ASSUMED = 0.3


def upgrade() -> None:
    op.alter_column("account", "target_acos", existing_type=sa.Double(), nullable=True)


def downgrade() -> None:
    account = sa.table("account", sa.column("target_acos", sa.Double()))
    op.execute(
        account.update().where(account.c.target_acos.is_(None)).values(target_acos=_ASSUMED)
    )
    op.alter_column("account", "target_acos", existing_type=sa.Double(), nullable=False)
