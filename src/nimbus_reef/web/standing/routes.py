"""Standing: tree and groups, products, formats, the shopper's path, queries, shape, typed-in peers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Final

import polars as pl
from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.analysis import query_shares, tables
from nimbus_reef.analysis import standing as work
from nimbus_reef.analysis.shape import shape
from nimbus_reef.analysis.standing import AD_METRICS, SHOP_METRICS, Ground, Placed
from nimbus_reef.analysis.tables import Field
from nimbus_reef.analysis.totals import totals
from nimbus_reef.analysis.wording import metric_words
from nimbus_reef.core import funnel
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.peers import RATED
from nimbus_reef.errors import NotFound
from nimbus_reef.jobs import intake as loading
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import TOTAL_SOURCES
from nimbus_reef.web.downloads import hand_out
from nimbus_reef.web.kit import product, tree
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.lacking import need, source_words
from nimbus_reef.web.kit.strips import strip
from nimbus_reef.web.kit.tables import heads_of, table_of
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import current_scope, figures, is_first_answer, must_write, my_accounts, parts
from nimbus_reef.web.standing import groups, heat, pages, shopping, typed
from nimbus_reef.web.standing.forms import PeersForm

standing = Blueprint("standing", __name__, url_prefix="/standing")
GROUPS: Final = ("category", "format", "portfolio", "country")
HOWS: Final = ("standing", "change")


def _ground(scope: Scope) -> Ground:
    return work.ground(parts().facts, scope.look)


def _empty(view: str) -> str:
    return render_template("standing/empty.html", view=view, views=pages.VIEWS)


@standing.get("/")
def look() -> Response:
    """The area opens on the tree."""
    return redirect(current_scope().link(url_for("standing.view", name="tree")))


@standing.get("/<name>")
def view(name: str) -> str:
    """One of the area's views."""
    if name not in pages.VIEWS:
        raise NotFound(f"Standing has no view “{name}”.", remedy="Choose one under the title.")
    scope = current_scope()
    if scope.newest is None:
        return _empty(name)
    if _NEEDS[name]:
        need(parts().facts, scope, _NEEDS[name], figures())
    if name in ("tree", "products", "formats"):
        facts, days = parts().facts, [scope.window, *([scope.against] if scope.against else [])]
        reads = [("product_ad_daily", each) for each in days]
        worked_out_first(facts, scope, lambda: work.is_grounded(facts, scope.look), reads, first=is_first_answer())
    made = _VIEWS[name](scope)
    return render_template(
        f"standing/{name}.html", view=name, views=pages.VIEWS, peers_words=_peers_words(scope), **made
    )


def _peers_words(scope: Scope) -> str:
    """Whose figures ours are held against."""
    feed = work.peer_feed(parts().facts, scope.look)
    if feed.is_empty():
        return "no peer figures"
    newest = feed.filter(pl.col("month") == feed["month"].max())
    low, high = newest.select(low=pl.col("brands").min(), high=pl.col("brands").max()).row(0)
    return f"peers: {low}–{high} brands, {newest['month'][0]}"


