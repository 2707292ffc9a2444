"""
Plausibility check before a load: questions about sums that contradict each other or the loaded data. The thresholds are
in core/sense.py.
"""

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

_NEWEST_LOADS: Final = 30
"""The newest loads define the account's usual click price and order value."""
_MOST_ROWS: Final = 300_000
"""Most loaded rows that one comparison adds up, so that a large load does not wait for it."""
_WITH_CLICKS: Final = tuple(kind for kind in KINDS.values() if "clicks" in kind.summed)
_AVERAGE: Final = {"spend": "An average click costs", "sales": "An average order is worth"}


def questions(connection: Connection, incoming: Incoming, columns: Mapping[str, str]) -> list[str]:
    """One sentence for each implausible figure, both figures in it. columns: our columns that the file has."""
    found = _sums(incoming.keyed, columns)
    names = [
        f"The file has more {_words(doubt.of)} than {_words(doubt.per)} "
        f"({_figure(doubt.of, doubt.found)} and {_figure(doubt.per, doubt.known)})."
        for doubt in sense.among_themselves(found)
    ]
    if incoming.kind in _WITH_CLICKS:
        names += _against_usual(connection, incoming.account_id, found)
        names += _against_other_report(connection, incoming, columns)
    return [f"{sentence} Are the right columns chosen?" for sentence in names]


def _sums(rows: pl.DataFrame, columns: Mapping[str, str]) -> Sums:
    """The total of each numeric column that the file has; money in micro-units."""
    names = [name for name in rows.columns if name in columns and rows[name].dtype.is_numeric()]
    return {name: float(rows[name].sum() or 0) for name in names}


def _against_usual(connection: Connection, account_id: int, found: Sums) -> Iterator[str]:
    """Click price and order value against the newest loads; against bids and product prices before the first one."""
    usual = _usual_sums(connection, account_id)
    for doubt in sense.against_usual(found, usual):
        yield f"{_average(doubt)}. In earlier loads it was {_figure(doubt.of, doubt.known)}."
    if not usual.get("clicks"):
        least, most = _lowest_and_highest(connection, account_id, "targets", "bid")
        for doubt in sense.against_range(found, "spend", "clicks", least, most):
            end = "highest" if doubt.found > doubt.known else "lowest"
            yield f"{_average(doubt)}. The {end} bid is {_figure('spend', doubt.known)}."
    if not usual.get("orders"):
        least, most = _lowest_and_highest(connection, account_id, "catalog", "price")
        for doubt in sense.against_range(found, "sales", "orders", least, most):
            end = "highest" if doubt.found > doubt.known else "lowest"
            yield f"{_average(doubt)}. The {end} product price is {_figure('sales', doubt.known)}."


def _average(doubt: Doubt) -> str:
    return f"{_AVERAGE[doubt.of]} {_figure(doubt.of, doubt.found)} in this file"


def _usual_sums(connection: Connection, account_id: int) -> Sums:
    """Totals of the newest loads with clicks. Several reports may count the same day, which cancels out in a ratio."""
    loads = list(
        connection.execute(
            select(batch.c.sums)
            .where(
                batch.c.account_id == account_id,
                batch.c.undone_at.is_(None),
                batch.c.kind.in_([kind.name for kind in _WITH_CLICKS]),
            )
            .order_by(batch.c.id.desc())
            .limit(_NEWEST_LOADS)
        ).scalars()
    )
    return {name: float(sum(sums.get(name, 0) for sums in loads)) for name in MEASURES}


def _lowest_and_highest(connection: Connection, account_id: int, kind: str, column: str) -> tuple[float, float]:
    """The lowest and the highest loaded amount in micro-units; 0 and 0 when none is loaded."""
    row = connection.execute(
        text(f"SELECT MIN(`{column}`), MAX(`{column}`) FROM `{kind}` WHERE account_id = :account AND `{column}` > 0"),
        {"account": account_id},
    ).one()
    return float(row[0] or 0), float(row[1] or 0)


