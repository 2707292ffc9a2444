"""Intake: files are dropped, mapped, loaded in the background, and looked back at."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Final

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import fetching
from nimbus_reef.analysis.agreement import differences
from nimbus_reef.core.model import SCOPES
from nimbus_reef.errors import BadFile, BadInput, NotFound
from nimbus_reef.formats.currencies import must_be_own
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import checked
from nimbus_reef.formats.raw import SEPARATORS
from nimbus_reef.formats.sheet_summary import date_doubt, days_missing
from nimbus_reef.formats.tables import csv_lines
from nimbus_reef.jobs import intake as loading
from nimbus_reef.jobs.orders import LoadOrder, load_order
from nimbus_reef.store.people import trail
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import loads, workers
from nimbus_reef.store.record.loads import Upload
from nimbus_reef.web.current import account_by_id, current_scope, figures, must_write, my_accounts, services
from nimbus_reef.web.intake import choosing, pages, possible
from nimbus_reef.web.kit.context import shown

intake = Blueprint("intake", __name__, url_prefix="/intake")
_IN_THE_TRAIL: Final = {"load": "loaded", "undo": "undone"}


@intake.get("/")
def index() -> str:
    """Where files are dropped, the queue, what is held and what was loaded."""
    account, store = current_scope().account, services().store
    batches = loads.batches(store, account.id)
    reports = loads.held_reports(store, account.id)
    jobs = [_job_view(job, name) for job, name in loads.recent_jobs(store, account.id)]
    entries = {each.job.upload_id for each in jobs if each.job.open or each.waits}
    return render_template(
        "intake/intake.html",
        # Each file once: where its last try says what comes next, there.
        waiting=[each for each in loads.waiting_uploads(store, account.id) if each.id not in entries],
        jobs=jobs,
        calendar=pages.calendar(
            reports,
            services().facts.spans(account.id, account.timezone),
            current_scope().newest,
            account.maturing_days,
            figures(),
        ),
        batches=[(batch, pages.batch_summary(batch, figures())) for batch in batches],
        together={batch.together for batch in batches},
        possible=possible.lines({each.kind for each in reports}),
        differ=_differ(account),
        trouble=fetching.trouble(store, account.id),
        inbox=_as_seen_from_here(services().config.inbox / account.key),
        titles={kind.name: kind.title for kind in KINDS.values()},
    )


def _differ(account: Account) -> list[str]:
    newest = current_scope().newest
    found = differences(services().facts, account, newest) if newest else []
    return [pages.differ_words(each, figures()) for each in found]


def _as_seen_from_here(path: Path) -> Path:
    """Short where the folder lies below the one that the application was started in."""
    here = Path.cwd()
    return path.relative_to(here) if path.is_relative_to(here) else path


def _job_view(job: loads.Job, file_name: str) -> pages.JobView:
    seen = {each.id: (f"{each.brand}, {each.country}", Figures(each.locale, each.currency)) for each in my_accounts()}
    over = not job.open and job.state != "done"
    upload = loads.get_upload(services().store, job.upload_id or 0) if over else None
    return pages.JobView(
        job,
        file_name,
        pages.job_summaries(job, seen),
        upload is not None and upload.state == "waiting",
        job.open and not workers.present(services().store),
    )


@intake.post("/files")
def drop() -> AnyResponse:
    """Takes files in. One file leads to its mapping at once, several wait in the queue."""
    who = must_write()
    account, folder = current_scope().account, services().config.uploads
    files = [file for file in request.files.getlist("files") if file.filename]
    if not files:
        raise BadInput("No file chosen.", remedy="Drop a report, or choose one.")
    taken, refused = [], []
    for file in files:
        name = (file.filename or "").replace("\\", "/").rpartition("/")[2]
        kept = loading.keep(folder, file.stream)
        try:
            loading.inspect(services().store, account, kept.path, name)
        except (BadFile, BadInput) as problem:
            refused.append(str(problem))
            continue
        taken.append(
            loads.add_upload(
                services().store,
                account_id=account.id,
                person_id=who.id,
                file_name=name,
                sha256=kept.sha256,
                size=kept.size,
            )
        )
    for each in refused:
        flash(each, "problem")
    if len(taken) == 1:
        return redirect(current_scope().elsewhere(url_for("intake.map_file", upload_id=taken[0])))
    return redirect(current_scope().elsewhere(url_for("intake.index")))


def _upload(upload_id: int) -> Upload:
    found = loads.get_upload(services().store, upload_id)
    if found is None:
        raise NotFound("There is no such file.", remedy="Drop it again.")
    account_by_id(found.account_id)
    return found


@intake.get("/files/<int:upload_id>")
def map_file(upload_id: int) -> str:
    """The mapping of one file beside its sample rows."""
    upload, looked = _looked(upload_id, request.args)
    chosen = choosing.choices(looked, request.args)
    return render_template(
        "intake/mapping.html",
        upload=upload,
        looked=looked,
        chosen=chosen,
        feeds=choosing.FEEDS,
        scopes=SCOPES,
        label=request.args.get("scope", ""),
        before=choosing.loaded_before(looked.before, chosen.maps, figures()),
        separators=SEPARATORS,
    )


def _looked(upload_id: int, fields: choosing.Fields) -> tuple[Upload, loading.Looked]:
    upload = _upload(upload_id)
    account = account_by_id(upload.account_id)
    path = services().config.uploads / upload.sha256
    layouts = choosing.layouts(fields)
    return upload, loading.inspect(services().store, account, path, upload.file_name, upload.sha256, layouts)


@intake.post("/files/<int:upload_id>/load")
def load(upload_id: int) -> AnyResponse:
    """Confirms the mapping; the worker does the rest."""
    must_write()
    upload, looked = _looked(upload_id, request.form)
    chosen = choosing.choices(looked, request.form)
    if not chosen.maps:
        raise BadInput("No sheet chosen.", place=upload.file_name, remedy="Go back and choose a sheet or a kind.")
    for each in chosen.maps:
        table = looked.sheet(each.sheet).table
        checked(each, table.headers)
        if date_doubt(table, each):
            raise BadInput(
                "The dates can be read day-first or month-first.", place=upload.file_name, remedy="Go back and choose."
            )
        if each.needs_days:
            raise days_missing(table, each, upload.file_name)
        must_be_own(table, each, looked.currency, upload.file_name)
    label = request.form.get("scope", "")
    if label and label not in SCOPES:
        raise BadInput(f"“{label}” is not an ad format.", remedy=f"Choose {', '.join(SCOPES)}.")
    return _enqueue(upload, LoadOrder(tuple(chosen.maps), scope=label, usual=looked.scope))


@intake.post("/jobs/<int:job_id>/yes")
def say_yes(job_id: int) -> AnyResponse:
    """Goes ahead with a load that asked."""
    must_write()
    job, _ = _job(job_id)
    upload = _upload(job.upload_id) if job.state == "asks" and job.upload_id is not None else None
    if upload is None or upload.state != "waiting":
        raise BadInput("This load has no question.", remedy="Reload the page.")
    loads.finish_job(services().store, job.id, state="cancelled", message="confirmed; loading again")
    return _enqueue(upload, replace(load_order(job), confirmed=True))


def _enqueue(upload: Upload, request: LoadOrder) -> AnyResponse:
    return _start("load", upload.account_id, upload.file_name, request, upload_id=upload.id)


def _start(kind: str, account_id: int, file_name: str, request: object, *, upload_id: int | None = None) -> AnyResponse:
    who, store = must_write(), services().store
    job_id = loads.start_job(
        store, kind=kind, account_id=account_id, person_id=who.id, upload_id=upload_id, request=request
    )
    trail.note(
        store, _IN_THE_TRAIL[kind], person_id=who.id, account_id=account_id, detail={"job": job_id, "file": file_name}
    )
    services().queue.start(job_id)
    return redirect(f"{current_scope().elsewhere(url_for('intake.index'))}#job-{job_id}")


@intake.post("/batches/<int:batch_id>/undo")
def undo(batch_id: int) -> AnyResponse:
    """Puts the days of a batch back as they were before it; the worker does it."""
    must_write()
    batch = _batch(batch_id)
    return _start("undo", batch.account_id, batch.file_name, {"batch": batch.id, "file": batch.file_name})


def _batch(batch_id: int) -> loads.Batch:
    batch = loads.get_batch(services().store, batch_id)
    if batch is None:
        raise NotFound("This load does not exist.", remedy="Reload the list of loads.")
    account_by_id(batch.account_id)
    return batch


@intake.post("/files/<int:upload_id>/discard")
def discard(upload_id: int) -> AnyResponse:
    """Puts a waiting file away; nothing of it was loaded."""
    must_write()
    upload = _upload(upload_id)
    loads.discard(services().store, upload.id)
    flash(f"{upload.file_name} was discarded. Nothing was loaded.")
    return redirect(current_scope().elsewhere(url_for("intake.index")))


def _job(job_id: int) -> tuple[loads.Job, str]:
    job = loads.get_job(services().store, job_id)
    if job is None or job.kind not in _IN_THE_TRAIL:
        raise NotFound("This job does not exist.", remedy="Reload the page.")
    account_by_id(job.account_id or 0)
    upload = loads.get_upload(services().store, job.upload_id or 0)
    return job, upload.file_name if upload else job.request.get("file", "")


@intake.get("/jobs/<int:job_id>")
def progress(job_id: int) -> Response:
    """One line of the queue, for following a job live; its end makes the page's tables new."""
    job, file_name = _job(job_id)
    response = Response(render_template("intake/_job.html", **shown(_job_view(job, file_name))))
    if not job.open:
        response.headers["HX-Trigger"] = "recorded"
    return response


@intake.get("/batches/<int:batch_id>/rejects.csv")
def rejects(batch_id: int) -> Response:
    """The rows turned away, to mend and load again."""
    found = loads.rejects(services().store, _batch(batch_id).id)
    response = Response(csv_lines(("line", "column", "value", "reason"), found), mimetype="text/csv")
    response.headers["Content-Disposition"] = f"attachment; filename=rejects-{batch_id}.csv"
    return response


@intake.get("/batches/<int:batch_id>/mend.csv")
def mend(batch_id: int) -> Response:
    """The whole file with what is wrong beside the rows turned away: mended, it loads in place of this batch."""
    batch = _batch(batch_id)
    upload = loads.get_upload(services().store, batch.upload_id or 0)
    if upload is None:
        raise NotFound("This file came from the command line and is not stored here.", remedy="Fix your own copy.")
    frame = loading.to_mend(
        services().config.uploads / upload.sha256,
        upload.file_name,
        loads.rejects(services().store, batch.id),
        batch.mapping,
    )
    response = Response(csv_lines(frame.columns, frame.iter_rows()), mimetype="text/csv")
    response.headers["Content-Disposition"] = f"attachment; filename=mend-{batch_id}.csv"
    return response
