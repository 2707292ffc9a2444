"""How far an export is that a worker makes, and its file."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, send_file, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.errors import NotAllowed, NotFound
from nimbus_reef.jobs import exports as work
from nimbus_reef.store.record import loads, workers
from nimbus_reef.web.current import account_by_id, current_scope, person, services
from nimbus_reef.web.downloads import XLSX

exports = Blueprint("exports", __name__, url_prefix="/exports")


def _job(job_id: int) -> loads.Job:
    job = loads.get_job(services().store, job_id)
    if job is None or job.kind != "export":
        raise NotFound("There is no such export.", remedy="Export the table again.")
    account_by_id(job.account_id or 0)
    return job


@exports.get("/<int:job_id>")
def index(job_id: int) -> str:
    """How far an export is, then its file."""
    return _page("export", job_id)


@exports.get("/<int:job_id>/progress")
def progress(job_id: int) -> str:
    """The same, for following it live."""
    return _page("_job", job_id)


def _page(page: str, job_id: int) -> str:
    job = _job(job_id)
    return render_template(f"exports/{page}.html", job=job, nobody=job.open and not workers.present(services().store))


@exports.post("/<int:job_id>/cancel")
def cancel(job_id: int) -> AnyResponse:
    """Takes an export back that is still being made; who only looks may do so with their own."""
    job, who = _job(job_id), person()
    if job.person_id != who.id and not who.writes:
        raise NotAllowed("This export belongs to another person.", remedy="Export the table yourself.")
    loads.cancel(services().store, job_id)
    return redirect(current_scope().elsewhere(url_for("exports.index", job_id=job_id)))


@exports.get("/<int:job_id>/file")
def file(job_id: int) -> AnyResponse:
    """The finished workbook."""
    job = _job(job_id)
    path = work.workbook(services().config.exports, job.request["stem"])
    try:
        if job.state != "done":
            raise FileNotFoundError
        return send_file(path, mimetype=XLSX, as_attachment=True, download_name=job.request["file"])
    except FileNotFoundError:
        raise NotFound("This file is gone. Exports are kept for a day.", remedy="Export the table again.") from None
