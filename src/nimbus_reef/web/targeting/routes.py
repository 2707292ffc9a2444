"""Targeting: the tables, the drawer, accepting a proposal, the export."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import polars as pl
from flask import (
    Blueprint,
    Response,
    flash,
    make_response,
    redirect,
    render_template,
    request,
    session,
    url_for,
)
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.core.model import from_micro
from nimbus_reef.core.plan import Change
from nimbus_reef.core.proposals import Move
from nimbus_reef.errors import BadInput, Conflict, NotFound
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store import plans, remarks, row_frames, saved
from nimbus_reef.web import charts, tables
from nimbus_reef.web.exports.routes import hand_out
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.lacking import need
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import figures, inside, must_write, parts, person, scope
from nimbus_reef.web.targeting import context, drawer, opening, pages
from nimbus_reef.web.targeting.opening import Opened
from nimbus_reef.web.targeting.pages import TARGETS, VIEWS, WORDS, View

targeting = Blueprint("targeting", __name__, url_prefix="/targeting")
MOST_AT_ONCE: Final = 2_000


def _view(name: str) -> View:
    if name not in VIEWS:
        raise NotFound(f"Targeting has no view “{name}”.", remedy="Choose one under the title.")
    return VIEWS[name]


def _listed(
    view: View, what: Scope
) -> tuple[pl.DataFrame, tables.Listing, dict[str, tables.Field], list[tables.Filter]]:
    need(what, opening.sources(view), figures())
    known = pages.fields(view, what.judge)
    filters = tables.parse_filters(what.where, known)
    rows = opening.judged(parts().facts, view, what, what.window)
    listed = tables.listing(
        rows, filters=filters, query=what.query, text_columns=view.text_columns,
        sort=what.sort or pages.usual_sort(view, what.judge), fields=known, page=what.page,
    )  # fmt: skip
    return rows, listed, known, filters


@targeting.get("/")
def home() -> Response:
    """The area opens on its first view."""
    response = make_response("", 302)
    response.headers["Location"] = scope().link(url_for("targeting.table", name="targets"))
    return response


@targeting.get("/<name>")
def table(name: str) -> str:
    """A table, and the drawer where one is open."""
    view, what, write = _view(name), scope(), figures()
    if what.newest is None:
        return render_template("targeting/empty.html", view=view, views=VIEWS)
    rows, listed, known, filters = _listed(view, what)
    columns = tables.chosen_columns(what.cols, pages.column_sets(view), known)
    summed = opening.summed(parts().facts, view, what, listed.rows)
    return render_template(
        "targeting/table.html",
        view=view,
        views=VIEWS,
        heads=pages.heads(
            columns, listed.sort, known, write, "simple" if what.judge == "simple" else "verdict"
        ),
        lines=pages.lines(view, listed.shown, columns, known, what.judge, write),
        columns=columns,
        column_sets=pages.column_sets(view),
        saved_views=saved.views(parts().store, person().id, request.path),
        listed=listed,
        totals=pages.totals(listed, rows, summed, opening.monthly_days(parts().facts, view, what), write),
        chips=[(chip.label(write.symbol), chip.text) for chip in filters],
        fields=known,
        source=parts().facts.held(what.account.id, what.window),
        drawer=_drawer(view, what, what.open, write) if what.open else None,
    )


@targeting.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> AnyResponse:
    """All filtered rows as CSV, XLSX or Parquet."""
    view, what = _view(name), scope()
    _, listed, _, _ = _listed(view, what)
    return hand_out(pages.table_to_export(view, listed.ordered, what.window), ending)


@targeting.get("/<name>/evidence")
def evidence_on(name: str) -> Response:
    """The drawer alone, for swapping in; the address becomes the page's with it open."""
    view, what = _view(name), scope()
    shown = _drawer(view, what, what.open, figures())
    response = make_response(render_template("targeting/_drawer.html", view=view, drawer=shown))
    if not request.args.get("stay"):
        response.headers["HX-Push-Url"] = what.link(url_for("targeting.table", name=name))
    return response


def _open(view: View, what: Scope, row_id: str) -> Opened:
    found = opening.judged(parts().facts, view, what, what.window).filter(pl.col("row_id") == row_id)
    if found.is_empty():
        raise NotFound(
            f"This {view.thing} did nothing in these days.", remedy="Choose other days, or close the drawer."
        )
    return opening.open_rows(parts().facts, view, what, found)[0]