def _against_other_report(connection: Connection, incoming: Incoming, columns: Mapping[str, str]) -> Iterator[str]:
    """Totals against the first other report loaded for the same days, over the campaigns in both."""
    given = claims.spans_of(incoming.keyed)
    for kind in _WITH_CLICKS:
        if kind == incoming.kind or not kind.has_campaign or not incoming.kind.has_campaign:
            continue
        spans = _shared_days(connection, incoming.account_id, kind.name, given)
        if not spans:
            continue
        loaded = _loaded_sums(connection, incoming.account_id, kind.name, spans)
        rows = _rows_of(incoming.keyed, spans)
        shared = pl.col("campaign_id").is_in(list(set(loaded["campaign_id"]) & set(rows["campaign_id"])))
        doubts = sense.against_others(
            _sums(rows.filter(shared), columns),
            _sums(loaded.filter(shared), dict.fromkeys(MEASURES, "")),
            _comparable(incoming.kind.name, kind.name),
        )
        if doubts:
            words = ", ".join(
                f"{_words(doubt.of)} {_figure(doubt.of, doubt.found)} against {_figure(doubt.of, doubt.known)}"
                for doubt in doubts
            )
            yield f"For the same campaigns and days ({_days(spans)}) the file and “{kind.title}” disagree: {words}."
        return


def _comparable(*kinds: str) -> tuple[str, ...]:
    """
    Measures that both reports count in full. Search term reports often list clicked terms only, so
    not all impressions.
    """
    return tuple(name for name in MEASURES if name != "impressions" or "search_term_daily" not in kinds)


def _shared_days(connection: Connection, account_id: int, kind: str, given: set[Window]) -> list[Window]:
    """Days and sums of the file that another kind has with the same bounds, newest first, up to `_MOST_ROWS` rows."""
    span = Window(min(one.first for one in given), max(one.last for one in given))
    rows = connection.execute(
        select(day_version.c.first_day, day_version.c.day, day_version.c.rows)
        .where(
            day_version.c.account_id == account_id,
            day_version.c.kind == kind,
            day_version.c.rows > 0,
            day_version.c.day >= span.first,
            day_version.c.day <= span.last,
        )
        .order_by(day_version.c.day.desc())
    )
    found, left = [], _MOST_ROWS
    for row in rows:
        left -= row.rows
        if left < 0:
            break
        if Window(row.first_day, row.day) in given:
            found.append(Window(row.first_day, row.day))
    return found


def _loaded_sums(connection: Connection, account_id: int, kind: str, spans: Sequence[Window]) -> pl.DataFrame:
    """campaign_id and the measures of a loaded report over these days, one row per campaign; money in micro-units."""
    measures = ", ".join(f"CAST(SUM(f.`{name}`) AS DOUBLE) AS `{name}`" for name in MEASURES)
    days = ", ".join(f"('{each.first}', '{each.last}')" for each in spans)
    rows = connection.execute(
        text(
            f"SELECT o.campaign_id, {measures} FROM `{kind}` f {claims.CAMPAIGN_ROAD[KEYS_OF[kind][0]]} "
            "WHERE f.account_id = :account AND f.day BETWEEN :first AND :last AND"
            f" ({snapshots.first_day_of(kind, 'f')}, f.day) IN ({days}) "
            "GROUP BY o.campaign_id"
        ),
        {"account": account_id, "first": min(one.last for one in spans), "last": max(one.last for one in spans)},
    )
    return pl.DataFrame(rows.all(), schema=["campaign_id", *MEASURES], orient="row")


def _rows_of(rows: pl.DataFrame, spans: Sequence[Window]) -> pl.DataFrame:
    """The file's rows on these days."""
    first = pl.col("first_day" if "first_day" in rows.columns else "day")
    wanted = pl.DataFrame({"first": [each.first for each in spans], "day": [each.last for each in spans]})
    return rows.with_columns(first=first).join(wanted, on=["first", "day"], how="semi")


def _days(spans: Sequence[Window]) -> str:
    first, last = min(each.first for each in spans), max(each.last for each in spans)
    return f"{first} to {last}" if first < last else f"{last}"


def _words(measure: str) -> str:
    return measure.replace("_", " ")


def _figure(measure: str, figure: float) -> str:
    return f"{from_micro(figure):,.2f}" if measure in MONEY_MEASURES else f"{figure:,.0f}"
