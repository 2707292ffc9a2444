"""Targeting: the tables, the drawer, accepting a proposal, the export."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import polars as pl
from flask import Blueprint, Response, make_response, render_template, request, url_for

from nimbus_reef.core import bids, words
from nimbus_reef.core.checks.registry import Subject
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.plan import Action, Change, Entity
from nimbus_reef.core.proposals import AdProduct, Move, Proposal, for_target, for_term
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.formats.tables import csv_lines
from nimbus_reef.jobs import audit
from nimbus_reef.store import plans, trails
from nimbus_reef.web import charts, tables
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import figures, must_write, parts, person, scope
from nimbus_reef.web.targeting import pages
from nimbus_reef.web.targeting.pages import TARGETS, VIEWS, View

targeting = Blueprint("targeting", __name__, url_prefix="/targeting")

HISTORY_DAYS = 90


def judged(view: View, what: Scope, window: Window) -> pl.DataFrame:
    """The judged rows of a view, with their row ids."""
    judge = audit.judged_targets if view.subject is Subject.TARGET else audit.judged_terms
    return pages.with_row_ids(view, judge(parts().facts, what.account, window, what.target_acos))


def _view(name: str) -> View:
    if name not in VIEWS:
        raise NotFound(f"Targeting has no view “{name}”.", remedy="Choose one under the title.")
    return VIEWS[name]


def _listed(
    view: View, what: Scope
) -> tuple[pl.DataFrame, tables.Listing, dict[str, tables.Field], list[tables.Filter]]:
    known = pages.fields(view, what.judge)
    filters = tables.parse_filters(what.where, known)
    rows = judged(view, what, what.window)
    listed = tables.listing(
        rows, filters=filters, query=what.query, text_columns=view.text_columns,
        sort=what.sort or "-stake", fields=known, page=what.page,
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
    then = None
    if what.against is not None:
        then = pages.in_both(listed.rows, judged(view, what, what.against), view)
    return render_template(
        "targeting/table.html",
        view=view,
        views=VIEWS,
        heads=pages.heads(listed.sort, known, write, "simple" if what.judge == "simple" else "verdict"),
        lines=pages.lines(view, listed.shown, what.judge, write),
        listed=listed,
        totals=pages.totals(listed, rows, then, what.window.days, what.judge, write),
        chips=[(chip.label(write.symbol), chip.text) for chip in filters],
        fields=known,
        source=parts().facts.held(what.account.id, what.window),
        drawer=_drawer(view, what, what.open, write) if what.open else None,
    )


@targeting.get("/<name>/export.csv")
def export(name: str) -> Response:
    """All filtered rows as CSV, streamed."""
    view, what = _view(name), scope()
    _, listed, _, _ = _listed(view, what)
    names = [*dict.fromkeys(["campaign", "ad_group", "target", "match_type", view.text_columns[0]])]
    money = ["spend", "sales", "stake", "excess"]
    plain = ["impressions", "clicks", "orders", "units", "ctr", "cvr", "cpc", "aov", "rpc", "acos",
             "needed_cvr", "p_over", "own_test", "own_fault", "verdict", "simple_verdict"]  # fmt: skip
    rows = listed.rows.select(*names, *plain, *(pl.col(column) / 1e6 for column in money))
    trails.note(
        parts().store, "exported", person_id=person().id, account_id=what.account.id,
        detail={"view": view.name, "rows": len(rows)},
    )  # fmt: skip
    response = Response(csv_lines(rows.columns, rows.iter_rows()), mimetype="text/csv")
    response.headers["Content-Disposition"] = (
        f"attachment; filename={what.account.key}-{view.name}-{what.window.last}.csv"
    )
    return response


@targeting.get("/<name>/evidence")
def evidence_on(name: str) -> Response:
    """The drawer alone, for swapping in; the address becomes the page's with it open."""
    view, what = _view(name), scope()
    drawer = _drawer(view, what, what.open, figures())
    response = make_response(render_template("targeting/_drawer.html", view=view, drawer=drawer))
    response.headers["HX-Push-Url"] = what.link(url_for("targeting.table", name=name))
    return response


@dataclass(frozen=True, slots=True)
class _Opened:
    """One row, opened: the row itself, what is proposed, and what that touches."""

    row: dict[str, Any]
    bid: float | None
    proposal: Proposal
    trend: pl.DataFrame
    bids: list[float | None]
    elsewhere: list[pages.Elsewhere]
    products: pl.DataFrame


