"""Whose offer a product page shows first."""

import sqlalchemy as sa
from alembic import op

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("listings", sa.Column("main_offer", sa.String(5), nullable=True), if_not_exists=True)


def downgrade() -> None:
    op.drop_column("listings", "main_offer")
