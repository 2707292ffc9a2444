"""Findings: the list, putting away and bringing back. Accepting goes through Targeting."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from typing import Final

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.findings import SOURCES, Findings, findings_known, waits, written_down
from nimbus_reef.analysis.findings import findings as findings_of
from nimbus_reef.analysis.judged import Judged
from nimbus_reef.analysis.opened_findings import group_of
from nimbus_reef.analysis.recurring import since_last
from nimbus_reef.core.checks import CHECKS
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import closed_audits, hidden_findings
from nimbus_reef.web.current import away_from, context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.downloads import hand_out, hand_out_workbook
from nimbus_reef.web.findings import opened_pages, pages, report_pages
from nimbus_reef.web.findings.forms import PutAwayForm
from nimbus_reef.web.findings.workbook import findings_table, sheets
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
    known = findings_known(facts, scope.selection, away, today_of(scope.account)) is not None
    judged_first(facts, scope, Judged.TARGETS, Judged.TERMS, first=is_first_answer(), more=not known)


def found_now() -> Findings:
    """The findings in scope, what is put away left out."""
    scope = current_scope()
    need(services().facts, scope, SOURCES, figures())
    put_away = away_from(scope.account.id)
    return findings_of(services().facts, scope.selection, put_away, today_of(scope.account))


@findings.get("/")
def index() -> str:
    """Everything found, grouped by what to do, largest stake first."""
    scope = current_scope()
    if scope.newest is None:
        return render_template("findings/empty.html")
    _judged_first(scope)
    findings_view = pages.page(context(), found_now(), today_of(scope.account), request.args.get("all", ""))
    return render_template("findings/findings.html", **shown(findings_view))


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
        raise NotFound(f"There is no finding “{key}”.", remedy="Reload the findings.")
    _judged_first(scope)
    row_id = request.args.get("row", "")
    opened_view = opened_pages.page(context(), group_of(found_now(), key, row_id), row_id)
    return render_template("findings/opened.html", **shown(opened_view))


@findings.post("/tick-off")
def tick_off() -> AnyResponse:
    """
    Notes that what cannot be sent was done, with what was done; it is out of sight for four weeks and comes back if it
    is still found then.
    """
    who, scope = must_write(), current_scope()
    key, rows = request.form.get("check", ""), request.form.getlist("findings")
    text = request.form.get("note", "").strip()
    if key not in CHECKS or not rows:
        raise BadInput("No finding selected.", remedy="Open a finding first.")
    if not text:
        raise BadInput("What did you do?", remedy="Describe it in a note.")
    until = today_of(scope.account) + timedelta(days=WATCHED_DAYS)
    hidden_findings.put(
        services().store,
        scope.account.id,
        who.id,
        key,
        rows,
        until_day=until,
        until_clicks=None,
        reason=f"{hidden_findings.DONE}{text}"[:512],
    )
    flash(f"Marked as done. It returns on {figures().day(until)} if the problem is still there.")
    return redirect(scope.elsewhere(url_for("findings.index")))


@findings.get("/report")
def report() -> str:
    """The client's report, to print; with `annex=yes` the audit in detail."""
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


@findings.get("/export.<ending>")
def export(ending: str) -> AnyResponse:
    """Every finding as a file, a row each."""
    scope, found = _loaded(), found_now()
    recurring = since_last(services().facts, scope.account, found, scope.part)
    return hand_out(replace(findings_table(found, recurring), name="findings"), ending)


def _loaded() -> Scope:
    """The scope, where anything is loaded."""
    scope = current_scope()
    if scope.newest is None:
        raise NotFound("Nothing to report yet.", remedy="Load a report first.")
    return scope


@findings.get("/workbook.xlsx")
def workbook() -> AnyResponse:
    """The audit as a workbook: summary, findings, targets, search terms, words, plan."""
    scope = _loaded()
    tables = sheets(context(), found_now(), today_of(scope.account))
    return hand_out_workbook(tables, f"audit-{scope.window.first}-{scope.window.last}")


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
        f"Audit closed with {write.counted(found.count(), 'finding')}. The next audit shows what is new, back and gone."
    )
    return redirect(scope.elsewhere(url_for("findings.index")))


@findings.post("/reopen")
def reopen() -> AnyResponse:
    """Takes back the closing of an audit."""
    who, scope = must_write(), current_scope()
    closed_audits.reopen(services().store, scope.account.id, who.id, request.form.get("audit", 0, type=whole))
    flash("Audit reopened.")
    return redirect(scope.elsewhere(url_for("findings.index")))


@findings.post("/put-away")
def put_away() -> AnyResponse:
    """Snoozes or dismisses the selected findings of one group."""
    who, scope = must_write(), current_scope()
    form, rows = PutAwayForm(request.form, today_of(scope.account)), request.form.getlist("findings")
    check = form.check.data or ""
    if check not in CHECKS or not rows:
        raise BadInput("No finding selected.", remedy="Select rows first (x).")
    form.checked()
    if form.until_clicks and not waits(CHECKS[check]):
        raise BadInput("These findings cannot wait for clicks.", remedy="Choose a day.")
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
    flash(f"{figures().counted(len(rows), 'finding')} snoozed. They are at the end of the page.")
    return redirect(scope.elsewhere(url_for("findings.index")))


@findings.post("/bring-back")
def bring_back() -> AnyResponse:
    """Brings findings back into the list."""
    who, scope = must_write(), current_scope()
    back = hidden_findings.bring_back(
        services().store, scope.account.id, who.id, request.form.getlist("away", type=whole)
    )
    flash(f"{figures().counted(back, 'finding')} shown again.")
    return redirect(scope.elsewhere(url_for("findings.index")))
