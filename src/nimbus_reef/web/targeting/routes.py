"""Targeting: the tables, the drawer, accepting a proposal, the export."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping, Sequence
from typing import Any

import polars as pl
from flask import Blueprint, Response, make_response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import deeds, judged_tables, order, proposals, tables
from nimbus_reef.analysis.brands import brand_of
from nimbus_reef.analysis.judged_tables import VIEWS, View
from nimbus_reef.analysis.planned_rows import marked
from nimbus_reef.analysis.proposals import Proposed
from nimbus_reef.analysis.row_marks import with_marks
from nimbus_reef.core.changes import Change
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.proposals import Move
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.typed import whole
from nimbus_reef.store.people import notes, plans, saved_views
from nimbus_reef.store.reading import row_frames
from nimbus_reef.web import acting
from nimbus_reef.web.exports.routes import hand_out
from nimbus_reef.web.kit import candidates, charts, settled_first
from nimbus_reef.web.kit.behind import behind
from nimbus_reef.web.kit.candidates import Candidate
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.judged_rows import name_of, where
from nimbus_reef.web.kit.judging import judged_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.marks import changes_of_row
from nimbus_reef.web.kit.settled_first import First
from nimbus_reef.web.kit.tables import table_of
from nimbus_reef.web.kit.verdicts import mark_of, verdict_at_length
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import current_scope, figures, is_first_answer, must_write, parts, person
from nimbus_reef.web.targeting import context, deed_forms, drawer, pages
from nimbus_reef.web.targeting.forms import NoteForm
from nimbus_reef.web.targeting.summing import summed

targeting = Blueprint("targeting", __name__, url_prefix="/targeting")


def _view(name: str) -> View:
    if name not in VIEWS:
        raise NotFound(f"Targeting has no view “{name}”.", remedy="Choose one under the title.")
    return VIEWS[name]


def _listed(
    view: View, scope: Scope
) -> tuple[pl.DataFrame, tables.Listing, dict[str, tables.Field], list[tables.Filter]]:
    need(parts().facts, scope, proposals.sources(view.subject), figures())
    known = judged_tables.fields(view, scope.judge)
    filters = tables.parse_filters(scope.where, known)
    rows = proposals.judged(parts().facts, scope.look, view.subject)
    rows = with_marks(parts().facts, scope.look, view.subject, rows, filters)
    listed = tables.listing(
        rows,
        filters=filters,
        query=scope.query,
        text_columns=view.text_columns,
        sort=scope.sort or judged_tables.usual_sort(view, scope.judge),
        fields=known,
        page=scope.page,
    )
    return rows, listed, known, filters


@targeting.get("/")
def home() -> Response:
    """The area opens on its first view."""
    response = make_response("", 302)
    response.headers["Location"] = current_scope().link(url_for("targeting.table", name="targets"))
    return response


@targeting.get("/<name>")
def table(name: str) -> str | AnyResponse:
    """A table, and the drawer where one is open."""
    view, scope, write = _view(name), current_scope(), figures()
    if request.args.get("compared"):
        # A filter that was just typed stands in the address like any other, for links to keep.
        return redirect(scope.link(url_for("targeting.table", name=name)))
    if scope.newest is None:
        return render_template("targeting/empty.html", view=view, views=VIEWS)
    need(parts().facts, scope, proposals.sources(view.subject), write)
    judged_first(parts().facts, scope, proposals.judged_as(view.subject), first=is_first_answer())
    rows, listed, known, filters = _listed(view, scope)
    columns = tables.chosen_columns(scope.cols, view.columns, known)
    shown = marked(listed.shown, view.subject, plans.planned(parts().store, scope.account.id))
    sums = summed(parts().facts, view, scope, listed.rows)
    return render_template(
        "targeting/table.html",
        view=view,
        views=VIEWS,
        table=table_of(
            listed,
            len(rows),
            pages.lines(view, shown, columns, known, scope.judge, write),
            pages.heads(view, columns, listed.sort, known, write, scope.judge),
            write,
            here=url_for("targeting.table", name=name),
            things=view.things,
            picks=person().writes,
            empty=f"No {view.thing} fits.",
            all="Remove all filters",
            chips=[(chip.label(write.symbol), chip.text) for chip in filters],
        ),
        columns=columns,
        column_sets=view.columns,
        saved_views=saved_views.views(parts().store, person().id, request.path, scope.account.brand_id),
        totals=pages.totals(rows, sums, proposals.monthly_days(parts().facts, scope.look, view.subject), write),
        fields=known,
        deeds=_deeds(view, known, write),
        offers=view.subject is not Subject.PHRASE,
        source=parts().facts.held(scope.account.id, scope.window),
        drawer=_drawer(view, scope, scope.open, write) if scope.open else None,
    )


def _deeds(view: View, known: Mapping[str, tables.Field], write: Figures) -> dict[str, Any] | None:
    """What the form of own actions offers; None where nothing is done by hand."""
    offered = deed_forms.deeds_of(view.subject)
    if not offered or not person().writes:
        return None
    return {"offered": offered, "metrics": deed_forms.metrics_of(known, write.symbol), "rules": deed_forms.RULES}


@targeting.get("/<name>/offers")
def offers(name: str) -> str:
    """What is proposed on each row of a page, asked for after the page: a cell for each of its rows."""
    view, scope = _view(name), current_scope()
    _, listed, _, _ = _listed(view, scope)
    return _offer_cells(view, scope, listed.shown)


def _offer_cells(view: View, scope: Scope, rows: pl.DataFrame) -> str:
    planned = plans.planned(parts().store, scope.account.id)
    opened = proposals.propose(parts().facts, scope.look, view.subject, marked(rows, view.subject, planned))
    return render_template(
        "targeting/_offers.html", view=view, cells=[pages.offer_cell(each, figures()) for each in opened]
    )


@targeting.post("/<name>/accept-row")
def accept_row(name: str) -> str:
    """Puts the proposal on a row into the plan without opening it; the row's cell anew, and the plan strip."""
    must_write()
    view, scope = _view(name), current_scope()
    row_id = request.form["row"]
    acting.accept_one(scope, _candidates(view, scope, [_open(view, scope, row_id)])[0])
    found = proposals.judged(parts().facts, scope.look, view.subject).filter(pl.col("row_id") == row_id)
    return render_template("plan/_strip_anew.html") + _offer_cells(view, scope, found)


