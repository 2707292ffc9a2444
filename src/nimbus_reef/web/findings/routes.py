"""Findings: the list, putting away and bringing back. Accepting goes through Targeting."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from datetime import timedelta
from typing import Any, Final

import polars as pl
from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.acceptance import assess
from nimbus_reef.analysis.catalog import files as catalog_files
from nimbus_reef.analysis.delivery import files as delivery_files
from nimbus_reef.analysis.falls import watched
from nimbus_reef.analysis.findings import SOURCES, Findings, findings_known, waits, written_down
from nimbus_reef.analysis.findings import findings as findings_of
from nimbus_reef.analysis.judged import Judged, judged_targets, judged_terms
from nimbus_reef.analysis.judged_proposals import FILED_AS, judged
from nimbus_reef.analysis.judged_tables import VIEWS, table_to_export
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.opened_findings import Opened, group_of
from nimbus_reef.analysis.opened_findings import opened as opening
from nimbus_reef.analysis.pulse import beat
from nimbus_reef.analysis.recurring import since_last
from nimbus_reef.core.checks import CHECKS, Reading
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import closed_audits, hidden_findings, plans
from nimbus_reef.store.people.hidden_findings import PutAway
from nimbus_reef.store.reading.facts import TARGET_SOURCES
from nimbus_reef.web.downloads import hand_out_workbook
from nimbus_reef.web.findings import pages, pictures
from nimbus_reef.web.findings import report as sheets_of
from nimbus_reef.web.findings.forms import PutAwayForm
from nimbus_reef.web.kit import product
from nimbus_reef.web.kit.beats import line as beat_line
from nimbus_reef.web.kit.judging import judged_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.planned import lines as plan_lines
from nimbus_reef.web.kit.previews import AcceptancePreview, preview
from nimbus_reef.web.kit.product import ProductDrawer
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import away_from, current_scope, figures, is_first_answer, must_write, parts

findings = Blueprint("findings", __name__, url_prefix="/findings")
WATCHED_DAYS: Final = 28
NO_WAYS: Final = Ways()


def _judged_first(scope: Scope) -> None:
    facts = parts().facts
    need(facts, scope, SOURCES, figures())
    away = away_from(scope.account.id)
    known = findings_known(facts, scope.look, away, today_of(scope.account)) is not None
    judged_first(facts, scope, Judged.TARGETS, Judged.TERMS, first=is_first_answer(), more=not known)


def found_now() -> Findings:
    """The findings in scope, what is put away left out."""
    scope = current_scope()
    need(parts().facts, scope, SOURCES, figures())
    put_away = away_from(scope.account.id)
    return findings_of(parts().facts, scope.look, put_away, today_of(scope.account))


@findings.get("/")
def look() -> str:
    """Everything found, grouped by what to do, largest stake first."""
    scope, write = current_scope(), figures()
    if scope.newest is None:
        return render_template("findings/empty.html")
    _judged_first(scope)
    found = found_now()
    recurring = since_last(parts().facts, scope.account, found, scope.part)
    days, today = _days(scope), today_of(scope.account)
    return render_template(
        "findings/findings.html",
        answer=pages.answer(found, days, write, _unread(scope)),
        blocks=pages.blocks(found, days, request.args.get("all", ""), write, recurring.since.news),
        since=pages.since_last(found, recurring, write, scope.window.days),
        past=pages.past(recurring.closings, write),
        **_put_aside(scope, found.hidden),
        until=pages.usual_end(today),
        clicks=pages.SNOOZE_CLICKS,
        newest_closing=closed_audits.newest_id(parts().store, scope.account.id),
    )


def _put_aside(scope: Scope, away: Sequence[PutAway]) -> dict[str, Any]:
    """What is out of sight: put away, or ticked off and watched since."""
    names, write = _names(away), figures()
    done = [each for each in away if each.done]
    fell = {each.row_id: each.since for each in done if CHECKS[each.check].reads is Reading.FALLS}
    since = watched(parts().facts, scope.look, fell)
    return {
        "hidden": pages.hidden([each for each in away if not each.done], names),
        "ticked": pages.ticked(done, names, since, write),
    }


def _with_days(scope: Scope) -> str:
    """The address, and how many days were looked at: audits of unlike length cannot be compared."""
    return f"{scope.address}&looked_at={scope.window.days}".removeprefix("&")


def _unread(scope: Scope) -> list[str]:
    """What findings could not be looked for, since no report of it is held in these days."""
    facts = parts().facts
    kinds = {"targets": TARGET_SOURCES, "search terms": ("search_term_daily",), "products": ("product_ad_daily",)}
    return [name for name, of in kinds.items() if lacking(facts, scope.account, scope.window, of)]


def _days(scope: Scope) -> int:
    """The days that sums of search terms are scaled to 30 days from."""
    return parts().facts.monthly_days(scope.account.id, "search_term_daily", scope.window)


def _names(hidden: Sequence[PutAway]) -> dict[str, str]:
    """What the rows are called that were put away; nothing is looked up where none was."""
    if not hidden:
        return {}
    scope, facts = current_scope(), parts().facts
    wanted = [each.row_id for each in hidden]
    targets, terms = judged_targets(facts, scope.look), judged_terms(facts, scope.look)
    groups = targets.select(
        pl.concat_str(pl.lit("ad_group_id:"), "ad_group_id").alias("row_id"),
        pl.concat_str(pl.lit("ad group "), "ad_group").alias("name"),
    ).unique()
    named = (
        terms.select("row_id", pl.col("term").alias("name")),
        targets.select("row_id", pl.col("target").alias("name")),
        groups,
    )
    return dict(pl.concat(each.filter(pl.col("row_id").is_in(wanted)) for each in named).rows())


@findings.get("/<key>")
def opened(key: str) -> str:
    """
    A finding, or all of a check, as a thing to do: its rows, what is proposed on each and together, what may have
    brought it about.
    """
    scope, facts, write = current_scope(), parts().facts, figures()
    if scope.newest is None:
        return render_template("findings/empty.html")
    if key not in CHECKS:
        raise NotFound(f"There is no finding “{key}”.", remedy="Look at the findings again.")
    _judged_first(scope)
    row_id = request.args.get("row", "")
    group = group_of(found_now(), key, row_id)
    found, check = opening(facts, scope.look, group, row_id), group.check
    title, where = pages.opened_title(group, row_id)
    told = _told(scope, found) if found.proposed else None
    return render_template(
        "findings/opened.html",
        check=check,
        group=group,
        title=title,
        where=where,
        row_id=row_id,
        stake=pages.opened_words(group, write),
        told=told,
        acting=told.acting if told else (),
        opens=pages.opens(check),
        itself=check.by_itself,
        lines=[] if told and told.count else pages.opened_lines(group, _days(scope), write),
        raises=[(each.row_id, each.changes[0], write.day(row["day"]), row) for each, row in found.raises],
        product=product_of(scope, found.product) if found.product else None,
        sku=found.product,
        gaps=pages.gap_lines(group.rows.row(0, named=True), write) if row_id else [],
    )


def _told(scope: Scope, found: Opened) -> AcceptancePreview:
    """What is proposed on the rows of a finding, and what all of it would do beside what is planned."""
    asked = assess(parts().facts, scope.look, found.proposed)
    thing = VIEWS[FILED_AS[found.check.subject]].thing
    return preview(asked, "", thing, scope.window.days, scope.account.settings, figures())


def product_of(scope: Scope, sku: str) -> ProductDrawer | None:
    """What is known of a product that a finding is about; None where it had no ads in these days."""
    try:
        return product.drawer(parts().facts, scope, sku, "", figures())
    except NotFound:
        return None


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
        parts().store,
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
    scope, write = current_scope(), figures()
    if scope.newest is None:
        return render_template("findings/empty.html")
    _judged_first(scope)
    found = found_now()
    facts, account = parts().facts, scope.account
    recurring = since_last(facts, account, found, scope.part)
    days = _days(scope)
    blocks = pages.blocks(found, days, "", write, recurring.since.news)
    return render_template(
        "findings/report.html",
        answer=pages.answer(found, days, write),
        blocks=blocks,
        nodes=pictures.nodes(facts, scope.look, write),
        chart=pictures.moved(facts, scope.look, scope.target_acos),
        bars=pictures.bars(blocks, [group.stake for group in found.groups]),
        ways=NO_WAYS,
        by="product",
        since=pages.since_last(found, recurring, write),
        beat=beat_line(beat(facts, scope.look, today_of(account)), today_of(account)),
        groups=plan_lines(plans.planned(parts().store, account.id), write),
        today=today_of(account),
    )


@findings.get("/report.css")
def page_foot() -> PageResponse:
    """
    What stands at the foot of every printed page: whose audit it is. A sheet of its own, since only one that is loaded
    can hold names.
    """
    scope = current_scope()
    said = f"{scope.account.brand}, {scope.account.country} · {figures().days(scope.window)}"
    escaped = "".join(f"\\{ord(sign):06x} " if not sign.isalnum() and sign != " " else sign for sign in said)
    rule = f'@page {{ @bottom-left {{ content: "{escaped}"; font: 9px sans-serif; color: #4c636b; }} }}'
    return PageResponse(rule, mimetype="text/css")


@findings.get("/workbook.xlsx")
def workbook() -> AnyResponse:
    """The audit as a workbook: summary, findings, targets, search terms, words, plan."""
    scope = current_scope()
    if scope.newest is None:
        raise NotFound("There is nothing to write down yet.", remedy="Load a report first.")
    found, facts = found_now(), parts().facts
    recurring = since_last(facts, scope.account, found, scope.part)
    made = beat(facts, scope.look, today_of(scope.account))
    tables = []
    for view in VIEWS.values():
        rows = judged(facts, scope.look, view.subject).sort("stake", descending=True)
        tables.append(replace(table_to_export(view, rows, scope.window), name=view.title))
    for needs, made_by in ((catalog_files.NEEDS, catalog_files.FILES), (delivery_files.NEEDS, delivery_files.FILES)):
        for name, make in made_by.items():
            if any(facts.held_days(scope.account.id, kind, scope.window) for kind in needs[name]):
                tables.append(replace(make(facts, scope.look), name=name.capitalize()))
    sheets = [
        sheets_of.summary(scope, found, made, recurring),
        sheets_of.findings_table(found, recurring),
        *tables,
        sheets_of.plan_table(plans.planned(parts().store, scope.account.id)),
    ]
    return hand_out_workbook(sheets, f"audit-{scope.window.first}-{scope.window.last}")


@findings.post("/close")
def close() -> AnyResponse:
    """Closes the audit: what is found now is what the next one is measured by."""
    who, scope, write = must_write(), current_scope(), figures()
    found = found_now()
    closed_audits.close(
        parts().store,
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
    closed_audits.reopen(parts().store, scope.account.id, who.id, request.form.get("audit", 0, type=whole))
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
        parts().store,
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
    back = hidden_findings.bring_back(parts().store, scope.account.id, who.id, request.form.getlist("away", type=whole))
    flash(f"{figures().counted(back, 'finding')} brought back.")
    return redirect(scope.elsewhere(url_for("findings.look")))