def _elsewhere(view: View, what: Scope, row: Mapping[str, Any], write: Figures) -> list[drawer.Elsewhere]:
    """The terms a target paid for or a phrase stands in, or the targets that brought a term."""
    facts, account = parts().facts, what.account
    if view is TARGETS:
        return drawer.elsewhere_terms(
            row_frames.terms_of(facts, account.id, row["target_id"], what.window), write
        )
    if view is WORDS:
        return drawer.terms_hit(opening.phrase_terms(facts, what, row["phrase"]), write)
    held = row_frames.term_keys(facts, account.id, row["ad_group_id"], row["normal_id"])
    sums = facts.sums(account.id, "search_term_daily", what.window).join(held, on="target_term_id")
    return drawer.elsewhere_targets(sums, write)


def _trend(view: View, opened: Opened, what: Scope) -> pl.DataFrame:
    """Day, spend and bid of the row over its history."""
    if opened.days is not None:
        return opened.days
    facts, row = parts().facts, opened.row
    if view is WORDS:
        held = opening.phrase_terms(facts, what, row["phrase"]).select("ad_group_id", "normal_id")
    else:
        held = pl.DataFrame([{name: row[name] for name in ("ad_group_id", "normal_id")}]).cast(pl.UInt32)
    keys = row_frames.keys_of_terms(facts, what.account.id, held)["target_term_id"].to_list()
    days = row_frames.daily(facts, what.account.id, "search_term_daily", opening.history(what), keys)
    return days.with_columns(bid=pl.lit(None, pl.Int64))


def _about(change: Change) -> tuple[str, ...]:
    """What a change is made to, whatever it does to it."""
    return (change.entity, change.campaign, change.ad_group, change.target, change.match_type)


def _needs_days(view: View, what: Scope) -> str:
    """Says that a trend and the bid that worked need days, where the window's figures are sums of several."""
    facts = parts().facts
    kind = facts.held(what.account.id, what.window).kind if view is TARGETS else "search_term_daily"
    if facts.by_day_only(what.account.id, kind, what.window):
        return ""
    return f"Its trend and the bid at which it worked need {KINDS[kind].title.lower()}, day for day; held is one sum."


def _drawer(view: View, what: Scope, row_id: str, write: Figures) -> dict[str, Any]:
    opened = _open(view, what, row_id)
    row = opened.row
    core = drawer.core_row(row, opening.monthly_days(parts().facts, view, what))
    fact, measure = drawer.sentence(row, write)
    picture = None
    if row["prior_a"] is not None and row["clicks"]:
        picture = drawer.picture(row, (core.a, core.b), write)
    wanted = {_about(change) for change in opening.changes_of(opened, write)}
    planned = [
        each for each in plans.planned(parts().store, what.account.id) if _about(each.change) in wanted
    ]
    trend = _trend(view, opened, what)
    stepped = [None if bid is None else from_micro(bid) for bid in trend["bid"]]
    marked = drawer.changes_of_row(
        row, charts.bid_changes(trend["day"].to_list(), stepped, write),
        row_frames.changes(parts().facts, what.account.id, opening.history(what)),
    )  # fmt: skip
    return {
        "id": row_id,
        "name": pages.name_of(view, row),
        "where": pages.where(view, row, write)
        if view is WORDS else f"{row['match_type']} · {row['campaign']} · {row['ad_group']}",
        "mark": pages.mark_of(row, "evidence"),
        "verdict": pages.verdict_at_length(row),
        "by_words": drawer.decided_by_words(row, opening.deciding(parts().facts, view, what, row), write),
        "fact": fact,
        "measure": measure,
        "company": drawer.company(row, write),
        "picture": picture,
        "trend": charts.money_and_bid(
            trend["day"].to_list(), [from_micro(value) for value in trend["spend"]], stepped,
            figures=write, first_shown=max(what.window.first, trend["day"].min()), changes=marked,
        ) if len(trend) else None,
        "needs_days": _needs_days(view, what),
        "changes": [(write.day(each.day), each.words) for each in reversed(marked[-6:])],
        "has_bids": any(bid is not None for bid in stepped),
        "why": context.why_it_moved(parts().facts, view, what, row, write),
        "strips": context.against_peers(parts().facts, what, row, write),
        "offer": drawer.offer(opened.proposal, opened.bid, write, opened.home, opened.here, len(opened.places)),
        "elsewhere": _elsewhere(view, what, row, write),
        "all_terms": " ".join(opening.beginnings(row["phrase"])) if view is WORDS else "",
        "products": drawer.products_hit(opened.products, write)
        if opened.proposal.move in (Move.NEGATIVE, Move.PAUSE) else [],
        "planned": planned,
        "break_even": drawer.break_even_words(opening.break_even(parts().facts, what.account, row), write),
        "remarks": remarks.of_row(parts().store, what.account.id, view.name, row_id),
        "simple": row["simple_verdict"],
        "row": row,
    }  # fmt: skip