@targeting.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> AnyResponse:
    """All filtered rows as CSV, XLSX or Parquet."""
    view, scope = _view(name), current_scope()
    _, listed, _, _ = _listed(view, scope)
    return hand_out(judged_tables.table_to_export(view, listed.ordered, scope.window), ending)


@targeting.get("/<name>/evidence")
def evidence_on(name: str) -> Response:
    """The drawer alone, for swapping in; the address becomes the page's with it open."""
    view, scope = _view(name), current_scope()
    shown = _drawer(view, scope, scope.open, figures())
    response = make_response(render_template("targeting/_drawer.html", view=view, drawer=shown))
    if not request.args.get("stay"):
        response.headers["HX-Push-Url"] = scope.link(url_for("targeting.table", name=name))
    return response


def _open(view: View, scope: Scope, row_id: str) -> Proposed:
    found = proposals.judged(parts().facts, scope.look, view.subject).filter(pl.col("row_id") == row_id)
    if found.is_empty():
        raise NotFound(
            f"This {view.thing} did nothing in these days.", remedy="Choose other days, or close the drawer."
        )
    return proposals.propose(parts().facts, scope.look, view.subject, found)[0]


def _reason(opened: Proposed, write: Figures) -> str:
    """Why, in the words of the drawer, as the change sheet has it."""
    fact, _ = drawer.sentence(opened.row, write)
    offered = drawer.offer(opened, write)
    # Where lines end is the page's business.
    return drawer.reason_line(fact, offered).replace("\u2060", "")


def _elsewhere(view: View, scope: Scope, row: Mapping[str, Any], write: Figures) -> list[drawer.Elsewhere]:
    """The terms a target paid for or a phrase stands in, or the targets that brought a term."""
    facts, account = parts().facts, scope.account
    if view.subject is Subject.TARGET:
        return drawer.elsewhere_terms(row_frames.terms_of(facts, account.id, row["target_id"], scope.window), write)
    if view.subject is Subject.PHRASE:
        return drawer.terms_hit(proposals.phrase_terms(facts, scope.look, row["phrase"]), write)
    held = row_frames.term_keys(facts, account.id, row["ad_group_id"], row["normal_id"])
    sums = facts.sums(account.id, "search_term_daily", scope.window).join(held, on="target_term_id")
    return drawer.elsewhere_targets(sums, write)


