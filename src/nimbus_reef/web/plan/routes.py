"""The plan: look, edit a value, take out and put back; the change sheet out and in."""

from __future__ import annotations

import io
import tempfile
from dataclasses import replace
from pathlib import Path

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import acceptance
from nimbus_reef.analysis.delivery import plan_prices
from nimbus_reef.analysis.wording import rise_words
from nimbus_reef.core import plan as rules
from nimbus_reef.core.changes import Change, value_problem
from nimbus_reef.core.conflicts import BLOCKS
from nimbus_reef.core.sheet_layouts import SheetLayout
from nimbus_reef.errors import BadInput, Conflict, NotFound
from nimbus_reef.formats import change_sheet, sandbox
from nimbus_reef.formats.typed import whole
from nimbus_reef.store.people import plan_steps, plans, sendings, trail
from nimbus_reef.store.people import sheet_layouts as store_layouts
from nimbus_reef.store.people.plan_steps import StepKind
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.reading import marketplace_ids
from nimbus_reef.store.record import loads, workers
from nimbus_reef.web.current import account_by_id, context, current_scope, figures, inside, must_write, person, services
from nimbus_reef.web.downloads import hand_out
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.guard import asked_about
from nimbus_reef.web.kit.plan_file import plan_table
from nimbus_reef.web.kit.stale import typed_anew
from nimbus_reef.web.plan import layout_pages, pages
from nimbus_reef.web.plan.forms import ValueForm

plan = Blueprint("plan", __name__, url_prefix="/plan")


def _planned() -> list[Planned]:
    return plans.planned(services().store, current_scope().account.id)


@plan.get("/")
def index() -> str:
    """All waiting changes by campaign."""
    return _page(_planned())


def _page(planned: list[Planned], answer: rules.ReadBack | None = None) -> str:
    return render_template("plan/plan.html", **shown(pages.page(context(), planned, answer)))


@plan.get("/sheet.<ending>")
def sheet(ending: str) -> Response:
    """The change sheet as CSV or XLSX; refused while a row of the plan contradicts another."""
    if ending not in ("csv", "xlsx"):
        raise NotFound("The sheet is CSV or XLSX.", remedy="Choose one of them on the plan.")
    planned = _whole_plan()
    changes = [each.change for each in planned]
    if ending == "csv":
        return _sent(Response(change_sheet.as_csv(changes), mimetype="text/csv"), ending, ending, planned)
    target = io.BytesIO()
    change_sheet.as_xlsx(changes, target)
    kind = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"
    return _sent(Response(target.getvalue(), mimetype=kind), ending, ending, planned)


@plan.get("/export.<ending>")
def export(ending: str) -> AnyResponse:
    """The plan as a table to read; nothing counts as sent by it."""
    return hand_out(replace(plan_table(_planned()), name="plan"), ending)


def _whole_plan() -> list[Planned]:
    """The plan, where a sheet of it can leave; BadInput or Conflict where it cannot."""
    planned = _planned()
    changes = [each.change for each in planned]
    wrong = rules.problems(changes)
    if wrong:
        first = wrong[0]
        raise BadInput(f"Row {first.row}: {first.column} {first.reason}.", remedy="Fix or remove it in the plan first.")
    blocking = [
        each
        for each in plan_prices.conflicts_of(services().facts, current_scope().selection, changes)
        if each.kind in BLOCKS
    ]
    if blocking and blocking[0].rise is not None:
        raise Conflict(
            f"Row {blocking[0].rows[0]}: {rise_words(blocking[0].rise, figures())}.",
            remedy="Resolve the conflict on the plan first.",
        )
    return planned


def _sent(response: Response, sheet: str, ending: str, planned: list[Planned]) -> Response:
    """A sheet on its way out, kept as a sending where the person may write."""
    account = current_scope().account
    if person().writes:
        sendings.send(services().store, account.id, person().id, sheet, planned)
    else:
        detail = {"sheet": sheet, "changes": len(planned)}
        trail.note(services().store, "exported", person_id=person().id, account_id=account.id, detail=detail)
    response.headers["Content-Disposition"] = f"attachment; filename=changes-{account.key}.{ending}"
    return response


@plan.get("/layouts")
@plan.get("/layouts/<int:layout_id>")
def layouts(layout_id: int = 0) -> str:
    """Layouts of one's own for the sheet, and the editor."""
    edited = _layout(layout_id) if layout_id else None
    return render_template("plan/layouts.html", **shown(layout_pages.page(context(), edited)))


def _layout(layout_id: int) -> SheetLayout:
    return store_layouts.layout(services().store, current_scope().account.id, layout_id)


@plan.post("/layouts")
def save_layout() -> AnyResponse | str:
    """Saves a layout, or shows it anew with a column moved."""
    who, form, scope = must_write(), request.form, current_scope()
    typed = layout_pages.typed(form.getlist("header"), form.getlist("of"), form.getlist("fixed"), form)
    if not form.get("save"):
        return render_template("plan/layouts.html", **shown(layout_pages.page(context(), typed)))
    if typed.id:
        _layout(typed.id)
    store_layouts.save(services().store, scope.account.id, who.id, typed)
    flash(f"Layout “{typed.name}” saved. The plan offers the sheet in it.")
    return redirect(scope.elsewhere(url_for("plan.layouts")), 303)


