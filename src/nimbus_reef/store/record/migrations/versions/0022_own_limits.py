"""What is kept for a campaign or product beside its target ACOS: limits of its bids."""

import sqlalchemy as sa
from alembic import op

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None


def upgrade() -> None:
    what = sa.Column("what", sa.String(12), nullable=False, server_default="target_acos")
    op.add_column("aim", what, if_not_exists=True)
    op.execute("ALTER TABLE aim CHANGE COLUMN IF EXISTS target_acos value DOUBLE NOT NULL")
    # The new key comes first: the account that the rows are of is looked up by one of the two.
    unique = "uq_aim_account_id_level_name"
    op.execute(f"ALTER TABLE aim ADD UNIQUE INDEX IF NOT EXISTS {unique}_what (account_id, level, name, what)")
    op.execute(f"ALTER TABLE aim DROP INDEX IF EXISTS {unique}")
