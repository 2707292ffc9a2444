"""The plan: look, edit a value, take out and put back; the change sheet out and in."""

from __future__ import annotations

import io
import tempfile
from dataclasses import replace
from pathlib import Path

from flask import Blueprint, Response, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.core import plan as rules
from nimbus_reef.core.changes import value_problem
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats import change_sheet
from nimbus_reef.store.people import plans, trail
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.kit.guard import asked_about
from nimbus_reef.web.parts import current_scope, figures, must_write, parts, person
from nimbus_reef.web.plan import pages
from nimbus_reef.web.plan.forms import ValueForm

plan = Blueprint("plan", __name__, url_prefix="/plan")


def _planned() -> list[Planned]:
    return plans.planned(parts().store, current_scope().account.id)


@plan.get("/")
def look() -> str:
    """All waiting changes by campaign."""
    return _page(_planned())


def _page(planned: list[Planned], answer: rules.ReadBack | None = None) -> str:
    return render_template(
        "plan/plan.html",
        table=pages.table(planned, current_scope().page, url_for("plan.look"), figures()),
        campaigns=pages.campaigns(planned),
        answer=answer,
        removed=request.args.get("removed"),
    )


@plan.get("/sheet.<ending>")
def sheet(ending: str) -> Response:
    """The change sheet as CSV or XLSX; refused while a row of the plan contradicts another."""
    if ending not in ("csv", "xlsx"):
        raise NotFound("The sheet comes as CSV or XLSX.", remedy="Choose one of them on the plan.")
    account, planned = current_scope().account, _planned()
    changes = [each.change for each in planned]
    wrong = rules.problems(changes)
    if wrong:
        first = wrong[0]
        raise BadInput(
            f"Row {first.row}: {first.column} {first.reason}.", remedy="Mend or remove it on the plan first."
        )
    if ending == "csv":
        response = Response(change_sheet.as_csv(changes), mimetype="text/csv")
    else:
        target = io.BytesIO()
        change_sheet.as_xlsx(changes, target)
        response = Response(
            target.getvalue(),
            mimetype="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
        )
    trail.note(
        parts().store, "exported", person_id=person().id, account_id=account.id,
        detail={"sheet": ending, "changes": len(changes)},
    )  # fmt: skip
    response.headers["Content-Disposition"] = f"attachment; filename=changes-{account.key}.{ending}"
    return response


@plan.post("/read-back")
def read_back() -> AnyResponse | tuple[str, int]:
    """Takes over an edited sheet: every row or none."""
    who = must_write()
    file = request.files.get("sheet")
    if file is None or not file.filename:
        raise BadInput("No file was chosen.", remedy="Choose the edited change sheet.")
    with tempfile.NamedTemporaryFile(dir=parts().config.scratch) as kept:
        file.save(kept)
        kept.flush()
        rows = change_sheet.read(Path(kept.name), file.filename)
    planned = _planned()
    answer = rules.read_back([each.change for each in planned], rows)
    if answer.problems:
        return _page(planned, answer), 422
    plans.take(parts().store, current_scope().account.id, who.id, planned, answer)
    flash(
        f"Read back: {len(answer.edited)} changed, {len(answer.unplanned)} taken out, "
        f"{answer.unchanged} as they were."
    )
    return redirect(current_scope().elsewhere(url_for("plan.look")))


@plan.post("/<int:change_id>/value")
def edit(change_id: int) -> AnyResponse | str:
    """Another new value for one change; one beyond what the settings let pass is asked about first."""
    who = must_write()
    planned = _planned()
    found = next((each for each in planned if each.id == change_id), None)
    if found is None:
        raise NotFound("This change is not in the plan.", remedy="Look at the plan again.")
    value = ValueForm(request.form, current_scope().account.locale).value_for(found.change)
    after = replace(found.change, new_value=value)
    reason = value_problem(after)
    if reason:
        raise BadInput(f"Row {after.row}: “{after.new_value}” {reason}.", remedy="Nothing was changed.")
    asks = asked_about([(after, found.promise)], current_scope().account.settings, figures())
    if asks and after.new_value != found.change.new_value and not request.form.get("asked"):
        sent = [(name, text) for name, text in request.form.items(multi=True) if name != "csrf_token"]
        return render_template(
            "plan/asked.html", asks=asks, action=url_for("plan.edit", change_id=change_id), sent=sent,
            back=current_scope().elsewhere(url_for("plan.look")),
        )  # fmt: skip
    if after.new_value != found.change.new_value:
        answer = rules.ReadBack((after,), (), len(planned) - 1, ())
        plans.take(parts().store, current_scope().account.id, who.id, planned, answer)
    return redirect(current_scope().elsewhere(url_for("plan.look")))


@plan.post("/<int:change_id>/remove")
def remove(change_id: int) -> AnyResponse:
    """Takes a change out; the page offers to put it back."""
    who = must_write()
    plans.remove(parts().store, current_scope().account.id, who.id, change_id)
    return redirect(f"{current_scope().elsewhere(url_for('plan.look'))}&removed={change_id}")


@plan.post("/take-back")
def take_back() -> AnyResponse:
    """Undoes the last acceptance of one's own, or the step that is named; what was taken out since stays out."""
    who = must_write()
    gone = plans.undo_step(parts().store, current_scope().account.id, who.id)
    flash(f"{figures().counted(gone, 'change')} taken back out of the plan.")
    return redirect(current_scope().elsewhere(url_for("plan.look")))


@plan.post("/<int:change_id>/put-back")
def put_back(change_id: int) -> AnyResponse:
    """Undoes taking it out."""
    who = must_write()
    plans.put_back(parts().store, current_scope().account.id, who.id, change_id)
    return redirect(current_scope().elsewhere(url_for("plan.look")))
