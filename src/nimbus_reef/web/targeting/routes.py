"""Targeting: the tables, the drawer, accepting a proposal, own actions, the export."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from flask import Blueprint, Response, make_response, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import judged_proposals, own_actions
from nimbus_reef.analysis.acceptance import HANDFUL
from nimbus_reef.analysis.groups import CAMPAIGNS
from nimbus_reef.analysis.judged_tables import BIDS, PRICES, VIEWS, View
from nimbus_reef.analysis.wording import reason_words
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.reading.facts import TARGET_SOURCES
from nimbus_reef.web import acting
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.downloads import hand_out
from nimbus_reef.web.kit.behind import behind
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.judging import judged_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.lists import ListSpec, chosen, file_of
from nimbus_reef.web.targeting import drawer_view, group_drawer, group_pages, pages, table_view

targeting = Blueprint("targeting", __name__, url_prefix="/targeting")
TABS: Mapping[str, View | group_pages.GroupTable] = {**group_pages.TABLES, **VIEWS}
"""The tables of the area in the order of work."""
SEEN_BY = {BIDS: ("targeting.held_bids", "Held bids"), PRICES: ("targeting.solver", "Target solver")}
"""Views that are the targets' table with a set of columns of their own: where they begin, and what they are called."""
LISTS: Mapping[str, ListSpec] = {**group_pages.LISTS, **table_view.LISTS}


@targeting.context_processor
def _seen_by() -> dict[str, object]:
    """For the head of the area, also where a page is not ready or lacks its report."""
    return {"seen_by": SEEN_BY}


def _view(name: str) -> View:
    if name not in VIEWS:
        raise NotFound(f"Targeting has no view “{name}”.", remedy="Choose one under the title.")
    return VIEWS[name]


def _here(name: str) -> str:
    return url_for("targeting.table", name=name)


@targeting.get("/")
def home() -> AnyResponse:
    """The area opens on its first view."""
    return redirect(current_scope().link(_here(CAMPAIGNS)))


@targeting.get("/held")
def held_bids() -> AnyResponse:
    """The bids that stay, with why: targets, seen by their bids."""
    return redirect(table_view.held_bids(context()))


@targeting.get("/solver")
def solver() -> AnyResponse:
    """What a target takes: targets that cost too much, under the solver."""
    return redirect(table_view.over_price(context()))


def _groups(of: group_pages.GroupTable) -> str | AnyResponse:
    """Campaigns or ad groups."""
    scope = current_scope()
    if scope.newest is None:
        return render_template("targeting/empty.html", view=of, views=TABS)
    need(services().facts, scope, TARGET_SOURCES, figures())
    return render_template(
        "targeting/groups.html",
        views=TABS,
        drawer=group_drawer.drawer(context(), of, scope.open) if scope.open else None,
        **shown(group_pages.page(context(), of)),
    )


@targeting.get("/<name>")
def table(name: str) -> str | AnyResponse:
    """A table, and the drawer where one is open."""
    if name in group_pages.TABLES:
        return _groups(group_pages.TABLES[name])
    view, scope = _view(name), current_scope()
    if scope.newest is None:
        return render_template("targeting/empty.html", view=view, views=TABS)
    need(services().facts, scope, judged_proposals.sources(view.subject), figures())
    judged_first(services().facts, scope, judged_proposals.judged_as(view.subject), first=is_first_answer())
    ask = context()
    return render_template(
        "targeting/table.html",
        view=view,
        views=TABS,
        drawer=drawer_view.row_drawer(ask, view, scope.open) if scope.open else None,
        **shown(table_view.page(ask, view)),
    )


@targeting.get("/<name>/offers")
def offers(name: str) -> str:
    """What is proposed on each row of a page, asked for after the page: a cell for each of its rows."""
    view = _view(name)
    return render_template("targeting/_offers.html", view=view, cells=table_view.proposal_cells(context(), view))


