"""A note keeps what the thing was called and where it stood, so that it is found again in words."""

import sqlalchemy as sa
from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("remark", sa.Column("thing", sa.String(255), nullable=False, server_default=""), if_not_exists=True)
    op.add_column("remark", sa.Column("place", sa.String(255), nullable=False, server_default=""), if_not_exists=True)