@plan.post("/layouts/<int:layout_id>/remove")
def remove_layout(layout_id: int) -> AnyResponse:
    """Takes a layout away."""
    who, scope, gone = must_write(), current_scope(), _layout(layout_id)
    store_layouts.remove(services().store, scope.account.id, who.id, gone)
    flash(f"Layout “{gone.name}” removed.")
    return redirect(scope.elsewhere(url_for("plan.layouts")), 303)


@plan.get("/layouts/<int:layout_id>/sheet")
def own_sheet(layout_id: int) -> Response:
    """The change sheet in a layout of one's own: a CSV, or a ZIP of one for each kind of thing."""
    layout, planned = _layout(layout_id), _whole_plan()
    changes = [each.change for each in planned]
    ids = marketplace_ids.of_changes(services().facts, current_scope().account.id, changes) if layout.ids else {}
    if not layout.apart:
        text = change_sheet.in_layout(changes, ids, layout)
        return _sent(Response(text, mimetype="text/csv"), "own", "csv", planned)
    target = io.BytesIO()
    change_sheet.in_files(changes, ids, layout, target)
    return _sent(Response(target.getvalue(), mimetype="application/zip"), "own", "zip", planned)


@plan.get("/accepting/<int:job_id>")
def accepting(job_id: int) -> str:
    """How far an acceptance of very many changes is."""
    return _accepting("accepting", job_id)


@plan.get("/accepting/<int:job_id>/progress")
def accepting_progress(job_id: int) -> str:
    """The same, for following it live."""
    return _accepting("_accepting", job_id)


@plan.post("/accepting/<int:job_id>/cancel")
def cancel_accepting(job_id: int) -> AnyResponse:
    """Takes an acceptance back that is still being done: nothing of it goes into the plan."""
    must_write()
    _job(job_id)
    loads.cancel(services().store, job_id)
    return redirect(current_scope().elsewhere(url_for("plan.accepting", job_id=job_id)))


def _accepting(page: str, job_id: int) -> str:
    job = _job(job_id)
    nobody, back = job.open and not workers.present(services().store), inside(job.request["back"])
    return render_template(f"plan/{page}.html", job=job, nobody=nobody, back=back)


def _job(job_id: int) -> loads.Job:
    job = loads.get_job(services().store, job_id)
    if job is None or job.kind != "accept":
        raise NotFound("This job does not exist.", remedy="Open the plan.")
    account_by_id(job.account_id or 0)
    return job


@plan.post("/read-back")
def read_back() -> AnyResponse | str | tuple[str, int]:
    """Reads an edited sheet and says what it would change; nothing is changed yet."""
    must_write()
    file = request.files.get("sheet")
    if file is None or not file.filename:
        raise BadInput("No file chosen.", remedy="Choose the edited change sheet.")
    with tempfile.NamedTemporaryFile(dir=services().config.scratch) as kept:
        file.save(kept)
        kept.flush()
        rows = sandbox.edited_rows(Path(kept.name), file.filename)
    planned = _planned()
    answer = rules.read_back([each.change for each in planned], rows)
    if answer.problems:
        return _page(planned, answer), 422
    if not answer.edited and not answer.unplanned:
        flash("The sheet matches the plan. Nothing was changed.")
        return redirect(current_scope().elsewhere(url_for("plan.index")))
    promises = {each.change.row: each.promise for each in planned}
    asks = asked_about(
        [(each, promises[each.row]) for each in answer.edited], current_scope().account.settings, figures()
    )
    return render_template(
        "plan/read_back.html", lines=pages.read_lines(planned, answer), asks=asks, answer=answer, name=file.filename
    )


@plan.post("/read-back/take")
def take_read_back() -> AnyResponse:
    """Takes over a sheet that was looked at: all of it, or nothing where the plan moved since."""
    who, planned = must_write(), _planned()
    rows = {each.change.row: each.change for each in planned}
    edited: list[Change] = []
    gone: list[Change] = []
    entries = [request.form.getlist(name) for name in ("row", "was", "becomes")]
    if not entries[0] or len({len(each) for each in entries}) > 1:
        raise BadInput("No row of a sheet was sent.", remedy="Upload the sheet again.")
    for row, old, new in zip(*entries, strict=True):
        change = next((each for number, each in rows.items() if str(number) == row), None)
        if change is None or change.new_value != old:
            raise Conflict("The plan has changed since.", remedy="Upload the sheet again.")
        after = replace(change, new_value=new)
        if new and (wrong := value_problem(after)):
            raise BadInput(f"Row {row}: “{new}” {wrong}.", remedy="Nothing was changed.")
        (edited if new else gone).append(after if new else change)
    leaving = rules.whole([each.change for each in planned], gone)
    rows_gone = {each.row for each in leaving}
    kept = tuple(each for each in edited if each.row not in rows_gone)
    answer = rules.ReadBack(kept, leaving, len(planned) - len(kept) - len(leaving), ())
    _refuse_dearer(planned, answer)
    plans.take(services().store, current_scope().account.id, who.id, planned, answer)
    flash(
        f"Sheet applied: {len(answer.edited)} changed, {len(answer.unplanned)} removed, {answer.unchanged} unchanged."
    )
    return redirect(current_scope().elsewhere(url_for("plan.index")))


