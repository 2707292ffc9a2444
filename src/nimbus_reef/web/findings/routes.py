"""Findings: the list, putting away and bringing back. Accepting goes through Targeting."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl
from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.core.checks import WITH_ITS_PRODUCT
from nimbus_reef.errors import BadInput
from nimbus_reef.jobs import audit
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store import away
from nimbus_reef.store.away import PutAway
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
        hidden=pages.hidden(found.hidden, _names(found.hidden)),
        until=pages.usual_end(today),
        clicks=pages.SNOOZE_CLICKS,
    )


def _names(hidden: Sequence[PutAway]) -> dict[str, str]:
    """What the rows are called that were put away; nothing is looked up where none was."""
    if not hidden:
        return {}
    what, facts = scope(), parts().facts
    wanted = [each.row_id for each in hidden]
    targets = audit.judged_targets(facts, what.account, what.window, what.aims)
    terms = audit.judged_terms(facts, what.account, what.window, what.aims)
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
