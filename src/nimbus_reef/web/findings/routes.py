"""Findings: the list, putting away and bringing back. Accepting goes through Targeting."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.core.checks import WITH_ITS_PRODUCT
from nimbus_reef.errors import BadInput
from nimbus_reef.jobs import audit
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store import away
from nimbus_reef.web.findings import pages
from nimbus_reef.web.parts import figures, must_write, parts, scope

findings = Blueprint("findings", __name__, url_prefix="/findings")


def found_now() -> audit.Findings:
    """The findings in scope, what is put away left out."""
    what, store = scope(), parts().store
    return audit.findings(
        parts().facts, what.account, what.window, what.aims, away.away(store, what.account.id),
        today_of(what.account), what.narrow,
    )  # fmt: skip


@findings.get("/")
def look() -> str:
    """Everything found, grouped by what to do, largest stake first."""
    what, write = scope(), figures()
    if what.newest is None:
        return render_template("findings/empty.html")
    found = found_now()
    days, today = what.window.days, today_of(what.account)
    return render_template(
        "findings/findings.html",
        answer=pages.answer(found, days, write),
        blocks=pages.blocks(found, days, request.args.get("all", ""), write),
        hidden=pages.hidden(found.hidden, _names()),
        until=pages.usual_end(today),
        clicks=pages.SNOOZE_CLICKS,
    )


def _names() -> dict[tuple[str, str], str]:
    """What every row of the window is called, for those that are put away."""
    what, facts = scope(), parts().facts
    targets = audit.with_row_ids(
        audit.Subject.TARGET, audit.judged_targets(facts, what.account, what.window, what.aims)
    )
    terms = audit.with_row_ids(
        audit.Subject.TERM, audit.judged_terms(facts, what.account, what.window, what.aims)
    )
    by_id = dict(terms.select("row_id", "term").rows()) | dict(targets.select("row_id", "target").rows())
    groups = dict(targets.select("ad_group_id", "ad_group").unique().rows())
    by_id |= {
        f"ad_group_id:{number}": pages.company_name("ad_group_id", "", name)
        for number, name in groups.items()
    }
    return {(check, row_id): name for check in pages.known_checks() for row_id, name in by_id.items()}


@findings.post("/put-away")
def put_away() -> Response:
    """Snoozes or dismisses the selected findings of one group."""
    who, what = must_write(), scope()
    check, rows = request.form.get("check", ""), request.form.getlist("findings")
    if check not in pages.known_checks() or not rows:
        raise BadInput("No finding was selected.", remedy="Select some rows first (x).")
    reason = request.form.get("reason", "").strip()[: pages.LONGEST_REASON]
    end = pages.end_of(request.form, today_of(what.account))
    if end.clicks and check == WITH_ITS_PRODUCT.key:
        raise BadInput("A product's targets together have no clicks to wait for.", remedy="Choose a day.")
    away.put(
        parts().store, what.account.id, who.id, check, rows,
        until_day=end.day, until_clicks=end.clicks, reason=reason,
    )  # fmt: skip
    flash(f"{figures().counted(len(rows), 'finding')} put away; see the end of the page.")
    return redirect(what.elsewhere(url_for("findings.look")))


@findings.post("/bring-back")
def bring_back() -> Response:
    """Brings findings back into the list."""
    who, what = must_write(), scope()
    back = away.bring_back(parts().store, what.account.id, who.id, request.form.getlist("away", type=int))
    flash(f"{figures().counted(back, 'finding')} brought back.")
    return redirect(what.elsewhere(url_for("findings.look")))