@targeting.post("/<name>/accept-row")
def accept_row(name: str) -> str:
    """Puts the proposal on a row into the plan without opening it; the row's cell anew, and the plan strip."""
    must_write()
    view, scope = _view(name), current_scope()
    (proposal,) = acting.proposed(scope, name, [request.form["row"]])
    acting.accept_one(scope, proposal)
    cell = pages.proposal_cell(proposal, figures(), planned=True)
    return render_template("plan/_strip_anew.html") + render_template("targeting/_offers.html", view=view, cells=[cell])


@targeting.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> AnyResponse:
    """All filtered rows as CSV, XLSX or Parquet."""
    table = file_of(context(), LISTS[name] if name in LISTS else LISTS[_view(name).name])
    assert table is not None, "they are tables, be they empty"
    return hand_out(table, ending)


@targeting.get("/<name>/evidence")
def evidence_on(name: str) -> Response:
    """The drawer alone, for swapping in; the address becomes the page's with it open."""
    scope = current_scope()
    if name in group_pages.TABLES:
        of = group_pages.TABLES[name]
        drawer = group_drawer.drawer(context(), of, scope.open)
        page = render_template("targeting/_group_drawer.html", view=of, drawer=drawer)
    else:
        view = _view(name)
        opened = drawer_view.row_drawer(context(), view, scope.open)
        page = render_template("targeting/_drawer.html", view=view, drawer=opened)
    return acting.pushed(make_response(page), scope.link(_here(name)))


@targeting.get("/<name>/rows")
def rows_behind(name: str) -> str:
    """The report rows behind a row's figures, and the files they came in."""
    view, scope = _view(name), current_scope()
    row = drawer_view.opened(context(), view, scope.open).row
    source, rows = judged_proposals.report_rows(services().facts, scope.selection, view.subject, row)
    return render_template(
        "targeting/rows.html",
        title=row[view.named_by],
        crumb=reason_words(judged_proposals.place_of(view.subject, row), figures()),
        back=scope.link(_here(name)),
        report=KINDS[source].title,
        behind=behind(rows, figures()),
    )


@targeting.post("/<name>/accept")
def accept(name: str) -> AnyResponse | str:
    """
    Puts the proposal on a row into the plan, worked out anew from the record; what is more than a handful is shown
    first.
    """
    must_write()
    row_id = request.form["row"]
    proposal = drawer_view.proposal_of(context(), _view(name), row_id, request.form.get("to", ""))
    if len(proposal.package) > HANDFUL:
        return _put(name, [proposal], "accept")
    acting.accept_one(current_scope(), proposal)
    return _swapped(name, row_id)


@targeting.post("/<name>/accept-many")
def accept_many(name: str) -> AnyResponse | str:
    """
    Puts the proposals on the selected rows, or on all filtered ones, into the plan; of several it first says what they
    do.
    """
    must_write()
    view, facts, selection = _view(name), services().facts, current_scope().selection
    rows = chosen(context(), LISTS[name], _keys())
    return _put(name, judged_proposals.propose(facts, selection, view.subject, rows), "accept_many")


def _keys() -> list[str] | None:
    """The rows that a form selects; None for all that are filtered."""
    return None if request.form.get("all") else acting.selected()


def _put(name: str, offered: Sequence[Proposal], endpoint: str) -> AnyResponse | str:
    view, scope = _view(name), current_scope()
    if view.subject is Subject.TERM:
        offered = own_actions.with_stops(services().facts, scope.selection, offered)
    return acting.put(
        scope,
        offered,
        title=f"Preview: {figures().counted(len(offered), view.thing, view.things)}",
        thing=view.thing,
        action=url_for(f"targeting.{endpoint}", name=name),
        back=acting.back_to(scope, scope.link(_here(name), open="")),
    )


@targeting.post("/<name>/take-back")
def take_back(name: str) -> AnyResponse:
    """Undoes an acceptance from the drawer."""
    acting.take_out(current_scope())
    return _swapped(name, request.form["row"])


def _swapped(name: str, row_id: str) -> AnyResponse:
    """The drawer anew and the plan strip with it; a whole page where no script asked."""
    if not acting.by_htmx():
        return redirect(current_scope().link(_here(name), open=row_id), 303)
    view = _view(name)
    opened = drawer_view.row_drawer(context(), view, row_id)
    return make_response(render_template("targeting/_accepted.html", view=view, drawer=opened))