def _trend(view: View, opened: Proposed, scope: Scope) -> pl.DataFrame:
    """Day, spend and bid of the row over its history."""
    if opened.days is not None:
        return opened.days
    facts, row = parts().facts, opened.row
    if view.subject is Subject.PHRASE:
        held = proposals.phrase_terms(facts, scope.look, row["phrase"]).select("ad_group_id", "normal_id")
    else:
        held = pl.DataFrame([{name: row[name] for name in ("ad_group_id", "normal_id")}]).cast(pl.UInt32)
    keys = row_frames.keys_of_terms(facts, scope.account.id, held)["target_term_id"].to_list()
    days = row_frames.daily(facts, scope.account.id, "search_term_daily", proposals.history(scope.look), keys)
    return days.with_columns(bid=pl.lit(None, pl.Int64))


def _about(change: Change) -> tuple[str, ...]:
    """The thing a change is made to."""
    return (change.entity, change.campaign, change.ad_group, change.target, change.match_type)


def _harm(view: View, scope: Scope, opened: Proposed, write: Figures) -> dict[str, Any]:
    """
    What a negative on a term would also stop, exactly and as a phrase, and where else the term sells; nothing of other
    rows.
    """
    if view.subject is not Subject.TERM:
        return {"exact": [], "phrase": [], "sells": "", "sells_in": []}
    facts, move = parts().facts, opened.proposal
    exact, phrase = (
        deeds.collateral(
            facts,
            scope.look,
            [dataclasses.replace(opened, proposal=dataclasses.replace(move, move=Move.NEGATIVE, match=match))],
        ).get(opened.row["row_id"], ())
        for match in ("negative_exact", "negative_phrase")
    )
    elsewhere = deeds.sells_elsewhere(facts, scope.look, opened.row)
    return {
        "exact": drawer.stopped_lines(exact, write),
        "phrase": drawer.stopped_lines(phrase, write),
        "sells": write.counted(sum(row["orders"] for row in elsewhere), "order") if elsewhere else "",
        "sells_in": [
            (f"{row['campaign']} · {row['ad_group']}", write.counted(row["orders"], "order"), row["row_id"])
            for row in elsewhere[:4]
        ],
    }


def _needs_days(view: View, scope: Scope) -> str:
    """Says that a trend and the bid that worked need days, where the window's figures are sums of several."""
    facts = parts().facts
    kind = proposals.source(facts, scope.look, view.subject)
    if facts.by_day_only(scope.account.id, kind, scope.window):
        return ""
    return f"Its trend and the bid at which it worked need {KINDS[kind].title.lower()}, day for day; held is one sum."


def _before(scope: Scope, opened: Proposed, write: Figures) -> list[First]:
    """
    What is better settled before the proposal on a row, in its ad group; of phrases, which stand in many, in the
    dearest.
    """
    if opened.proposal.move is Move.NONE:
        return []
    place = max(opened.places, key=lambda each: each.spend, default=None)
    campaign, ad_group = (place.campaign, place.ad_group) if place else opened.here
    waiting = [each.change for each in plans.planned(parts().store, scope.account.id)]
    home = (str(campaign), str(ad_group))
    found = order.before(parts().facts, scope.look, [home], waiting)
    what = {Move.NEGATIVE: settled_first.NEGATIVE, Move.PAUSE: settled_first.PAUSE}.get(
        opened.proposal.move, settled_first.BID
    )
    return settled_first.first(found.get(home, []), what, write)


