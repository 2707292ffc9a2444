"""Findings: the list, putting away and bringing back. Accepting goes through Targeting."""

from __future__ import annotations

from datetime import timedelta
from typing import Final

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.findings import SOURCES, Findings, findings_known, waits, written_down
from nimbus_reef.analysis.findings import findings as findings_of
from nimbus_reef.analysis.judged import Judged
from nimbus_reef.analysis.opened_findings import group_of
from nimbus_reef.core.checks import CHECKS
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import closed_audits, hidden_findings
from nimbus_reef.web.current import away_from, context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.downloads import hand_out_workbook
from nimbus_reef.web.findings import opened_pages, pages, report_pages
from nimbus_reef.web.findings.forms import PutAwayForm
from nimbus_reef.web.findings.workbook import sheets
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.judging import judged_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.params import Scope

findings = Blueprint("findings", __name__, url_prefix="/findings")
WATCHED_DAYS: Final = 28


def _judged_first(scope: Scope) -> None:
    facts = services().facts
    need(facts, scope, SOURCES, figures())
    away = away_from(scope.account.id)
    known = findings_known(facts, scope.look, away, today_of(scope.account)) is not None
    judged_first(facts, scope, Judged.TARGETS, Judged.TERMS, first=is_first_answer(), more=not known)


def found_now() -> Findings:
    """The findings in scope, what is put away left out."""
    scope = current_scope()
    need(services().facts, scope, SOURCES, figures())
    put_away = away_from(scope.account.id)
    return findings_of(services().facts, scope.look, put_away, today_of(scope.account))


@findings.get("/")
def look() -> str:
    """Everything found, grouped by what to do, largest stake first."""
    scope = current_scope()
    if scope.newest is None:
        return render_template("findings/empty.html")
    _judged_first(scope)
    made = pages.page(context(), found_now(), today_of(scope.account), request.args.get("all", ""))
    return render_template("findings/findings.html", **shown(made))


def _with_days(scope: Scope) -> str:
    """The address, and how many days were looked at: audits of unlike length cannot be compared."""
    return f"{scope.address}&looked_at={scope.window.days}".removeprefix("&")


@findings.get("/<key>")
def opened(key: str) -> str:
    """A finding, or all of a check, as a thing to do."""
    scope = current_scope()
    if scope.newest is None:
        return render_template("findings/empty.html")
    if key not in CHECKS:
        raise NotFound(f"There is no finding “{key}”.", remedy="Look at the findings again.")
    _judged_first(scope)
    row_id = request.args.get("row", "")
    made = opened_pages.page(context(), group_of(found_now(), key, row_id), row_id)
    return render_template("findings/opened.html", **shown(made))


@findings.post("/tick-off")
def tick_off() -> AnyResponse:
    """
    Notes that what cannot be sent was done, with what was done; it is out of sight for four weeks and comes back if it
    is still found then.
    """
    who, scope = must_write(), current_scope()
    key, rows = request.form.get("check", ""), request.form.getlist("findings")
    said = request.form.get("note", "").strip()
    if key not in CHECKS or not rows:
        raise BadInput("No finding was named.", remedy="Open one first.")
    if not said:
        raise BadInput("What was done?", remedy="Write it down, for whoever looks next.")
    until = today_of(scope.account) + timedelta(days=WATCHED_DAYS)
    hidden_findings.put(
        services().store,
        scope.account.id,
        who.id,
        key,
        rows,
        until_day=until,
        until_clicks=None,
        reason=f"{hidden_findings.DONE}{said}"[:512],
    )
    flash(f"Ticked off, and watched. If it is still found on {figures().day(until)}, it comes back.")
    return redirect(scope.elsewhere(url_for("findings.look")))


@findings.get("/report")
def report() -> str:
    """The audit on paper: what was found, what changed since the last one, what is planned."""
    scope = current_scope()
    if scope.newest is None:
        return render_template("findings/empty.html")
    _judged_first(scope)
    return render_template(
        "findings/report.html", **shown(report_pages.page(context(), found_now(), today_of(scope.account)))
    )


@findings.get("/report.css")
def page_foot() -> PageResponse:
    """The foot of the printed pages: a sheet of its own, since only one that is loaded can hold names."""
    return PageResponse(report_pages.page_foot(context()), mimetype="text/css")


@findings.get("/workbook.xlsx")
def workbook() -> AnyResponse:
    """The audit as a workbook: summary, findings, targets, search terms, words, plan."""
    scope = current_scope()
    if scope.newest is None:
        raise NotFound("There is nothing to write down yet.", remedy="Load a report first.")
    made = sheets(context(), found_now(), today_of(scope.account))
    return hand_out_workbook(made, f"audit-{scope.window.first}-{scope.window.last}")


@findings.post("/close")
def close() -> AnyResponse:
    """Closes the audit: what is found now is what the next one is measured by."""
    who, scope, write = must_write(), current_scope(), figures()
    found = found_now()
    closed_audits.close(
        services().store,
        scope.account.id,
        who.id,
        part=scope.part,
        overspend=found.overspend,
        address=_with_days(scope),
        found=written_down(found),
        after=request.form.get("after", type=whole),
    )
    flash(
        f"The audit is closed with {write.counted(found.count(), 'finding')}. The next one says what is new, "
        "what came back and what is gone."
    )
    return redirect(scope.elsewhere(url_for("findings.look")))


@findings.post("/reopen")
def reopen() -> AnyResponse:
    """Takes back the closing of an audit."""
    who, scope = must_write(), current_scope()
    closed_audits.reopen(services().store, scope.account.id, who.id, request.form.get("audit", 0, type=whole))
    flash("The closing was taken back.")
    return redirect(scope.elsewhere(url_for("findings.look")))


@findings.post("/put-away")
def put_away() -> AnyResponse:
    """Snoozes or dismisses the selected findings of one group."""
    who, scope = must_write(), current_scope()
    form, rows = PutAwayForm(request.form, today_of(scope.account)), request.form.getlist("findings")
    check = form.check.data or ""
    if check not in CHECKS or not rows:
        raise BadInput("No finding was selected.", remedy="Select some rows first (x).")
    form.checked()
    if form.until_clicks and not waits(CHECKS[check]):
        raise BadInput("What is found of more than one row has no clicks to wait for.", remedy="Choose a day.")
    hidden_findings.put(
        services().store,
        scope.account.id,
        who.id,
        check,
        rows,
        until_day=form.until_day,
        until_clicks=form.until_clicks,
        reason=form.reason.data or "",
    )
    flash(f"{figures().counted(len(rows), 'finding')} put away; see the end of the page.")
    return redirect(scope.elsewhere(url_for("findings.look")))


@findings.post("/bring-back")
def bring_back() -> AnyResponse:
    """Brings findings back into the list."""
    who, scope = must_write(), current_scope()
    back = hidden_findings.bring_back(
        services().store, scope.account.id, who.id, request.form.getlist("away", type=whole)
    )
    flash(f"{figures().counted(back, 'finding')} brought back.")
    return redirect(scope.elsewhere(url_for("findings.look")))
