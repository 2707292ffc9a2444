"""What of a file makes no sense beside what is held, each a question with both figures (core/sense.py has the rule)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Final

import polars as pl
from sqlalchemy import Connection, select, text

from nimbus_reef.core import sense
from nimbus_reef.core.model import MEASURES, MONEY_MEASURES, from_micro
from nimbus_reef.core.sense import Doubt, Sums
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.loading import claims
from nimbus_reef.store.loading.losses import Incoming
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.models import KEYS_OF, batch, day_version

_LOADS: Final = 30
"""So many of the newest loads tell what is usual."""
_MOST_ROWS: Final = 300_000
"""So many held rows at most are added up for the comparison: a load at size must not wait for it."""
_IN_WORDS: Final = {"spend": "A click costs", "sales": "An order brings"}


def asked(connection: Connection, each: Incoming, mapped: Mapping[str, str]) -> list[str]:
    """What cannot well be right, each a sentence. mapped: our columns that the file has."""
    found = _sums(each.keyed, mapped)
    doubts = [
        f"The file has more {_words(doubt.of)} than {_words(doubt.per)}: {_told(doubt.of, doubt.found)} and {_told(doubt.per, doubt.known)}."
        for doubt in sense.among_themselves(found)
    ]
    if "clicks" in each.kind.summed:
        doubts += [
            *_beside_usual(connection, each.account_id, found),
            *_beside_others(connection, each, mapped),
        ]
    if not doubts:
        return []
    return [f"{doubt} Are the right columns chosen?" for doubt in doubts]


def _sums(rows: pl.DataFrame, mapped: Mapping[str, str]) -> Sums:
    """Every counted column that the file has, added up; money in micro-units."""
    names = [name for name in rows.columns if name in mapped and rows[name].dtype.is_numeric()]
    return {name: float(rows[name].sum() or 0) for name in names}


def _beside_usual(connection: Connection, account_id: int, found: Sums) -> Iterator[str]:
    """What a click costs and an order brings beside the newest loads; beside bids and prices where there are none."""
    usual = _usual(connection, account_id)
    for doubt in sense.against_usual(found, usual):
        yield f"{_each(doubt)}; in what was loaded before {_told(doubt.of, doubt.known)}."
    if not usual.get("clicks"):
        least, most = _range(connection, account_id, "targets", "bid")
        for doubt in sense.against_range(found, "spend", "clicks", least, most):
            yield f"{_each(doubt)}; the {'highest' if doubt.found > doubt.known else 'lowest'} bid is {_told('spend', doubt.known)}."
    if not usual.get("orders"):
        least, most = _range(connection, account_id, "catalog", "price")
        for doubt in sense.against_range(found, "sales", "orders", least, most):
            yield f"{_each(doubt)}; the {'dearest' if doubt.found > doubt.known else 'cheapest'} product is sold at {_told('sales', doubt.known)}."


def _each(doubt: Doubt) -> str:
    return f"{_IN_WORDS[doubt.of]} {_told(doubt.of, doubt.found)} on average in the file"


def _usual(connection: Connection, account_id: int) -> Sums:
    """The sums of the newest loads that have clicks; of days that several reports tell more than once, which no quotient minds."""
    rows = connection.execute(
        select(batch.c.sums)
        .where(
            batch.c.account_id == account_id,
            batch.c.undone_at.is_(None),
            batch.c.kind.in_([kind.name for kind in KINDS.values() if "clicks" in kind.summed]),
        )
        .order_by(batch.c.id.desc())
        .limit(_LOADS)
    ).scalars()
    loads = list(rows)
    return {name: float(sum(each.get(name, 0) for each in loads)) for name in MEASURES}


def _range(connection: Connection, account_id: int, kind: str, column: str) -> tuple[float, float]:
    """The lowest and highest amount that is held there; noughts where none is."""
    row = connection.execute(
        text(
            f"SELECT MIN(`{column}`), MAX(`{column}`) FROM `{kind}` WHERE account_id = :account AND `{column}` > 0"  # noqa: S608  # names are the models’ own, values are bound
        ),
        {"account": account_id},
    ).one()
    return float(row[0] or 0), float(row[1] or 0)


def _beside_others(connection: Connection, each: Incoming, mapped: Mapping[str, str]) -> Iterator[str]:
    """The file's sums beside those of another report that is held of the same days, over the campaigns that both have."""
    if "campaign_id" not in each.keyed.columns:
        return
    given = claims.spans_of(each.keyed)
    for kind in KINDS.values():
        if kind.name == each.kind.name or "clicks" not in kind.summed or not kind.has_campaign:
            continue
        spans = _same_days(connection, each.account_id, kind.name, given)
        if not spans:
            continue
        held = _held(connection, each.account_id, kind.name, spans)
        ours = _rows_of(each.keyed, spans)
        both = set(held["campaign_id"]) & set(ours["campaign_id"].drop_nulls())
        shared = pl.col("campaign_id").is_in(list(both))
        one, other = (
            _sums(ours.filter(shared), mapped),
            _sums(held.filter(shared), dict.fromkeys(MEASURES, "")),
        )
        told = ", ".join(
            f"{_told(doubt.of, doubt.found)} {_words(doubt.of)} beside {_told(doubt.of, doubt.known)}"
            for doubt in sense.against_others(one, other, _compared(each.kind.name, kind.name))
        )
        if told:
            yield f"Of the same campaigns in {_days(spans)} the file and {kind.title.lower()} tell different sums: {told}."
        return