def _drawer(view: View, scope: Scope, row_id: str, write: Figures) -> dict[str, Any]:
    opened = _open(view, scope, row_id)
    row = opened.row
    core = proposals.core_row(row, proposals.monthly_days(parts().facts, scope.look, view.subject))
    fact, measure = drawer.sentence(row, write)
    picture = None
    if row["prior_a"] is not None and row["clicks"]:
        picture = drawer.picture(row, (core.a, core.b), write)
    wanted = {_about(change) for change in proposals.changes_of(opened, _reason(opened, write))}
    planned = [each for each in plans.planned(parts().store, scope.account.id) if _about(each.change) in wanted]
    trend = _trend(view, opened, scope)
    stepped = [None if bid is None else from_micro(bid) for bid in trend["bid"]]
    marked = changes_of_row(
        row,
        charts.bid_changes(trend["day"].to_list(), stepped, write),
        row_frames.changes(parts().facts, scope.account.id, proposals.history(scope.look)),
    )
    return {
        "id": row_id,
        "name": name_of(view, row),
        "where": (
            where(view, row, write)
            if view.subject is Subject.PHRASE
            else f"{row['match_type']} · {row['campaign']} · {row['ad_group']}"
        ),
        "mark": mark_of(row, "evidence"),
        "verdict": verdict_at_length(row),
        "by_words": drawer.decided_by_words(
            row, proposals.deciding(parts().facts, scope.look, view.subject, row), write
        ),
        "brand": drawer.brand_words(brand_of(parts().facts, scope.look, name_of(view, row))),
        "fact": fact,
        "measure": measure,
        "company": drawer.company(row, write),
        "picture": picture,
        "trend": (
            charts.money_and_bid(
                trend["day"].to_list(),
                [from_micro(value) for value in trend["spend"]],
                stepped,
                figures=write,
                first_shown=max(scope.window.first, *trend["day"].head(1).to_list()),
                changes=marked,
            )
            if len(trend)
            else None
        ),
        "needs_days": _needs_days(view, scope),
        "changes": [(write.day(each.day), each.words) for each in reversed(marked[-6:])],
        "has_bids": any(bid is not None for bid in stepped),
        "why": context.why_it_moved(parts().facts, view, scope, row, write),
        "strips": context.against_peers(parts().facts, scope, row, write),
        "offer": drawer.offer(opened, write),
        "destinations": [(each.key, drawer.place_words(each)) for each in opened.destinations],
        "elsewhere": _elsewhere(view, scope, row, write),
        "all_terms": " ".join(proposals.beginnings(row["phrase"])) if view.subject is Subject.PHRASE else "",
        "harm": _harm(view, scope, opened, write),
        "products": (
            drawer.products_hit(opened.products, write, len(opened.places))
            if opened.proposal.move in (Move.NEGATIVE, Move.PAUSE)
            else []
        ),
        "places": len(opened.places),
        "planned": planned,
        "before": _before(scope, opened, write),
        "break_even": drawer.break_even_words(proposals.break_even(parts().facts, scope.account, row), write),
        "remarks": notes.of_row(parts().store, scope.account.id, view.name, row_id),
        "simple": row["simple_verdict"],
        "row": row,
    }


@targeting.get("/<name>/rows")
def rows_behind(name: str) -> str:
    """The report rows behind a row's figures, and the files they came in."""
    view, scope = _view(name), current_scope()
    opened = _open(view, scope, scope.open)
    source, rows = proposals.report_rows(parts().facts, scope.look, view.subject, opened.row)
    return render_template(
        "targeting/rows.html",
        title=name_of(view, opened.row),
        crumb=where(view, opened.row, figures()),
        back=scope.link(url_for("targeting.table", name=name)),
        report=KINDS[source].title,
        behind=behind(rows, figures()),
    )


@targeting.post("/<name>/remarks")
def note(name: str) -> Response:
    """Writes a note on a row."""
    who = must_write()
    view, scope = _view(name), current_scope()
    form = NoteForm(request.form).checked()
    row_id = form.row.data or ""
    notes.add(parts().store, scope.account.id, who.id, view.name, row_id, form.text.data or "")
    return _swapped(view, scope, row_id, figures())


@targeting.post("/<name>/remarks/<int:remark_id>/remove")
def remove_note(name: str, remark_id: int) -> Response:
    """Takes a note off its row."""
    who = must_write()
    view, scope = _view(name), current_scope()
    notes.remove(parts().store, scope.account.id, who.id, remark_id)
    return _swapped(view, scope, request.form["row"], figures())


@targeting.post("/<name>/accept")
def accept(name: str) -> Response:
    """Puts the proposal on a row into the plan, worked out anew from the record."""
    view, scope, write = _view(name), current_scope(), figures()
    row_id = request.form["row"]
    opened = _open(view, scope, row_id)
    if chosen := request.form.get("to"):
        opened = opened.sent_to(chosen)
    acting.accept_one(scope, _candidates(view, scope, [opened])[0])
    return _swapped(view, scope, row_id, write)


