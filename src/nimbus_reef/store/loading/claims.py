"""Which held rows a file takes the place of: by its days, its label and its campaigns, or by its keys."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, select, text

from nimbus_reef.core.model import SCOPES
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.contract import Replaces, ReportKind
from nimbus_reef.store.record import bulk, snapshots
from nimbus_reef.store.record.models import KEYS_OF, batch, day_version


@dataclass(frozen=True, slots=True)
class Claim:
    """
    Which held rows on the file's days the file takes the place of, as SQL over `f`.

    by_campaign: the condition names `o.campaign_id`. keys: only rows with these keys.
    """

    condition: str
    by_campaign: bool = False
    keys: pl.DataFrame | None = None


_GIVEN: Final = "given_keys"


def claim(
    connection: Connection, account_id: int, kind: ReportKind, keyed: pl.DataFrame, scope: str, scratch: Path
) -> Claim:
    """By key: the keys in the file. By day: `all` owns every label; a format owns its own label,
    the campaigns in the file, and those of this format in the newest campaign settings, under
    whatever label.
    """
    if kind.replaces is Replaces.KEYS:
        return _keys_claim(connection, kind.name, keyed, scratch)
    labels = set(
        connection.execute(
            select(batch.c.scope).where(batch.c.account_id == account_id, batch.c.kind == kind.name).distinct()
        ).scalars()
    )
    # Where no other label was ever loaded, whole days go: far quicker than row by row.
    if scope == "all" or labels <= {scope}:
        return Claim("TRUE")
    campaigns = set(keyed["campaign_id"].drop_nulls().unique().to_list())
    campaigns |= {one for one, of in formats_of(connection, account_id).items() if of == scope}
    listed = ", ".join(str(int(number)) for number in sorted(campaigns)) or "0"
    return Claim(f"(f.scope = {SCOPES.index(scope)} OR o.campaign_id IN ({listed}))", by_campaign=True)


def _keys_claim(connection: Connection, kind: str, keyed: pl.DataFrame, scratch: Path) -> Claim:
    names = KEYS_OF[kind]
    keys = keyed.select(names).unique()
    columns = ", ".join(f"`{name}`" for name in names)
    connection.exec_driver_sql(f"DROP TEMPORARY TABLE IF EXISTS `{_GIVEN}`")
    connection.exec_driver_sql(
        f"CREATE TEMPORARY TABLE `{_GIVEN}` (PRIMARY KEY ({columns})) SELECT {columns} FROM `{kind}` LIMIT 0"
    )
    bulk.load(connection, _GIVEN, keys, scratch)
    same = " AND ".join(f"g.`{name}` = f.`{name}`" for name in names)
    return Claim(f"EXISTS (SELECT 1 FROM `{_GIVEN}` g WHERE {same})", keys=keys)


CAMPAIGN_ROAD: Final = {
    "campaign_id": "JOIN (SELECT id, id AS campaign_id FROM campaign) o ON o.id = f.campaign_id",
    "ad_group_id": "JOIN ad_group o ON o.id = f.ad_group_id",
    "target_id": "JOIN target t ON t.id = f.target_id JOIN ad_group o ON o.id = t.ad_group_id",
    "target_term_id": (
        "JOIN target_term w ON w.id = f.target_term_id "
        "JOIN target t ON t.id = w.target_id JOIN ad_group o ON o.id = t.ad_group_id"
    ),
    "product_ad_id": "JOIN product_ad a ON a.id = f.product_ad_id JOIN ad_group o ON o.id = a.ad_group_id",
}
"""From the first id of a row to its campaign."""


def joined(kind: str, owned: Claim) -> str:
    """The joins that the condition of a claim needs, as SQL over `f`."""
    return CAMPAIGN_ROAD[KEYS_OF[kind][0]] if owned.by_campaign else ""


def held_spans(connection: Connection, account_id: int, kind: str, span: Window) -> list[Window]:
    """Days and blocks with rows that share a day with the span."""
    rows = connection.execute(
        select(day_version.c.first_day, day_version.c.day).where(
            day_version.c.account_id == account_id,
            day_version.c.kind == kind,
            day_version.c.day >= span.first,
            day_version.c.first_day <= span.last,
            day_version.c.rows > 0,
        )
    )
    return [Window(row.first_day, row.day) for row in rows]


def spans_of(rows: pl.DataFrame) -> set[Window]:
    """The days and blocks that rows are of."""
    if "first_day" not in rows.columns:
        return {snapshots.day(each) for each in rows["day"].unique().to_list()}
    return {Window(first, last) for first, last in rows.select("first_day", "day").unique().rows()}


def span_of(rows: pl.DataFrame) -> Window:
    """From the first to the last day of rows, of which there is at least one."""
    first, last = rows["first_day" if "first_day" in rows.columns else "day"].min(), rows["day"].max()
    assert isinstance(first, date)
    assert isinstance(last, date)
    return Window(first, last)


def days_of(span: Window) -> list[date]:
    """Every day of a span."""
    return [span.first + timedelta(days=number) for number in range(span.days)]


def overlapping(kind: str) -> str:
    """SQL over `f` for rows of days or blocks that share a day with the file's; see `bounds`."""
    return f"f.day BETWEEN :first AND :limit AND {snapshots.first_day_of(kind, 'f')} <= :last"


def bounds(span: Window, windows: Sequence[Window]) -> dict[str, date]:
    """The file's first and last day, and the last day of whatever overlaps it."""
    return {"first": span.first, "last": span.last, "limit": max([span.last, *(each.last for each in windows)])}


def formats_of(connection: Connection, account_id: int) -> dict[int, str]:
    """The ad format of each campaign by its newest settings."""
    rows = connection.execute(
        text(
            "SELECT campaign_id, format FROM campaigns c WHERE account_id = :account AND day = "
            "(SELECT MAX(day) FROM campaigns n WHERE n.account_id = c.account_id "
            "AND n.campaign_id = c.campaign_id)"
        ),
        {"account": account_id},
    )
    return {row.campaign_id: row.format for row in rows}