def _row(view: View, what: Scope, row_id: str) -> dict[str, Any]:
    found = judged(view, what, what.window).filter(pl.col("row_id") == row_id)
    if found.is_empty():
        raise NotFound(
            f"This {view.thing} did nothing in these days.", remedy="Choose other days, or close the drawer."
        )
    return found.to_dicts()[0]


def _history(what: Scope) -> Window:
    last = what.window.last
    longest = max(HISTORY_DAYS, what.window.days)
    return Window(what.window.shifted(what.window.days - longest).first, last)


def _open(view: View, what: Scope, row_id: str, write: Figures) -> _Opened:
    facts, account = parts().facts, what.account
    row = _row(view, what, row_id)
    core = pages.core_row(row, what.window.days)
    history = _history(what)
    products = facts.product_rows(account.id, what.window).filter(pl.col("ad_group_id") == row["ad_group_id"])
    if view is TARGETS:
        source = facts.held(account.id, what.window).kind
        terms = facts.terms_of(account.id, row["target_id"], what.window)
        keys = [row["target_id"]] if source == "target_daily" else terms["target_term_id"].to_list()
        trend = facts.daily(account.id, source, history, keys)
        stepped = _bids_by_day(trend, facts.bids(account.id, row["target_id"], history))
        bid = from_micro(row["bid"]) if row["bid"] is not None else None
        days = [
            bids.Day(day["clicks"], day["orders"], from_micro(day["spend"]), from_micro(day["sales"]), b)
            for day, b in zip(trend.to_dicts(), stepped, strict=True)
        ]
        proposal = for_target(core, bid=bid, history=days, limits=account.bid_limits)
        return _Opened(row, bid, proposal, trend, stepped, pages.elsewhere_terms(terms, write), products)
    held = facts.term_keys(account.id, row["ad_group_id"], row["normal_id"])
    trend = facts.daily(account.id, "search_term_daily", history, held["target_term_id"].to_list())
    sums = facts.sums(account.id, "search_term_daily", what.window).join(held, on="target_term_id")
    siblings = judged(view, what, what.window).filter(
        (pl.col("normal_id") == row["normal_id"]) & (pl.col("ad_group_id") != row["ad_group_id"])
    )
    proposal = for_term(
        core,
        row["term"],
        products=_ad_products(what, products),
        orders_elsewhere=int(siblings["orders"].sum()),
    )
    return _Opened(
        row, None, proposal, trend, [None] * len(trend), pages.elsewhere_targets(sums, write), products
    )


def _bids_by_day(trend: pl.DataFrame, settings: pl.DataFrame) -> list[float | None]:
    """The bid in force on each day of the trend: the newest settings up to it."""
    stepped = trend.select("day").join_asof(settings.select("day", "bid"), on="day", strategy="backward")
    return [None if bid is None else from_micro(bid) for bid in stepped["bid"]]


def _ad_products(what: Scope, products: pl.DataFrame) -> list[AdProduct]:
    facts = parts().facts
    catalog = facts.catalog(what.account.id, facts.generation(what.account.id))
    known = products.join(catalog.drop("sku"), on="product_id")
    return [
        AdProduct(
            row["sku"], row["title"], from_micro(row["spend"]),
            words.title_core(row["title"], [row["brand"] or what.account.brand]),
        )
        for row in known.to_dicts()
    ]  # fmt: skip


