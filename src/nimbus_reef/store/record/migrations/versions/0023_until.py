"""A goal of bids that holds until a day."""

import sqlalchemy as sa
from alembic import op

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("aim", sa.Column("until_day", sa.Date, nullable=True), if_not_exists=True)


def downgrade() -> None:
    op.drop_column("aim", "until_day")
