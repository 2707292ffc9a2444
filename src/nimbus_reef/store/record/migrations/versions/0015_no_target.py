"""An account may have no target yet: until it has one, a usual one is assumed."""

import sqlalchemy as sa
from alembic import op

from nimbus_reef.core.targeting import ASSUMED_TARGET

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.alter_column("account", "target_acos", existing_type=sa.Double(), nullable=True)


def downgrade() -> None:
    account = sa.table("account", sa.column("target_acos", sa.Double()))
    op.execute(
        account.update().where(account.c.target_acos.is_(None)).values(target_acos=ASSUMED_TARGET)
    )
    op.alter_column("account", "target_acos", existing_type=sa.Double(), nullable=False)
