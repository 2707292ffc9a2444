"""Standing: tree and groups, products, formats, the shopper's path, queries, shape, typed-in peers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.analysis import standing as work
from nimbus_reef.errors import NotFound
from nimbus_reef.jobs import intake as loading
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.reading.facts import TOTAL_SOURCES
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.downloads import hand_out_view
from nimbus_reef.web.kit import product
from nimbus_reef.web.kit.context import Context, shown
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.standing import format_pages, heat, shape_pages, shopping, tree_pages, typed
from nimbus_reef.web.standing.forms import PeersForm

standing = Blueprint("standing", __name__, url_prefix="/standing")


_ADS: Final = ("product_ad_daily",)
_FUNNEL: Final = ("query_funnel",)
VIEWS: Final[Mapping[str, AreaView]] = {
    "tree": AreaView("Metric tree", tree_pages.page, TOTAL_SOURCES),
    "products": AreaView("Products", heat.page, _ADS, heat.LIST),
    "formats": AreaView("Formats", format_pages.page, _ADS),
    "path": AreaView("Shopper’s path", shopping.path_page, _FUNNEL),
    "queries": AreaView("Query shares", shopping.query_page, _FUNNEL, shopping.QUERIES),
    "shape": AreaView("Account shape", shape_pages.page),
    "peers": AreaView("Peer figures", typed.page),
}
_BEGINS_WITH: Final = (
    "A search term report is enough for the tree. Product ads, the catalog and peer benchmarks add each product’s"
    " standing. You can also enter peer figures by hand."
)
_PLACED: Final = frozenset({"tree", "products", "formats"})
"""Made of every product ad's place among peers."""
TITLES: Final = {name: each.title for name, each in VIEWS.items()}


@standing.get("/")
def index() -> Response:
    """The area opens on the tree."""
    return redirect(current_scope().link(url_for("standing.view", name="tree")))


@standing.get("/<name>")
def view(name: str) -> str:
    """One of the area's views."""
    if name not in VIEWS:
        raise NotFound(f"Standing has no view “{name}”.", remedy="Choose one under the title.")
    scope, found = current_scope(), VIEWS[name]
    if scope.newest is None:
        return render_template("empty.html", view=name, views=TITLES, begins_with=_BEGINS_WITH)
    ask = _held(found)
    if name in _PLACED:
        facts, days = ask.facts, [scope.window, *([scope.against] if scope.against else [])]
        make = lambda: work.has_standing_data(facts, scope.selection)  # noqa: E731
        worked_out_first(facts, scope, make, [(_ADS[0], each) for each in days], first=is_first_answer())
    words = typed.peers_words(ask)
    return render_template(
        f"standing/{name}.html", view=name, views=TITLES, peers_words=words, **shown(found.page(ask))
    )


def _held(found: AreaView) -> Context:
    """What the view is made from; NoFigures where no report of it is held in this period."""
    ask = context()
    if found.needs:
        need(ask.facts, ask.scope, found.needs, ask.figures)
    return ask


@standing.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> Response:
    """All rows of a table of the area as a file."""
    return hand_out_view(VIEWS, name, ending, lambda: _held(VIEWS[name]))


@standing.get("/products/evidence")
def evidence() -> str:
    """One product, opened: its figures, standing, why it moved, its page; for swapping in."""
    return render_template("standing/_product.html", drawer=heat.drawer(context()))


@standing.get("/products/rows")
def rows_behind() -> str:
    """The report rows behind a product's figures, and the files they came in."""
    scope = current_scope()
    return render_template(
        "targeting/rows.html",
        title=scope.open,
        crumb="all its ads",
        report="Product ads by day",
        behind=product.rows_behind(services().facts, scope, scope.open, figures()),
        back=scope.link(url_for("standing.view", name="products")),
    )


@standing.post("/peers")
def type_in() -> Response:
    """Peer figures typed in by somebody who has no feed; the month's other figures stay."""
    who, scope = must_write(), current_scope()
    feed = work.peer_feed(services().facts, scope.selection)
    file = typed.as_file(PeersForm(request.form, scope.account.locale).checked(), scope.account, feed)
    path = typed.written(services().config.uploads, file)
    loading.take(
        services().store,
        scope.account,
        path,
        "typed-in-peers.csv",
        "peer_benchmarks",
        today=today_of(scope.account),
        person_id=who.id,
    )
    flash("Peer figures saved. You can undo them in Intake.")
    return redirect(scope.elsewhere(url_for("standing.view", name="peers")))
