"""Changes that were proposed together are planned, and taken out, together."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    package = sa.Column("package", mysql.INTEGER(unsigned=True), server_default="0", nullable=False)
    op.add_column("change", package, if_not_exists=True)


def downgrade() -> None:
    op.drop_column("change", "package")