def _tree(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    on = _ground(scope)
    found = totals(facts, scope.look)
    assert found is not None, "asked for before"
    # Without product ads nothing can be placed, whatever the totals are.
    placed = work.account_places(facts, scope.look) if len(on.ads) else {}
    by = scope.choice("by", GROUPS)
    return {
        "answer": tree.answer(found, placed, write),
        "nodes": tree.nodes(found, placed, write),
        "source": source_words(found.source, found.held_now, scope.window),
        "stands": bool(len(on.ads)),
        "by": by,
        "groups": GROUPS,
        "lines": groups.group_lines(_groups(scope, by), write),
        "metrics": [(metric, RATED[metric].label) for metric in AD_METRICS],
        "pairs": groups.format_pairs(work.mix(facts, scope.look), "spend", write),
    }


def _groups(scope: Scope, by: str) -> list[tuple[str, float, list[Placed]]]:
    if by == "country":
        return [_country(scope, account) for account in my_accounts() if account.brand_id == scope.account.brand_id]
    return work.groups(parts().facts, scope.look, by)


def _country(scope: Scope, account: Account) -> tuple[str, float, list[Placed]]:
    """The same brand's account in one country, same days."""
    look = replace(scope.look, account=account)
    placed = list(work.account_places(parts().facts, look).values())
    spend = from_micro(int(work.ground(parts().facts, look).ads["spend"].sum()))
    return f"{account.country}, {account.currency}", spend, placed


def _listed(scope: Scope, rows: pl.DataFrame, fields: Mapping[str, Field], sort: str, text: str) -> tables.Listing:
    """Rows as the scope filters and sorts them; text: the column that is searched."""
    return tables.listing(
        rows,
        filters=tables.parse_filters(scope.where, fields),
        query=scope.query,
        text_columns=(text,),
        sort=scope.sort or sort,
        fields=fields,
        page=scope.page,
    )


def _products(scope: Scope) -> dict[str, Any]:
    how = scope.choice("as", HOWS)
    rows, fields = work.compared_products(parts().facts, scope.look), heat.product_fields(how)
    listed = _listed(scope, rows, fields, "-spend", "named")
    return {
        "answer": heat.product_answer(rows, figures()) if len(rows) else None,
        "how": how,
        "table": table_of(
            listed,
            len(rows),
            heat.product_lines(listed.shown, how, figures()),
            heads_of(fields, listed.sort, figures()),
            figures(),
            name="heat",
            things="products",
            here=url_for("standing.view", name="products"),
            empty="No product fits.",
            all="Show all",
        ),
        "drawer": (
            product.drawer(parts().facts, scope, scope.open, scope.said("metric"), figures()) if scope.open else None
        ),
    }


def _formats(scope: Scope) -> dict[str, Any]:
    write = figures()
    mix, found = work.mix(parts().facts, scope.look), _groups(scope, "format")
    return {
        "answer": groups.format_answer(mix, found, write),
        "spend_pairs": groups.format_pairs(mix, "spend", write),
        "campaign_pairs": groups.format_pairs(mix, "campaign", write),
        "lines": groups.group_lines([(groups.format_words(name), spend, at) for name, spend, at in found], write),
        "whole": groups.group_lines(
            [("all", 1.0, list(work.account_places(parts().facts, scope.look).values()))], write
        )[0],
        "metrics": [(metric, RATED[metric].label) for metric in AD_METRICS],
    }


def _path(scope: Scope) -> dict[str, Any]:
    facts, write, on = parts().facts, figures(), _ground(scope)
    weeks, whose = query_shares.weeks(facts, scope.look)
    sums, months = query_shares.totals(facts, scope.look), query_shares.months(facts, scope.look)
    places = {metric: work.shop_place(on, sums, metric, months).standing for metric in SHOP_METRICS}
    return {
        "path": shopping.path(sums, weeks["day"].n_unique(), write),
        "whose": shopping.whose_words(whose),
        "strips": [
            (RATED[metric].label, metric_words(metric, each.value, write), strip(each, write))
            for metric, each in places.items()
        ],
    }


def _queries(scope: Scope) -> dict[str, Any]:
    rows, fields = query_shares.shares(parts().facts, scope.look), shopping.query_fields()
    listed = _listed(scope, rows, fields, "-volume", "query")
    return {
        "answer": shopping.query_answer(rows, figures()) if len(rows) else None,
        "whose": shopping.whose_words(query_shares.weeks(parts().facts, scope.look)[1]),
        "table": table_of(
            listed,
            len(rows),
            shopping.query_lines(listed.shown, figures()),
            (*heads_of(fields, listed.sort, figures(), words="lost"), shopping.UNSAID),
            figures(),
            name="queries",
            things="queries",
            here=url_for("standing.view", name="queries"),
            opens=False,
            empty=(
                "No query fits these days. A whole week has to lie inside the window, and the query funnel be loaded."
            ),
        ),
        "stages": funnel.STAGES,
    }


def _shape(scope: Scope) -> dict[str, Any]:
    counts, write = shape(parts().facts, scope.account, scope.window), figures()
    return {"answer": groups.shape_answer(counts, write), "lines": groups.shape_lines(counts, write)}


def _peers(scope: Scope) -> dict[str, Any]:
    feed = work.peer_feed(parts().facts, scope.look)
    catalog = product_frames.catalog(parts().facts, scope.account.id)
    return {
        "held": typed.held_lines(feed, figures()),
        "categories": catalog["category"].cast(pl.String).drop_nulls().unique().sort().to_list(),
        "metrics": typed.METRICS,
        "month": f"{scope.window.last:%Y-%m}",
    }


_NEEDS: Final[Mapping[str, tuple[str, ...]]] = {
    "tree": TOTAL_SOURCES,
    "products": ("product_ad_daily",),
    "formats": ("product_ad_daily",),
    "path": ("query_funnel",),
    "queries": ("query_funnel",),
    "shape": (),
    "peers": (),
}
"""Reports of which any one makes a view."""
_VIEWS: Final = {
    "tree": _tree,
    "products": _products,
    "formats": _formats,
    "path": _path,
    "queries": _queries,
    "shape": _shape,
    "peers": _peers,
}


@standing.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> Response:
    """All rows of a table of the area as a file."""
    scope = current_scope()
    if _NEEDS.get(name):
        need(parts().facts, scope, _NEEDS[name], figures())
    if name == "products":
        fields = heat.product_fields(scope.choice("as", HOWS))
        return hand_out(
            heat.product_export(
                _listed(scope, work.compared_products(parts().facts, scope.look), fields, "-spend", "named").ordered
            ),
            ending,
        )
    if name == "queries":
        found = _listed(
            scope, query_shares.shares(parts().facts, scope.look), shopping.query_fields(), "-volume", "query"
        )
        return hand_out(shopping.query_export(found.ordered), ending)
    raise NotFound(f"“{name}” is not a table of Standing.", remedy="Export products or queries.")


@standing.get("/products/evidence")
def evidence() -> str:
    """One product, opened: its figures, standing, why it moved, its page; for swapping in."""
    scope = current_scope()
    shown = product.drawer(parts().facts, scope, scope.open, scope.said("metric"), figures())
    return render_template("standing/_product.html", drawer=shown)


@standing.get("/products/rows")
def rows_behind() -> str:
    """The report rows behind a product's figures, and the files they came in."""
    scope = current_scope()
    return render_template(
        "targeting/rows.html",
        title=scope.open,
        crumb="all its ads",
        report="Product ads by day",
        behind=product.rows_behind(parts().facts, scope, scope.open, figures()),
        back=scope.link(url_for("standing.view", name="products")),
    )


@standing.post("/peers")
def type_in() -> Response:
    """Peer figures typed in by somebody who has no feed; the month's other figures stay."""
    who, scope = must_write(), current_scope()
    feed = work.peer_feed(parts().facts, scope.look)
    file = typed.as_file(PeersForm(request.form, scope.account.locale).checked(), scope.account, feed)
    path = typed.written(parts().config.uploads, file)
    loading.take(
        parts().store,
        scope.account,
        path,
        "typed-in-peers.csv",
        "peer_benchmarks",
        today=today_of(scope.account),
        person_id=who.id,
    )
    flash("The peer figures are taken in; they stand in Intake as a file that can be undone.")
    return redirect(scope.elsewhere(url_for("standing.view", name="peers")))
