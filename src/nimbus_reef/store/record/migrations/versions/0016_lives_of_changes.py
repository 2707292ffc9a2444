"""A change has a state and a parent; what was done to the plan, and which sheets left, are rows and no longer JSON."""

import json

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None
_UNSIGNED = mysql.INTEGER(unsigned=True)
_TABLE = {"mysql_engine": "InnoDB", "mysql_charset": "utf8mb4", "mysql_collate": "utf8mb4_bin"}


def upgrade() -> None:
    op.add_column("change", sa.Column("parent", _UNSIGNED, server_default="0", nullable=False), if_not_exists=True)
    op.add_column(
        "change", sa.Column("state", sa.String(12), server_default="planned", nullable=False), if_not_exists=True
    )
    op.execute("UPDATE `change` SET state = 'taken back' WHERE removed_at IS NOT NULL")
    op.create_table(
        "plan_step",
        sa.Column("id", _UNSIGNED, autoincrement=True, nullable=False),
        sa.Column("account_id", _UNSIGNED, nullable=False),
        sa.Column("person_id", _UNSIGNED, nullable=True),
        sa.Column("what", sa.String(16), nullable=False),
        sa.Column("at", sa.DateTime(), server_default=sa.text("UTC_TIMESTAMP()"), nullable=False),
        sa.Column("undone_at", sa.DateTime(), nullable=True),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_plan_step_account_id")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_plan_step_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_plan_step")),
        if_not_exists=True,
        **_TABLE,
    )
    op.create_table(
        "plan_step_change",
        sa.Column("step_id", _UNSIGNED, nullable=False),
        sa.Column("change_id", _UNSIGNED, nullable=False),
        sa.Column("did", sa.String(12), nullable=False),
        sa.Column("old_value", sa.String(255), server_default="", nullable=False),
        sa.Column("new_value", sa.String(255), server_default="", nullable=False),
        sa.Column("old_reason", sa.String(1024), server_default="", nullable=False),
        sa.ForeignKeyConstraint(["step_id"], ["plan_step.id"], name=op.f("fk_plan_step_change_step_id")),
        sa.ForeignKeyConstraint(["change_id"], ["change.id"], name=op.f("fk_plan_step_change_change_id")),
        sa.PrimaryKeyConstraint("step_id", "change_id", name=op.f("pk_plan_step_change")),
        if_not_exists=True,
        **_TABLE,
    )
    op.create_table(
        "sending",
        sa.Column("id", _UNSIGNED, autoincrement=True, nullable=False),
        sa.Column("account_id", _UNSIGNED, nullable=False),
        sa.Column("person_id", _UNSIGNED, nullable=True),
        sa.Column("sheet", sa.String(8), nullable=False),
        sa.Column("key", sa.String(64), nullable=False),
        sa.Column("after_step", _UNSIGNED, server_default="0", nullable=False),
        sa.Column("at", sa.DateTime(), server_default=sa.text("UTC_TIMESTAMP()"), nullable=False),
        sa.ForeignKeyConstraint(["account_id"], ["account.id"], name=op.f("fk_sending_account_id")),
        sa.ForeignKeyConstraint(["person_id"], ["person.id"], name=op.f("fk_sending_person_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_sending")),
        sa.UniqueConstraint("account_id", "key", name=op.f("uq_sending_account_id_key")),
        if_not_exists=True,
        **_TABLE,
    )
    op.create_table(
        "sending_change",
        sa.Column("sending_id", _UNSIGNED, nullable=False),
        sa.Column("change_id", _UNSIGNED, nullable=False),
        sa.Column("new_value", sa.String(255), nullable=False),
        sa.Column("result", sa.String(12), server_default="sent", nullable=False),
        sa.Column("said", sa.String(512), server_default="", nullable=False),
        sa.ForeignKeyConstraint(["sending_id"], ["sending.id"], name=op.f("fk_sending_change_sending_id")),
        sa.ForeignKeyConstraint(["change_id"], ["change.id"], name=op.f("fk_sending_change_change_id")),
        sa.PrimaryKeyConstraint("sending_id", "change_id", name=op.f("pk_sending_change")),
        if_not_exists=True,
        **_TABLE,
    )
    _from_trail(op.get_bind())


def _from_trail(connection: sa.Connection) -> None:
    """What the trail told of sheets and of steps since the newest of them, as rows."""
    if connection.execute(sa.text("SELECT COUNT(*) FROM plan_step")).scalar():
        return
    ids = {
        (account, row): number
        for number, account, row in connection.execute(sa.text("SELECT id, account_id, `row` FROM `change`"))
    }
    own = set(ids.values())
    lines = connection.execute(
        sa.text("SELECT id, account_id, person_id, what, detail, at FROM trail WHERE account_id IS NOT NULL ORDER BY id")
    ).all()
    told = [(*line[:4], json.loads(line[4]) if isinstance(line[4], str) else line[4], line[5]) for line in lines]
    undone = {detail.get("step") for *_, what, detail, _ in told if what == "undone in the plan"}
    for number, account, person, what, detail, at in told:
        if what == "exported" and "sheet" in detail:
            made = {"account": account, "person": person, "sheet": str(detail["sheet"])[:8], "key": f"trail {number}"}
            connection.execute(
                sa.text(
                    "INSERT INTO sending (account_id, person_id, sheet, `key`, at, after_step) SELECT :account, :person,"
                    " :sheet, :key, :at, COALESCE(MAX(id), 0) FROM plan_step"
                ),
                made | {"at": at},
            )
        if what in ("accepted", "removed", "read back", "edited"):
            rows = _rows(what, detail, account, ids, own)
            step = connection.execute(
                sa.text(
                    "INSERT INTO plan_step (account_id, person_id, what, at, undone_at) VALUES (:account, :person,"
                    " :what, :at, :undone)"
                ),
                {"account": account, "person": person, "what": what, "at": at, "undone": at if number in undone else None},
            ).lastrowid
            if rows:
                connection.execute(
                    sa.text(
                        "INSERT INTO plan_step_change (step_id, change_id, did, old_value, new_value, old_reason) VALUES"
                        " (:step, :change, :did, :old, :new, :reason)"
                    ),
                    [{"step": step, "old": "", "new": "", "reason": ""} | row for row in rows],
                )


def _rows(what, detail, account, ids, own):
    if what == "accepted":
        found = [{"change": ids.get((account, row)), "did": "added"} for row in detail.get("rows", ())]
        found += [{"change": change, "did": "replaced"} for change in detail.get("replaced", ())]
    elif what == "removed":
        found = [{"change": change, "did": "taken out"} for change in detail.get("changes", ())]
    else:
        found = [
            {"change": ids.get((account, row)), "did": "edited", "old": old, "new": new, "reason": reason[:1024]}
            for row, old, new, reason in detail.get("edited", ())
        ]
        found += [{"change": ids.get((account, row)), "did": "taken out"} for row in detail.get("unplanned", ())]
    return list({row["change"]: row for row in found if row["change"] in own}.values())


def downgrade() -> None:
    for table in ("sending_change", "sending", "plan_step_change", "plan_step"):
        op.drop_table(table)
    op.drop_column("change", "state")
    op.drop_column("change", "parent")
