"""What loading a file would remove or leave in doubt, each a sentence to say yes to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, select, text

from nimbus_reef.core.model import SCOPES
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.contract import Replaces, ReportKind
from nimbus_reef.store.loading import claims
from nimbus_reef.store.loading.claims import Claim
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.models import KEYS_OF, campaign

_NAMED_DAYS: Final = 6


@dataclass(frozen=True, slots=True)
class Incoming:
    """Rows on their way in. given: nobody has to be asked whether this label is meant."""

    account_id: int
    kind: ReportKind
    keyed: pl.DataFrame
    scope: str
    given: bool


def asked(connection: Connection, each: Incoming, scratch: Path) -> list[str]:
    """What loading would remove or leave in doubt, each a sentence."""
    kind, account_id = each.kind, each.account_id
    if kind.replaces is not Replaces.DAYS:
        return []
    span = claims.span_of(each.keyed)
    windows = claims.held_spans(connection, account_id, kind.name, span)
    if not windows:
        return []
    owned = claims.claim(connection, account_id, kind, each.keyed, each.scope, scratch)
    rows = _held_rows(connection, account_id, kind.name, owned, span, windows)
    given = claims.spans_of(each.keyed)
    return [
        *_lost_days(rows, given, span),
        *_summed_days(rows, given),
        *_broken_blocks(rows, span),
        *_lost_campaigns(connection, each, span, windows, owned),
        *_unknown_formats(connection, each, span, windows),
    ]


def _held_rows(
    connection: Connection, account_id: int, kind: str, owned: Claim, span: Window, windows: Sequence[Window]
) -> dict[Window, int]:
    """How many rows the file takes the place of, by the days they are the sums of."""
    first_day = snapshots.first_day_of(kind, "f")
    rows = connection.execute(
        text(
            f"SELECT {first_day} AS first_day, f.day, COUNT(*) AS held FROM `{kind}` f {claims.joined(kind, owned)} "
            f"WHERE f.account_id = :account AND {claims.overlapping(kind)} AND {owned.condition} GROUP BY f.day,"
            " first_day"
        ),
        {"account": account_id, **claims.bounds(span, windows)},
    )
    return {Window(row.first_day, row.day): row.held for row in rows}


def _lost_days(rows: Mapping[Window, int], given: set[Window], span: Window) -> list[str]:
    """Days inside the file's span that it has no row for, but the record does."""
    covered = {day for each in given for day in claims.days_of(each)}
    lost = {each.last: count for each, count in rows.items() if each.days == 1 and each.last not in covered}
    if not lost:
        return []
    return [
        f"The file covers {_told(span)} but has no row for {_named(sorted(lost))}, where "
        f"{sum(lost.values()):,} rows are loaded. Loading this file removes them."
    ]


def _told(span: Window) -> str:
    return f"{span.first} to {span.last}" if span.days > 1 else f"{span.last}"


def _named(days: Sequence[date]) -> str:
    more = f" and {len(days) - _NAMED_DAYS} more" if len(days) > _NAMED_DAYS else ""
    return f"{', '.join(day.isoformat() for day in days[:_NAMED_DAYS])}{more}"


def _summed_days(rows: Mapping[Window, int], given: set[Window]) -> list[str]:
    """Days held one by one that a sum in the file would take the place of."""
    asked = []
    for block in sorted(each for each in given if each.days > 1):
        days = sum(1 for each in rows if each.days == 1 and block.first <= each.last <= block.last)
        if days:
            asked.append(
                f"The file has one sum for {block.first} to {block.last}; {days} {'day' if days == 1 else 'days'} "
                "of these are loaded by day, which says more than their sum. Loading this file removes them."
            )
    return asked


def _broken_blocks(rows: Mapping[Window, int], span: Window) -> list[str]:
    """Sums held that the file covers only in part."""
    return [
        f"The file covers {_told(span)}, only a part of the sum that is loaded for {each.first} to "
        f"{each.last}. Loading this file removes all of that sum ({count:,} rows)."
        for each, count in sorted(rows.items())
        if each.days > 1 and not (span.first <= each.first and each.last <= span.last)
    ]


def _campaigns_held(
    connection: Connection, each: Incoming, span: Window, windows: Sequence[Window], condition: str
) -> set[int]:
    kind = each.kind.name
    rows = connection.execute(
        text(
            f"SELECT DISTINCT o.campaign_id FROM `{kind}` f {claims.CAMPAIGN_ROAD[KEYS_OF[kind][0]]} "
            f"WHERE f.account_id = :account AND {claims.overlapping(kind)} AND {condition}"
        ),
        {"account": each.account_id, **claims.bounds(span, windows)},
    )
    return set(rows.scalars())


def _lost_campaigns(
    connection: Connection, each: Incoming, span: Window, windows: Sequence[Window], owned: Claim
) -> list[str]:
    """Campaigns whose rows would go though the file does not have them, and nobody said it holds all."""
    if each.given or not each.kind.has_campaign:
        return []
    lost = _campaigns_held(connection, each, span, windows, owned.condition) - set(each.keyed["campaign_id"].unique())
    if not lost:
        return []
    return [
        f"{each.kind.title} of {_told(span)} are loaded for campaigns that are not in the file "
        f"({_names_of(connection, lost)}). If it holds one ad format only, say which (its label, or --scope); "
        f"a yes loads it as {'all there is' if each.scope == 'all' else f'{each.scope} ads'}, and removes theirs."
    ]


def _unknown_formats(connection: Connection, each: Incoming, span: Window, windows: Sequence[Window]) -> list[str]:
    """Campaigns held without a label whose format is not known: whether a labelled file is theirs is open."""
    if each.scope == "all" or not each.kind.has_campaign:
        return []
    formats = claims.formats_of(connection, each.account_id)
    unlabelled = _campaigns_held(connection, each, span, windows, f"f.scope = {SCOPES.index('all')}")
    unknown = {one for one in unlabelled if one not in formats} - set(each.keyed["campaign_id"].unique())
    if not unknown:
        return []
    return [
        f"It is not known which ad format {_names_of(connection, unknown)} {'is' if len(unknown) == 1 else 'are'}. "
        f"Their rows stay as they are; load the campaigns' settings first if they are {each.scope} ads."
    ]


def _names_of(connection: Connection, campaigns: set[int]) -> str:
    some = sorted(campaigns)[:_NAMED_DAYS]
    rows = connection.execute(select(campaign.c.name).where(campaign.c.id.in_(some)).order_by(campaign.c.id))
    more = f" and {len(campaigns) - len(some)} more" if len(campaigns) > len(some) else ""
    return f"{', '.join(f'“{name}”' for name in rows.scalars())}{more}"