@targeting.get("/<name>/rows")
def rows_behind(name: str) -> str:
    """The report rows behind a row's figures, and the files they came in."""
    view, what = _view(name), scope()
    opened = _open(view, what, what.open)
    source, rows = opening.report_rows(parts().facts, view, what, opened.row)
    return render_template(
        "targeting/rows.html", title=pages.name_of(view, opened.row), crumb=pages.where(view, opened.row, figures()),
        back=what.link(url_for("targeting.table", name=name)),
        report=KINDS[source].title, behind=drawer.behind(rows, figures()),
    )  # fmt: skip


@targeting.post("/<name>/remarks")
def note(name: str) -> Response:
    """Writes a note on a row."""
    who = must_write()
    view, what = _view(name), scope()
    row_id = request.form["row"]
    remarks.add(parts().store, what.account.id, who.id, view.name, row_id, request.form.get("text", ""))
    return _swapped(view, what, row_id, figures())


@targeting.post("/<name>/remarks/<int:remark_id>/remove")
def remove_note(name: str, remark_id: int) -> Response:
    """Takes a note off its row."""
    who = must_write()
    view, what = _view(name), scope()
    remarks.remove(parts().store, what.account.id, who.id, remark_id)
    return _swapped(view, what, request.form["row"], figures())


@targeting.post("/<name>/accept")
def accept(name: str) -> Response:
    """Puts the proposal on a row into the plan, worked out anew from the record."""
    who = must_write()
    view, what, write = _view(name), scope(), figures()
    row_id = request.form["row"]
    opened = _open(view, what, row_id)
    changes = opening.proposed(opened, view, what, write, parts().facts)
    if not changes:
        raise Conflict("There is nothing to accept on this row any more.", remedy="Look at it again.")
    if not plans.accept_many(parts().store, what.account.id, who.id, changes):
        raise Conflict(
            "The plan already changes this.", remedy="Take the other change out of the plan first."
        )
    return _swapped(view, what, row_id, write)


def _selected() -> list[str]:
    """The rows that a form selects: those of a table, or the ones behind selected findings."""
    return [*request.form.getlist("rows"), *request.form.getlist("findings")]


@targeting.post("/<name>/accept-many")
def accept_many(name: str) -> AnyResponse:
    """Puts the proposals on the selected rows, or on all filtered ones, into the plan."""
    who = must_write()
    view, what, write = _view(name), scope(), figures()
    _, listed, _, _ = _listed(view, what)
    rows = listed.ordered
    if not request.form.get("all"):
        rows = rows.filter(pl.col("row_id").is_in(_selected()))
    if len(rows) > MOST_AT_ONCE:
        raise BadInput(
            f"{write.count(len(rows))} rows are selected; at most {write.count(MOST_AT_ONCE)} are accepted at a time.",
            remedy="Filter further: the largest stakes come first.",
        )
    opened = opening.open_rows(parts().facts, view, what, rows)
    changes = [opening.proposed(each, view, what, write, parts().facts) for each in opened]
    proposed = [change for of_row in changes for change in of_row]
    accepted = plans.accept_many(parts().store, what.account.id, who.id, proposed)
    told = pages.accepted_words(
        len(accepted), len(proposed) - len(accepted), sum(not of_row for of_row in changes), write
    )
    session["accepted"] = [each.id for each in accepted]
    flash(told, "accepted" if accepted else "message")
    back = request.form.get("back")
    return redirect(
        what.elsewhere(inside(back)) if back else what.link(url_for("targeting.table", name=name), open="")
    )


@targeting.post("/<name>/take-back")
def take_back(name: str) -> Response:
    """Undoes an acceptance from the drawer."""
    who = must_write()
    view, what = _view(name), scope()
    plans.remove_many(parts().store, what.account.id, who.id, request.form.getlist("change", type=int))
    return _swapped(view, what, request.form["row"], figures())


def _swapped(view: View, what: Scope, row_id: str, write: Figures) -> Response:
    """The drawer anew and the plan strip with it; a whole page where no script asked."""
    if not request.headers.get("HX-Request"):
        response = make_response("", 303)
        response.headers["Location"] = what.link(url_for("targeting.table", name=view.name), open=row_id)
        return response
    return make_response(
        render_template("targeting/_accepted.html", view=view, drawer=_drawer(view, what, row_id, write))
    )
