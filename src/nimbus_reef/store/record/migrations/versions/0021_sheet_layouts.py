"""Layouts of one's own for the change sheet, and the ids of targets and product ads that reports gave."""

import json

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None
_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin"}
_ID = mysql.INTEGER(unsigned=True)


def upgrade() -> None:
    op.create_table(
        "marketplace_id",
        sa.Column("kind", sa.String(8), nullable=False),
        sa.Column("thing_id", _ID, nullable=False, autoincrement=False),
        sa.Column("external_id", sa.String(64), nullable=False),
        sa.PrimaryKeyConstraint("kind", "thing_id", name=op.f("pk_marketplace_id")),
        if_not_exists=True,
        **_TABLE,
    )
    op.create_table(
        "sheet_layout",
        sa.Column("id", _ID, nullable=False, autoincrement=True),
        sa.Column("account_id", _ID, nullable=False),
        sa.Column("name", sa.String(128), nullable=False),
        sa.Column("content", sa.JSON(), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_sheet_layout_account_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_sheet_layout")),
        sa.UniqueConstraint("account_id", "name", name=op.f("uq_sheet_layout_account_id_name")),
        if_not_exists=True,
        **_TABLE,
    )
    _from_settings()


def _from_settings() -> None:
    """What was typed as a setting, "Header = column", becomes a layout."""
    connection = op.get_bind()
    wanted = sa.text("SELECT account_id, name, value FROM account_setting WHERE name IN ('export_name', 'export_columns')")
    found: dict[int, dict[str, str]] = {}
    for account_id, name, value in connection.execute(wanted).all():
        found.setdefault(account_id, {})[name] = value
    for account_id, own in found.items():
        columns = []
        for line in own.get("export_columns", "").split("\n"):
            header, _, words = (part.strip() for part in line.partition("="))
            fixed = len(words) > 1 and words[0] == words[-1] == '"'
            if header:
                text = words.strip('"')
                columns.append({"header": header, "of": "text" if fixed else words, "text": text if fixed else ""})
        if columns:
            connection.execute(
                sa.text("INSERT IGNORE INTO sheet_layout (account_id, name, content) VALUES (:account, :name, :content)"),
                {
                    "account": account_id,
                    "name": own.get("export_name") or "Own layout",
                    "content": json.dumps({"columns": columns, "words": {}, "apart": False}),
                },
            )
    connection.execute(sa.text("DELETE FROM account_setting WHERE name IN ('export_name', 'export_columns')"))