def _candidates(
    view: View, scope: Scope, opened: Sequence[Proposed], reasons: Sequence[str] | None = None
) -> list[Candidate]:
    """
    Rows with what is proposed on them, each as the plan takes it; reasons: in words, where they are not those of the
    drawer.
    """
    facts, write = parts().facts, figures()
    told = reasons if reasons is not None else [_reason(each, write) for each in opened]
    stops = deeds.collateral(facts, scope.look, opened) if view.subject is Subject.TERM else {}
    return [
        candidates.of_judged(
            view,
            each,
            proposals.proposed(facts, scope.look, view.subject, each, reason, drawer.source_reason(each)),
            stops.get(each.row["row_id"], ()),
            write,
        )
        for each, reason in zip(opened, told, strict=True)
    ]


@targeting.post("/<name>/accept-many")
def accept_many(name: str) -> AnyResponse | str:
    """
    Puts the proposals on the selected rows, or on all filtered ones, into the plan; of several it first says what they
    do.
    """
    must_write()
    view, scope = _view(name), current_scope()
    rows = _chosen_rows(view, scope)
    opened = proposals.propose(parts().facts, scope.look, view.subject, rows)
    if len(rows) > 1:
        opened = deeds.without_raises_of_nothing(opened)
    return _put(view, scope, _candidates(view, scope, opened), "accept_many")


@targeting.post("/<name>/act")
def act(name: str) -> AnyResponse | str:
    """Does what one's own rules say on the selected rows, or on all filtered ones; first it says what that is."""
    must_write()
    view, scope, facts = _view(name), current_scope(), parts().facts
    known = judged_tables.fields(view, scope.judge)
    rules = deed_forms.tiers(deed_forms.given(request.form), view.subject, known, scope.account.locale)
    rows = _chosen_rows(view, scope)
    worth = {key: field.expr for key, field in known.items()}
    raises = bool(request.form.get("raises")) or len(rows) == 1
    opened = deeds.opened(facts, scope.look, view.subject, rows, rules, worth, raises=raises)
    said = [deed_forms.in_words(rule, known) for rule in rules]
    reasons = ["" if place is None else said[place] for place in deeds.rule_of(rows, rules, worth)]
    notice = deed_forms.no_sale_notices(rules, rows, worth, figures())
    return _put(view, scope, _candidates(view, scope, opened, reasons), "act", notice)


def _chosen_rows(view: View, scope: Scope) -> pl.DataFrame:
    """The rows that a form selects, or all that are filtered; BadInput for none."""
    _, listed, _, _ = _listed(view, scope)
    rows = listed.ordered
    if not request.form.get("all"):
        rows = rows.filter(pl.col("row_id").is_in(acting.selected()))
    if rows.is_empty():
        raise BadInput("No row is selected.", remedy="Select some first (x), or all that are filtered (X).")
    return rows


def _put(
    view: View, scope: Scope, offered: Sequence[Candidate], deed: str, notice: Mapping[str, str] | None = None
) -> AnyResponse | str:
    thing = view.thing if len(offered) == 1 else view.things
    return acting.put(
        scope,
        offered,
        title=f"{figures().count(len(offered))} {thing}, before it is done",
        thing=view.thing,
        action=url_for(f"targeting.{deed}", name=view.name),
        notice=notice,
        asks_alone=deed == "act",
        back=acting.back_to(scope, scope.link(url_for("targeting.table", name=view.name), open="")),
    )


@targeting.post("/<name>/take-back")
def take_back(name: str) -> Response:
    """Undoes an acceptance from the drawer."""
    who = must_write()
    view, scope = _view(name), current_scope()
    plans.remove_many(parts().store, scope.account.id, who.id, request.form.getlist("change", type=whole))
    return _swapped(view, scope, request.form["row"], figures())


def _swapped(view: View, scope: Scope, row_id: str, write: Figures) -> Response:
    """The drawer anew and the plan strip with it; a whole page where no script asked."""
    if not request.headers.get("HX-Request"):
        response = make_response("", 303)
        response.headers["Location"] = scope.link(url_for("targeting.table", name=view.name), open=row_id)
        return response
    return make_response(
        render_template("targeting/_accepted.html", view=view, drawer=_drawer(view, scope, row_id, write))
    )