@plan.post("/<int:change_id>/value")
def edit(change_id: int) -> AnyResponse | str:
    """Another new value for one change; one beyond what the settings let pass is asked about first."""
    who = must_write()
    planned, back = _planned(), current_scope().link(url_for("plan.index"))
    found = next((each for each in planned if each.id == change_id), None)
    if found is None:
        raise NotFound("This change is not in the plan.", remedy="Reload the plan.")
    # The text of the field without its hidden twin: an API, or a page without it, means the value that is there.
    typed_anew(
        request.form, {"new_value": found.change.new_value}, {"new_value": f"The value of row {found.change.row}"}
    )
    value = ValueForm(request.form, current_scope().account.locale).value_for(found.change)
    after = replace(found.change, new_value=value)
    reason = value_problem(after)
    if reason:
        raise BadInput(f"Row {after.row}: “{after.new_value}” {reason}.", remedy="Nothing was changed.")
    answer = rules.ReadBack((after,), (), len(planned) - 1, ())
    _refuse_dearer(planned, answer)
    asks = asked_about([(after, found.promise)], current_scope().account.settings, figures())
    if asks and after.new_value != found.change.new_value and not request.form.get("asked"):
        sent = [(name, text) for name, text in request.form.items(multi=True) if name != "csrf_token"]
        return render_template(
            "plan/asked.html", asks=asks, action=url_for("plan.edit", change_id=change_id), sent=sent, back=back
        )
    if after.new_value != found.change.new_value:
        plans.take(services().store, current_scope().account.id, who.id, planned, answer, StepKind.EDITED)
    return redirect(back)


def _refuse_dearer(planned: list[Planned], answer: rules.ReadBack) -> None:
    """Raises Conflict when a chosen value makes a click above target cost more than today."""
    before = [each.change for each in planned]
    edited, gone = {each.row: each for each in answer.edited}, {each.row for each in answer.unplanned}
    after = [edited.get(each.row, each) for each in before if each.row not in gone]
    rises = plan_prices.dearer(services().facts, current_scope().selection, before, after) if edited else []
    if rises:
        text = rise_words(rises[0], figures())
        raise Conflict(
            f"{text[0].upper()}{text[1:]}.", remedy="Nothing was changed. Enter a lower value, or pause it first."
        )


@plan.post("/remove")
def remove() -> AnyResponse:
    """Takes changes out, the selected ones or all that match; the step can be undone."""
    who, scope = must_write(), current_scope()
    ids = request.form.getlist("rows", type=whole)
    if request.form.get("all"):
        ids = [each.id for each in pages.fitting(_planned(), scope.query, scope.own_value("what"))]
    gone = plans.remove_many(services().store, scope.account.id, who.id, ids) if ids else 0
    if not gone:
        raise NotFound("None of these changes is in the plan.", remedy="Select rows first (x), or all (X).")
    more = f", {figures().count(gone - len(ids))} because packages are removed whole" if gone > len(ids) else ""
    flash(f"{figures().counted(gone, 'change')} removed from the plan{more}.", "step")
    return redirect(scope.link(url_for("plan.index"), page=1))


@plan.post("/sent/<int:sending_id>/carried-out")
def carried_out(sending_id: int) -> AnyResponse:
    """Notes that a sheet was carried out: its changes leave the plan."""
    who, scope = must_write(), current_scope()
    done = sendings.answer(services().store, scope.account.id, who.id, sending_id, {})
    flash(f"{figures().counted(done, 'change')} marked as carried out.", "step")
    return redirect(scope.elsewhere(url_for("plan.index")))


@plan.post("/undo")
def undo() -> AnyResponse:
    """Undoes a step that was done to the plan since its last sheet; one's newest where none is named."""
    who, scope = must_write(), current_scope()
    step = request.form.get("step", type=whole)
    if step is None:
        newest = plan_steps.steps(services().store, scope.account.id, 1)
        if not newest:
            raise NotFound("Nothing to undo since the last sheet.", remedy="Open the plan.")
        step = newest[0].id
    touched = acceptance.undo(services().facts, scope.selection, who.id, step)
    flash(f"Undone: {figures().counted(touched, 'change')} as before.")
    return redirect(scope.elsewhere(url_for("plan.index")))


@plan.post("/take-back")
def take_back() -> AnyResponse:
    """Undoes the last acceptance of one's own; what was taken out since stays out."""
    who = must_write()
    gone = acceptance.undo(services().facts, current_scope().selection, who.id)
    flash(f"{figures().counted(gone, 'change')} removed from the plan again.")
    return redirect(current_scope().elsewhere(url_for("plan.index")))
