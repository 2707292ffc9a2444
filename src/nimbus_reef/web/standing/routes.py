"""Standing: tree and groups, products, formats, the shopper's path, queries, shape, typed-in peers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Final

import polars as pl
from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.analysis import standing as work
from nimbus_reef.analysis import tables
from nimbus_reef.analysis.shape import shape
from nimbus_reef.analysis.standing import AD_METRICS, SHOP_METRICS, Ground, Placed
from nimbus_reef.analysis.tables import Field
from nimbus_reef.analysis.totals import totals
from nimbus_reef.core import funnel
from nimbus_reef.core.funnel import COUNTS
from nimbus_reef.core.peers import RATED
from nimbus_reef.errors import NotFound
from nimbus_reef.jobs import intake as loading
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import market_frames, product_frames
from nimbus_reef.store.reading.facts import TOTAL_SOURCES
from nimbus_reef.web.exports.routes import hand_out
from nimbus_reef.web.kit import product
from nimbus_reef.web.kit.lacking import need, source_words
from nimbus_reef.web.kit.strips import strip, value_words
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import figures, must_write, my_accounts, parts, scope
from nimbus_reef.web.standing import groups, heat, pages, shopping, tree, typed

standing = Blueprint("standing", __name__, url_prefix="/standing")
GROUPS: Final = ("category", "format", "portfolio", "country")
HOWS: Final = ("standing", "change")


def _ground(what: Scope) -> Ground:
    return work.ground(parts().facts, what.look)


def _empty(view: str) -> str:
    return render_template("standing/empty.html", view=view, views=pages.VIEWS)


@standing.get("/")
def look() -> Response:
    """The area opens on the tree."""
    return redirect(scope().link(url_for("standing.view", name="tree")))


@standing.get("/<name>")
def view(name: str) -> str:
    """One of the area's views."""
    if name not in pages.VIEWS:
        raise NotFound(f"Standing has no view “{name}”.", remedy="Choose one under the title.")
    what = scope()
    if what.newest is None:
        return _empty(name)
    if _NEEDS[name]:
        need(parts().facts, what, _NEEDS[name], figures())
    made = _VIEWS[name](what)
    return render_template(
        f"standing/{name}.html", view=name, views=pages.VIEWS, peers_words=_peers_words(what), **made
    )


def _peers_words(what: Scope) -> str:
    """Whose figures ours are held against."""
    feed = _ground(what).feed
    if feed.is_empty():
        return "no peer figures"
    newest = feed.filter(pl.col("month") == feed["month"].max())
    low, high = newest.select(low=pl.col("brands").min(), high=pl.col("brands").max()).row(0)
    return f"peers: {low}–{high} brands, {newest['month'][0]}"


def _places(what: Scope, on: Ground) -> dict[str, Placed]:
    """The account's ad metrics among peers; of one format where just that one is looked at."""
    ad_format = what.formats[0] if len(what.formats) == 1 else work.ALL

    def make() -> dict[str, Placed]:
        return work.places(on, on.rows, ad_format=ad_format)

    return parts().facts.kept("places", what.account.id, make, what.window, what.look.part)