def _compared(*kinds: str) -> tuple[str, ...]:
    """The measures that both reports tell of all there was: terms are mostly told where they were clicked, so not what was only shown."""
    return tuple(name for name in MEASURES if name != "impressions" or "search_term_daily" not in kinds)


def _same_days(connection: Connection, account_id: int, kind: str, given: set[Window]) -> list[Window]:
    """The newest days and sums of the file that are held of another kind as they are, as many as can be added up at once."""
    span = Window(min(one.first for one in given), max(one.last for one in given))
    rows = connection.execute(
        select(day_version.c.first_day, day_version.c.day, day_version.c.rows).where(
            day_version.c.account_id == account_id, day_version.c.kind == kind, day_version.c.rows > 0,
            day_version.c.day >= span.first, day_version.c.day <= span.last,
        ).order_by(day_version.c.day.desc())
    )  # fmt: skip
    found, left = [], _MOST_ROWS
    for row in rows:
        left -= row.rows
        if left < 0:
            break
        if Window(row.first_day, row.day) in given:
            found.append(Window(row.first_day, row.day))
    return found


def _held(connection: Connection, account_id: int, kind: str, spans: Sequence[Window]) -> pl.DataFrame:
    measures = ", ".join(f"CAST(SUM(f.`{name}`) AS DOUBLE) AS `{name}`" for name in MEASURES)
    days = ", ".join(f"('{each.first}', '{each.last}')" for each in spans)
    rows = connection.execute(
        text(
            f"SELECT o.campaign_id, {measures} FROM `{kind}` f {claims.CAMPAIGN_ROAD[KEYS_OF[kind][0]]} "  # noqa: S608  # names are the models’ own, days are dates
            f"WHERE f.account_id = :account AND f.day BETWEEN :first AND :last AND ({snapshots.first_day_of(kind, 'f')}, f.day) IN ({days}) "
            "GROUP BY o.campaign_id"
        ),
        {
            "account": account_id,
            "first": min(one.last for one in spans),
            "last": max(one.last for one in spans),
        },
    )
    return pl.DataFrame(rows.all(), schema=["campaign_id", *MEASURES], orient="row")


def _rows_of(rows: pl.DataFrame, spans: Sequence[Window]) -> pl.DataFrame:
    first = pl.col("first_day" if "first_day" in rows.columns else "day")
    wanted = pl.DataFrame({"first": [each.first for each in spans], "day": [each.last for each in spans]})
    return rows.with_columns(first=first).join(wanted, on=["first", "day"], how="semi")


def _days(spans: Sequence[Window]) -> str:
    first, last = min(each.first for each in spans), max(each.last for each in spans)
    return f"{first} to {last}" if first < last else f"{last}"


def _words(measure: str) -> str:
    return measure.replace("_", " ")


def _told(measure: str, figure: float) -> str:
    return f"{from_micro(figure):,.2f}" if measure in MONEY_MEASURES else f"{figure:,.0f}"