def _drawer(view: View, what: Scope, row_id: str, write: Figures) -> dict[str, Any]:
    opened = _open(view, what, row_id, write)
    row = opened.row
    core = pages.core_row(row, what.window.days)
    fact, measure = pages.sentence(row, write)
    costly = row["verdict"] in pages.LEANING
    picture = None
    if row["prior_a"] is not None and row["clicks"]:
        usual = row["prior_a"] / (row["prior_a"] + row["prior_b"])
        picture = charts.luck(
            a=core.a, b=core.b, needed=row["needed_cvr"], siblings=usual, costly=costly, figures=write
        )
    change = _change(opened, pages.reason_line(fact, pages.offer(opened.proposal, opened.bid, write)))
    planned = None
    if change is not None:
        same = (change.entity, change.campaign, change.ad_group, change.target, change.match_type)
        planned = next(
            (
                each
                for each in plans.planned(parts().store, what.account.id)
                if (each.change.entity, each.change.campaign, each.change.ad_group,
                    each.change.target, each.change.match_type) == same
            ),
            None,
        )  # fmt: skip
    trend = opened.trend
    return {
        "id": row_id,
        "name": row[view.text_columns[0]],
        "where": f"{row['match_type']} · {row['campaign']} · {row['ad_group']}",
        "mark": pages.mark_of(row, "evidence"),
        "verdict": row["verdict"] + ("" if row["own_fault"] or not costly else ", with its product"),
        "fact": fact,
        "measure": measure,
        "company": pages.company(row, write),
        "picture": picture,
        "trend": charts.money_and_bid(
            trend["day"].to_list(), [from_micro(value) for value in trend["spend"]], opened.bids,
            figures=write, first_shown=max(what.window.first, trend["day"].min()),
        ) if len(trend) else None,
        "has_bids": any(bid is not None for bid in opened.bids),
        "offer": pages.offer(opened.proposal, opened.bid, write),
        "elsewhere": opened.elsewhere,
        "products": pages.products_hit(opened.products, write)
        if opened.proposal.move in (Move.NEGATIVE, Move.PAUSE) else [],
        "planned": planned,
        "simple": row["simple_verdict"],
        "row": row,
    }  # fmt: skip


def _change(opened: _Opened, reason: str) -> Change | None:
    """The proposal as a row of the change sheet; null when nothing is proposed."""
    row, move = opened.row, opened.proposal.move
    if move is Move.NONE:
        return None
    common = {"campaign": row["campaign"], "ad_group": row["ad_group"], "reason": reason, "row": 0}
    if move is Move.NEGATIVE:
        return Change(
            action=Action.CREATE, entity=Entity.NEGATIVE, target=row["term"], match_type="negative_exact",
            field="state", new_value="enabled", finding="wasted-terms", **common,
        )  # fmt: skip
    finding = "costly-targets" if row["orders"] else "no-order-targets"
    if row["verdict"] not in pages.LEANING:
        finding = "bid-advice"
    target = {"target": row["target"], "match_type": row["match_type"], "finding": finding}
    if move is Move.PAUSE:
        return Change(
            action=Action.UPDATE, entity=Entity.TARGET, field="state", old_value=row["state"] or "enabled",
            new_value="paused", **target, **common,
        )  # fmt: skip
    return Change(
        action=Action.UPDATE, entity=Entity.TARGET, field="bid", old_value=f"{opened.bid:.2f}",
        new_value=f"{opened.proposal.new_bid:.2f}", **target, **common,
    )  # fmt: skip


@targeting.post("/<name>/accept")
def accept(name: str) -> Response:
    """Puts the proposal on a row into the plan, worked out anew from the record."""
    who = must_write()
    view, what, write = _view(name), scope(), figures()
    row_id = request.form["row"]
    opened = _open(view, what, row_id, write)
    core = pages.core_row(opened.row, what.window.days)
    fact, _ = pages.sentence(opened.row, write)
    change = _change(opened, pages.reason_line(fact, pages.offer(opened.proposal, opened.bid, write)))
    if change is None:
        raise Conflict("There is nothing to accept on this row any more.", remedy="Look at it again.")
    projected = opened.proposal.projected
    basis = {
        "window": [what.window.first.isoformat(), what.window.last.isoformat()],
        "clicks": core.clicks, "orders": core.orders, "spend": core.spend, "sales": core.sales,
        "a": core.a, "b": core.b, "aov": core.aov, "target_acos": core.target_acos,
        "view": view.name, "row_id": row_id,
        "projected": {
            "spend": [projected.spend.low, projected.spend.middle, projected.spend.high],
            "sales": [projected.sales.low, projected.sales.middle, projected.sales.high],
        },
    }  # fmt: skip
    plans.accept(parts().store, what.account.id, who.id, change, basis)
    return _swapped(view, what, row_id, write)


@targeting.post("/<name>/take-back")
def take_back(name: str) -> Response:
    """Undoes an acceptance from the drawer."""
    who = must_write()
    view, what = _view(name), scope()
    plans.remove(parts().store, what.account.id, who.id, int(request.form["change"]))
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
