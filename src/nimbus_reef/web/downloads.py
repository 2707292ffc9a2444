"""Tables taken out: CSV streamed, JSON, Parquet and small workbooks at once, large workbooks by a worker."""

from __future__ import annotations

import io
from collections.abc import Callable, Mapping, Sequence
from typing import Final

from flask import Response, redirect, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.errors import BadInput, Conflict, NotFound
from nimbus_reef.formats.tables import Table, csv_lines
from nimbus_reef.jobs import exports as work
from nimbus_reef.store.people import trail
from nimbus_reef.store.record import loads
from nimbus_reef.web.current import context, current_scope, person, services, token
from nimbus_reef.web.kit.views import AreaView

AT_ONCE_ROWS: Final = 1_000
"""So many rows are a workbook before anybody would wait; more are a worker's."""
_AT_A_TIME: Final = 3
XLSX: Final = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
_PARQUET: Final = "application/vnd.apache.parquet"


def hand_out(table: Table, ending: str) -> AnyResponse:
    """The table in the form that the address ends in; a large workbook leads to its progress."""
    account, who, store, by = current_scope().account, person(), services().store, token()
    trail.note(
        store,
        "exported",
        person_id=who.id,
        account_id=account.id,
        detail={"table": table.name, "rows": len(table.rows), "as": ending} | ({"token": by.name} if by else {}),
    )
    file_name = f"{account.key}-{table.name}.{ending}"
    if ending == "csv":
        lines = csv_lines(table.rows.columns, table.rows.iter_rows())
        return _attached(Response(lines, mimetype="text/csv"), file_name)
    target = io.BytesIO()
    if ending == "parquet":
        work.as_parquet(table, target)
        return _attached(Response(target.getvalue(), mimetype=_PARQUET), file_name)
    if ending == "json":
        return Response(work.as_json(table), mimetype="application/json")
    if ending != "xlsx" or by:
        raise BadInput(f"“{ending}” is not a download format.", remedy="Use csv, json, xlsx (in a browser) or parquet.")
    return _as_workbook([table], file_name)


def hand_out_view(views: Mapping[str, AreaView], name: str, ending: str, ready: Callable[[], object]) -> AnyResponse:
    """The rows of a view of an area as the address narrows them. ready: raises where their reports are not held."""
    found = views.get(name)
    if found is None or not found.leaves:
        every = ", ".join(each for each, view in views.items() if view.leaves)
        raise NotFound(f"“{name}” is not a table.", remedy=f"Export {every}.")
    ready()
    table = found.table(context())
    if table is None:
        raise NotFound("There is nothing to export.", remedy="Choose other days.")
    return hand_out(table, ending)


def hand_out_workbook(tables: Sequence[Table], name: str) -> AnyResponse:
    """Several tables as one workbook; a large one leads to its progress."""
    account, who = current_scope().account, person()
    trail.note(
        services().store,
        "exported",
        person_id=who.id,
        account_id=account.id,
        detail={"workbook": name, "rows": sum(len(table.rows) for table in tables)},
    )
    return _as_workbook(tables, f"{account.key}-{name}.xlsx")


def _as_workbook(tables: Sequence[Table], file_name: str) -> AnyResponse:
    if sum(len(table.rows) for table in tables) <= AT_ONCE_ROWS:
        target = io.BytesIO()
        work.as_xlsx(tables, target)
        return _attached(Response(target.getvalue(), mimetype=XLSX), file_name)
    if loads.open_jobs(services().store, person().id, "export") >= _AT_A_TIME:
        raise Conflict(
            f"{_AT_A_TIME} of your exports are running.",
            remedy="Wait for one of them, or cancel it, then export again.",
        )
    request = work.hand_over(services().config.exports, tables) | {"file": file_name}
    job_id = loads.start_job(
        services().store,
        kind="export",
        account_id=current_scope().account.id,
        person_id=person().id,
        upload_id=None,
        request=request,
    )
    services().queue.start(job_id, "export")
    return redirect(current_scope().elsewhere(url_for("exports.index", job_id=job_id)))


def _attached(response: Response, file_name: str) -> Response:
    response.headers["Content-Disposition"] = f"attachment; filename={file_name}"
    return response
