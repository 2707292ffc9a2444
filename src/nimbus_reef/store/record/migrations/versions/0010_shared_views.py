"""Views of a table can be shared with a brand's people."""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    if "brand_id" not in {column["name"] for column in sa.inspect(op.get_bind()).get_columns("saved_view")}:
        op.add_column("saved_view", sa.Column("brand_id", mysql.INTEGER(unsigned=True), nullable=True))
        op.create_foreign_key(op.f("fk_saved_view_brand_id"), "saved_view", "brand", ["brand_id"], ["id"])


def downgrade() -> None:
    op.drop_constraint(op.f("fk_saved_view_brand_id"), "saved_view", type_="foreignkey")
    op.drop_column("saved_view", "brand_id")