def _tree(what: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    on = _ground(what)
    found = totals(facts, what.look)
    assert found is not None, "asked for before"
    # Without product ads nothing can be placed, whatever the totals are.
    placed = _places(what, on) if len(on.rows) else {}
    by = what.choice("by", GROUPS)
    return {
        "answer": tree.answer(found, placed, write),
        "nodes": tree.nodes(found, placed, write),
        "source": source_words(found.source, found.held_now, what.window),
        "stands": bool(len(on.rows)),
        "by": by,
        "groups": GROUPS,
        "lines": groups.group_lines(_groups(what, on, by), write),
        "metrics": [(metric, RATED[metric].label) for metric in AD_METRICS],
        "pairs": groups.format_pairs(_mix(what), "spend", write),
    }


def _mix(what: Scope) -> list[dict[str, Any]]:
    """Format mix of the scope; kept until something is loaded."""
    facts = parts().facts
    of = (what.window, what.look.part)
    return facts.kept("format mix", what.account.id, lambda: work.format_mix(facts, _ground(what)), *of)


def _groups(what: Scope, on: Ground, by: str) -> list[tuple[str, float, list[Placed]]]:
    if by == "country":
        return [
            _country(what, account) for account in my_accounts() if account.brand_id == what.account.brand_id
        ]
    of = (what.window, what.look.part, by)
    return parts().facts.kept("groups", what.account.id, lambda: work.by_group(on, by), *of)


def _country(what: Scope, account: Account) -> tuple[str, float, list[Placed]]:
    """The same brand's account in one country, same days."""
    on = work.ground(parts().facts, replace(what.look, account=account))
    placed = list(work.places(on, on.rows).values())
    return f"{account.country}, {account.currency}", float(on.rows["spend"].sum()), placed


def _listed(
    what: Scope, rows: pl.DataFrame, fields: Mapping[str, Field], sort: str, text: str
) -> tables.Listing:
    """Rows as the scope filters and sorts them; text: the column that is searched."""
    return tables.listing(
        rows, filters=tables.parse_filters(what.where, fields), query=what.query, text_columns=(text,),
        sort=what.sort or sort, fields=fields, page=what.page,
    )  # fmt: skip


def _products(what: Scope) -> dict[str, Any]:
    how = what.choice("as", HOWS)
    rows, fields = _product_rows(what), heat.product_fields(how)
    listed = _listed(what, rows, fields, "-spend", "named")
    return {
        "answer": heat.product_answer(rows, figures()) if len(rows) else None,
        "how": how,
        "fields": fields,
        "listed": listed,
        "count": len(rows),
        "lines": heat.product_lines(listed.shown, how, figures()),
        "drawer": product.drawer(parts().facts, what, what.open, what.said("metric"), figures())
        if what.open
        else None,
    }


def _product_rows(what: Scope) -> pl.DataFrame:
    facts = parts().facts

    def make() -> pl.DataFrame:
        now = work.product_standing(_ground(what))
        then = None
        if what.against is not None:
            then = work.product_standing(work.ground(facts, what.look.at(what.against)))
        named = pl.concat_str(
            "sku", pl.lit(" "), pl.col("title").fill_null(""), pl.lit(" "), pl.col("category").fill_null("")
        )
        return heat.with_changes(now, then).with_columns(named=named)

    return facts.kept("product standing", what.account.id, make, what.window, what.against, what.look.part)


def _formats(what: Scope) -> dict[str, Any]:
    on, write = _ground(what), figures()
    mix, found = _mix(what), _groups(what, on, "format")
    return {
        "answer": groups.format_answer(mix, found, write),
        "spend_pairs": groups.format_pairs(mix, "spend", write),
        "campaign_pairs": groups.format_pairs(mix, "campaign", write),
        "lines": groups.group_lines(found, write),
        "whole": groups.group_lines([("all", 1.0, list(_places(what, on).values()))], write)[0],
        "metrics": [(metric, RATED[metric].label) for metric in AD_METRICS],
    }


def _path(what: Scope) -> dict[str, Any]:
    facts, write, on = parts().facts, figures(), _ground(what)
    weeks = market_frames.query_weeks(facts, what.account.id, what.window)
    sums = work.shop_sums(facts, what.account, what.window)
    months = work.shop_months(facts, what.account, what.window)
    places = {metric: work.shop_place(on, sums, metric, months).standing for metric in SHOP_METRICS}
    return {
        "path": shopping.path(sums, weeks["day"].n_unique(), write),
        "strips": [
            (RATED[metric].label, value_words(metric, each.value, write), strip(each, write))
            for metric, each in places.items()
        ],
    }


def _queries(what: Scope) -> dict[str, Any]:
    rows, fields = _query_rows(what), shopping.query_fields()
    listed = _listed(what, rows, fields, "-volume", "query")
    return {
        "answer": shopping.query_answer(rows, figures()) if len(rows) else None,
        "fields": fields, "listed": listed, "count": len(rows), "lines": shopping.query_lines(listed.shown, figures()),
        "stages": funnel.STAGES,
    }  # fmt: skip


def _query_rows(what: Scope) -> pl.DataFrame:
    facts = parts().facts

    def make() -> pl.DataFrame:
        titles = product_frames.catalog(facts, what.account.id)["title"].cast(pl.String).to_list()
        pages_held = product_frames.listings(facts, what.account.id, what.window)
        titles += pages_held["title"].cast(pl.String).unique().to_list()
        weeks = market_frames.query_weeks(facts, what.account.id, what.window)
        return shopping.query_rows(weeks.select("query", "sku", "search_volume", *COUNTS), titles)

    return facts.kept("query shares", what.account.id, make, what.window)


def _shape(what: Scope) -> dict[str, Any]:
    counts, write = shape(parts().facts, what.account, what.window), figures()
    return {"answer": groups.shape_answer(counts, write), "lines": groups.shape_lines(counts, write)}


def _peers(what: Scope) -> dict[str, Any]:
    feed = _ground(what).feed
    catalog = product_frames.catalog(parts().facts, what.account.id)
    return {
        "held": typed.held_lines(feed, figures()),
        "categories": catalog["category"].cast(pl.String).drop_nulls().unique().sort().to_list(),
        "metrics": typed.METRICS,
        "month": f"{what.window.last:%Y-%m}",
    }


_NEEDS: Final[Mapping[str, tuple[str, ...]]] = {
    "tree": TOTAL_SOURCES, "products": ("product_ad_daily",), "formats": ("product_ad_daily",),
    "path": ("query_funnel",), "queries": ("query_funnel",), "shape": (), "peers": (),
}  # fmt: skip
"""Reports of which any one makes a view."""
_VIEWS: Final = {
    "tree": _tree, "products": _products, "formats": _formats, "path": _path, "queries": _queries,
    "shape": _shape, "peers": _peers,
}  # fmt: skip


@standing.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> Response:
    """All rows of a table of the area as a file."""
    what = scope()
    if _NEEDS.get(name):
        need(parts().facts, what, _NEEDS[name], figures())
    if name == "products":
        fields = heat.product_fields(what.choice("as", HOWS))
        return hand_out(
            heat.product_export(_listed(what, _product_rows(what), fields, "-spend", "named").ordered),
            ending,
        )
    if name == "queries":
        found = _listed(what, _query_rows(what), shopping.query_fields(), "-volume", "query")
        return hand_out(shopping.query_export(found.ordered), ending)
    raise NotFound(f"“{name}” is not a table of Standing.", remedy="Export products or queries.")


@standing.get("/products/evidence")
def evidence() -> str:
    """One product, opened: its figures, standing, why it moved, its page; for swapping in."""
    what = scope()
    shown = product.drawer(parts().facts, what, what.open, what.said("metric"), figures())
    return render_template("standing/_product.html", drawer=shown)


@standing.get("/products/rows")
def rows_behind() -> str:
    """The report rows behind a product's figures, and the files they came in."""
    what = scope()
    return render_template(
        "targeting/rows.html", title=what.open, crumb="all its ads", report="Product ads by day",
        behind=product.rows_behind(parts().facts, what, what.open, figures()),
        back=what.link(url_for("standing.view", name="products")),
    )  # fmt: skip


@standing.post("/peers")
def type_in() -> Response:
    """Peer figures typed in by somebody who has no feed; the month's other figures stay."""
    who, what = must_write(), scope()
    feed = _ground(what).feed
    file = typed.as_file(request.form, what.account, feed)
    path = typed.written(parts().config.uploads, file)
    table = loading.look(parts().store, what.account, path, "typed-in-peers.csv")
    loading.load(parts().store, loading.LoadRequest(what.account, path, "typed-in-peers.csv", loading.usual_maps(table, "peer_benchmarks"), scope="all", today=today_of(what.account), confirmed=True, person_id=who.id))  # fmt: skip
    flash("The peer figures are taken in; they stand in Intake as a file that can be undone.")
    return redirect(what.elsewhere(url_for("standing.view", name="peers")))
