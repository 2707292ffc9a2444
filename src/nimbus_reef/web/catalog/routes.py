"""Catalog: families, product ads, eligibility, gaps, listings, structure, names, the catch-all."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final

import polars as pl
from flask import Blueprint, flash, make_response, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.datastructures import MultiDict
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import tables
from nimbus_reef.analysis.catalog import ads, catch_all, families, files, gaps, names, structure
from nimbus_reef.analysis.catalog import pages as product_pages
from nimbus_reef.analysis.catalog.families import ListedFamily
from nimbus_reef.analysis.judged import Judged, is_judged
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.typed import whole
from nimbus_reef.store.people import accounts, plans
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import TARGET_SOURCES
from nimbus_reef.web.acting import (
    HANDFUL,
    Acted,
    accept_one,
    acted,
    acted_on_campaign,
    back_to,
    by_htmx,
    pushed,
    put,
    selected,
)
from nimbus_reef.web.catalog import ad_pages, family_pages, gap_pages, listing_pages, name_pages, pages, structure_pages
from nimbus_reef.web.catalog.forms import CatchAllForm, NameForm, PatternForm
from nimbus_reef.web.exports.routes import hand_out
from nimbus_reef.web.kit import luck, product
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.candidates import Candidate, of_worded
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.judging import judged_first, worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.lost import lost_words
from nimbus_reef.web.kit.offered import Worded, effect_words, words_head
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of
from nimbus_reef.web.kit.verdicts import mark_of, verdict_at_length
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import current_scope, figures, is_first_answer, must_write, parts

_FAMILIES_A_PAGE: Final = 40
catalog = Blueprint("catalog", __name__, url_prefix="/catalog")


@catalog.get("/")
def look() -> AnyResponse:
    """The area opens on families."""
    return redirect(current_scope().link(url_for("catalog.view", name="families")))


def _known(name: str) -> None:
    if name not in pages.VIEWS:
        raise NotFound(f"Catalog has no view “{name}”.", remedy="Choose one under the title.")


@catalog.get("/<name>")
def view(name: str) -> str | AnyResponse:
    """One of the area's views."""
    _known(name)
    scope = current_scope()
    if request.args.get("compared"):
        return redirect(scope.link(url_for("catalog.view", name=name)))
    if scope.newest is None:
        return render_template("catalog/empty.html", view=name, views=pages.VIEWS)
    if _NEEDS[name]:
        need(parts().facts, scope, _NEEDS[name], figures())
    if name == "ads":
        judged_first(parts().facts, scope, Judged.ADS, first=is_first_answer())
    if name in _WORKED_OUT:
        facts, (is_made, reads) = parts().facts, _WORKED_OUT[name]
        worked_out_first(
            facts, scope, lambda: is_made(facts, scope.look), reads(facts, scope.look), first=is_first_answer()
        )
    made = _VIEWS[name](scope)
    return render_template(
        f"catalog/{name.replace('-', '_')}.html",
        view=name,
        views=pages.VIEWS,
        drawer=_drawer(name, scope) if scope.open and name in _DRAWERS else None,
        **made,
    )


@catalog.get("/<name>/evidence")
def evidence(name: str) -> PageResponse:
    """The drawer alone, for swapping in."""
    _known(name)
    scope = current_scope()
    shown = render_template("catalog/_drawer.html", view=name, drawer=_drawer(name, scope))
    return pushed(make_response(shown), scope.link(url_for("catalog.view", name=name)))


def _drawer(name: str, scope: Scope) -> dict[str, Any]:
    if name not in _DRAWERS:
        raise NotFound("There is nothing to open here.", remedy="Follow a link of the page.")
    return _DRAWERS[name](scope, scope.open)


def _here(name: str) -> str:
    return url_for("catalog.view", name=name)


def _days(scope: Scope, kind: str = "product_ad_daily") -> int:
    return parts().facts.monthly_days(scope.account.id, kind, scope.window)


# --- families ---------------------------------------------------------------------


def _families(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    held = families.listed(facts, scope.look)
    every = scope.choice("show", ("shifts", "all")) == "all"
    of = max(1, -(-len(held) // _FAMILIES_A_PAGE))
    page = min(scope.page, of)
    shown = held[(page - 1) * _FAMILIES_A_PAGE : page * _FAMILIES_A_PAGE]
    trade = families.trade_held(facts, scope.look)
    days = _days(scope)
    whole = (sum(each.spend for each in held), sum(each.sold for each in held))
    weeks = families.profit_by_week(facts, scope.look)
    return {
        "answer": family_pages.answer(held, days, write),
        "every": every,
        "trade": trade,
        "table": TableView(
            here=_here("families"),
            name="families",
            heads=family_pages.table_heads(write, trade=trade),
            groups={
                "": family_pages.lines(shown, whole, weeks, days, write, every=every, limits=scope.account.settings)
            },
            page=page,
            pages=of,
            empty="No product had ads in this period.",
            shown=write.count(len(held)),
            of=write.count(len(held)),
            things="families",
            picks=True,
        ),
    }


def _family(scope: Scope, key: str) -> ListedFamily:
    found = next((each for each in families.listed(parts().facts, scope.look) if each.key == key), None)
    if found is None:
        raise NotFound("This family had no ads in these days.", remedy="Choose other days, or close it.")
    return found


def _family_drawer(scope: Scope, key: str) -> dict[str, Any]:
    write, family = figures(), _family(scope, key)
    worded = family_pages.worded(scope.look, family, _days(scope), write)
    worst = [row for row in family.rows if row["costly_child"]]
    said = ", ".join(
        f"{row['sku']} takes {write.rate(row['share_spend'], 0)} of the spend and makes"
        f" {write.rate(row['share_sales'], 0)} of the sales"
        for row in worst
    )
    return {
        "id": key,
        "name": family.name,
        "where": _in_family(family, write),
        "bold": f"{write.micro(family.spend)} spent, {write.micro(family.sold)} sold in all.",
        "rest": f"{said}." if said else "No child takes far more of the spend than it sells.",
        "shift": family_pages.shift_drawn(family, write) if family.shift.pauses else None,
        **_offered(scope, worded),
        "hits": _planned_there(scope, {(ad.campaign, ad.ad_group) for ad in family.shift.pauses}),
        "links": [
            (
                f"{row['sku']}, beside peers",
                scope.elsewhere(url_for("standing.view", name="products"), open=str(row["sku"])),
            )
            for row in family.rows[:3]
        ],
    }


def _in_family(family: ListedFamily, write: Figures) -> str:
    """How many products it has, and how many of them are advertised."""
    advertised = family.children.filter(pl.col("impressions") > 0)
    said = write.counted(len(family.children), "product")
    return said if len(advertised) == len(family.children) else f"{said}, {write.count(len(advertised))} with ads"


def _offered(scope: Scope, worded: Worded) -> dict[str, Any]:
    return {
        "worded": worded,
        "planned": acted(scope, worded.offer),
        "changes": 0 if worded.offer is None else len(worded.offer.changes),
    }


def _planned_there(scope: Scope, homes: set[tuple[str, str]]) -> list[str]:
    """Negatives in the plan that fall on the same ad groups: what is shifted meets them."""
    waiting = plans.planned(parts().store, scope.account.id)
    there = [
        each.change
        for each in waiting
        if each.change.entity is Entity.NEGATIVE and (each.change.campaign, each.change.ad_group) in homes
    ]
    if not there:
        return []
    negative = figures().counted(len(there), "negative")
    return [
        f"{negative} in the plan {'falls' if len(there) == 1 else 'fall'} on the products that stay there: settle this"
        " first."
    ]


# --- product ads -------------------------------------------------------------------


def _ads_listed(scope: Scope) -> tuple[pl.DataFrame, tables.Listing, dict[str, tables.Field]]:
    rows, known = ads.listed(parts().facts, scope.look), ad_pages.fields()
    chosen = tables.parse_filters(scope.where, known)
    listed = tables.listing(
        rows,
        filters=chosen,
        query=scope.query,
        text_columns=("sku", "title", "campaign", "ad_group"),
        sort=scope.sort or "-stake",
        fields=known,
        page=scope.page,
    )
    return rows, listed, known


def _ads(scope: Scope) -> dict[str, Any]:
    write = figures()
    rows, listed, known = _ads_listed(scope)
    chips = [(chip.label(write.symbol), chip.text) for chip in tables.parse_filters(scope.where, known)]
    shown = {name: known[name] for name in ("name", *ad_pages.COLUMNS)}
    table_heads = (*heads_of(shown, listed.sort, write), words_head("evidence"), words_head("proposal"))
    return {
        "answer": ad_pages.answer(rows, _days(scope), write),
        "fields": known,
        "table": table_of(
            listed,
            len(rows),
            ad_pages.lines(listed.shown, known, write),
            table_heads,
            write,
            here=_here("ads"),
            name="ads",
            things="product ads",
            picks=True,
            empty="No product ad fits.",
            all="Remove all filters",
            chips=chips,
        ),
    }


def _ad_drawer(scope: Scope, row_id: str) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    row = ads.row_of(facts, scope.look, row_id)
    others = ads.siblings(facts, scope.look, row)
    worded = ad_pages.worded(row, ads.offer(facts, scope.look, row), write)
    brought = write.counted(row["orders"], "order") if row["orders"] else "no order"
    tone = {"costly": ("loss", True), "leaning": ("loss", False), "fine": ("gain", True)}.get(
        mark_of(row, "evidence"), ("", False)
    )
    picture = None
    if row["prior_a"] is not None and row["clicks"]:
        posterior = (row["prior_a"] + row["k"], row["prior_b"] + row["n"] - row["k"])
        picture = luck.of_row(row, posterior, f"{write.counted(row['clicks'], 'click')}, {brought}", tone, write)
    return {
        "id": row_id,
        "name": str(row["sku"]),
        "where": f"{row['campaign']} · {row['ad_group']}",
        "bold": f"{write.counted(row['clicks'], 'click')} brought {brought} for {write.micro(row['spend'])}.",
        "rest": _due(row, write),
        "picture": picture,
        "verdict": verdict_at_length(row),
        "without": ad_pages.without_words(ads.without(row, others), write) if others else None,
        "siblings": ad_pages.sibling_lines(others, write),
        "siblings_more": max(0, len(others) - 8),
        **_offered(scope, worded),
        "hits": _planned_there(scope, {(str(row["campaign"]), str(row["ad_group"]))}) if worded.offer else [],
        "links": [
            ("Its targets", scope.elsewhere(url_for("targeting.table", name="targets"), campaign=str(row["campaign"]))),
            (
                "The product, beside peers",
                scope.elsewhere(url_for("standing.view", name="products"), open=str(row["sku"])),
            ),
        ],
    }


def _due(row: Mapping[str, Any], write: Any) -> str:
    if row["company_cvr"] is None:
        return "The account is too small to say what is usual."
    due = row["company_cvr"] * row["clicks"]
    return f"What its product does elsewhere makes {write.number(due, 0 if due >= 3 else 1)} of so many clicks."


# --- eligibility and gaps ------------------------------------------------------------


def _eligibility(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    held, unseen = gaps.ineligible(facts, scope.look), gaps.unseen(facts, scope.look)
    told = gaps.eligibility_told(facts, scope.look)
    return {
        "answer": gap_pages.lost_answer(held, unseen, write, told=told),
        "unseen": unseen.to_dicts(),
        "table": TableView(
            here=_here("eligibility"),
            name="lost",
            heads=gap_pages.lost_heads(write),
            groups={"": gap_pages.lost_lines(held, write)},
            empty=(
                "Every product of the catalog may be advertised."
                if told
                else "The catalog says of no product whether it may."
            ),
            opens=False,
        ),
    }


def _gaps(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    rows, curve = gaps.unadvertised(facts, scope.look), gaps.concentration(facts, scope.look)
    page, of = tables.page_of(len(rows), scope.page)
    shown = rows.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS)
    return {
        "answer": gap_pages.gap_answer(rows, curve, write),
        "curve": gap_pages.curve_drawn(curve, write),
        "table": TableView(
            here=_here("gaps"),
            name="gaps",
            heads=gap_pages.gap_heads(write),
            groups={"": gap_pages.gap_lines(shown, gaps.add_offers(facts, scope.look, shown.to_dicts()), write)},
            page=page,
            pages=of,
            picks=True,
            empty="Everything that sold in these days has an ad.",
        ),
    }


def _gap_row(scope: Scope, row_id: str) -> Mapping[str, Any]:
    found = gaps.unadvertised(parts().facts, scope.look).filter(pl.col("row_id") == row_id)
    if found.is_empty():
        raise NotFound("This product has ads, or sold nothing in these days.", remedy="Look at the list again.")
    return found.row(0, named=True)


def _gap_drawer(scope: Scope, row_id: str) -> dict[str, Any]:
    write, row = figures(), _gap_row(scope, row_id)
    worded = gap_pages.gap_worded(row, gaps.add_offers(parts().facts, scope.look, [row])[0], write)
    return {
        "id": row_id,
        "name": row["sku"],
        "where": row["title"] or "",
        "bold": (
            f"{write.money(row['month'])} sold a month, {write.counted(row['total_orders'], 'order')} in these days."
        ),
        "rest": (
            f"The same item as {row['replaces']}, sent by {row['fulfilment']}."
            if row["replaces"]
            else "It stands in no ad group."
        ),
        **_offered(scope, worded),
        "hits": [],
        "links": [],
    }


# --- listings ------------------------------------------------------------------------


def _listings(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    rows = product_pages.listed(facts, scope.look)
    page, of = tables.page_of(len(rows), scope.page)
    shown = rows.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS)
    return {
        "answer": listing_pages.answer(rows, write),
        "table": TableView(
            here=_here("listings"),
            name="listings",
            heads=listing_pages.table_heads(write),
            groups={"": listing_pages.lines(shown, scope.account.settings.pages, write)},
            page=page,
            pages=of,
            empty="No page is held of these products.",
        ),
    }


def _listing_drawer(scope: Scope, row_id: str) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    found = product_pages.listed(facts, scope.look)
    found = found.filter(pl.col("row_id") == row_id) if len(found) else found
    if found.is_empty():
        raise NotFound("No page of this product is held in these days.", remedy="Choose other days, or close it.")
    row = found.row(0, named=True)
    changed = product.page_changes(facts, scope.look, row["sku"])
    back = Window(scope.window.shifted(-scope.window.days).first, scope.window.last)
    own = pl.Series([row["product_id"]], dtype=pl.UInt32)
    days = product_frames.product_days(facts, scope.account.id, back, own)
    line = listing_pages.conversion_line(
        days["day"].to_list(), days["clicks"].to_list(), days["orders"].to_list(), changed, scope.window.first, write
    )
    mend = listing_pages.to_mend(row, scope.account.settings.pages)
    gone = f"Lost since {write.day(row['lost_on'])}: {lost_words(row['lost'])}. " if row["lost"] else ""
    bold = gone + (
        f"Conversion fell when the page changed on {write.day(row['fell_on'])}."
        if row["stake"]
        else "Its conversion did not fall with a change of the page."
    )
    return {
        "id": row_id,
        "name": row["sku"],
        "where": row["title"],
        "bold": bold,
        "rest": "Coincidence in time, not proof." if row["stake"] else "",
        "conversion": line,
        "changed": [(write.day(each.day), each.words) for each in reversed(changed[-8:])],
        "worded": Worded(
            None,
            (
                "restore the page, or stop its ads until it is back"
                if gone
                else "look at the page"
                if mend or row["stake"]
                else "nothing to mend"
            ),
            tuple(mend),
        ),
        "planned": Acted([], 0),
        "changes": 0,
        "hits": [],
        "links": [
            (
                "The product, beside peers",
                scope.elsewhere(url_for("standing.view", name="products"), open=str(row["sku"])),
            )
        ],
    }


# --- structure ------------------------------------------------------------------------


def _structure(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    faults, spread = structure.faults(facts, scope.look), structure.spread(facts, scope.look)
    known = is_judged(facts, scope.look, Judged.TARGETS)
    bought, told = _bought_twice(scope) if known else None, structure.told(facts, scope.look)
    return {
        "answer": structure_pages.answer(bought, faults, spread, write, told=told),
        "faults": structure_pages.fault_lines(faults, write),
        "steered": structure_pages.steered(told=told),
        "told": told,
        "faults_more": max(0, len(faults) - 40),
        "spread": spread[:20],
        "patterned": bool(scope.account.naming),
        "bought": None,
        "table": _twin_table(scope) if known else None,
    }


@catalog.get("/structure/bought-twice")
def bought_twice() -> str:
    """
    Keywords bought twice alone, asked for after the page: which to keep rests on targets that may have to be judged
    first.
    """
    scope = current_scope()
    need(parts().facts, scope, _NEEDS["structure"], figures())
    return render_template("catalog/_twins.html", bought=_bought_twice(scope), table=_twin_table(scope))


def _bought_twice(scope: Scope) -> Answer:
    facts = parts().facts
    rows = structure.duplicates(facts, scope.look)
    return structure_pages.bought_twice(rows, figures(), told=structure.told(facts, scope.look))


def _twin_table(scope: Scope) -> TableView:
    write, rows = figures(), structure.duplicates(parts().facts, scope.look)
    page, of = tables.page_of(len(rows), scope.page)
    shown = rows.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS)
    return TableView(
        here=_here("structure"),
        name="twins",
        heads=structure_pages.twin_heads(write),
        groups={"": structure_pages.twin_lines(shown, write)},
        page=page,
        pages=of,
        picks=True,
        things="keywords",
        empty="No keyword is known to be bought twice.",
    )


def _twins(scope: Scope, group: str) -> list[dict[str, Any]]:
    rows = structure.duplicates(parts().facts, scope.look)
    found = rows.filter(pl.col("group") == group) if len(rows) else rows
    if found.is_empty():
        raise NotFound("This keyword is not bought twice any more.", remedy="Look at the list again.")
    return found.to_dicts()


def _twin_drawer(scope: Scope, group: str) -> dict[str, Any]:
    facts, write, rows = parts().facts, figures(), _twins(scope, group)
    worded = structure_pages.worded(rows, structure.twin_offer(facts, scope.look, rows), write)
    return {
        "id": group,
        "name": rows[0]["target"],
        "where": f"{rows[0]['match_type']} · for {rows[0]['main_product']}",
        "bold": f"Bought in {write.counted(len(rows), 'place')}.",
        "rest": (
            f"{write.micro(sum(row['spend'] for row in rows))} for"
            f" {write.counted(sum(row['orders'] for row in rows), 'order')} in all."
        ),
        "siblings": [
            (
                mark_of(row, "evidence"),
                f"{row['campaign']} · {row['ad_group']}",
                f"{write.counted(row['clicks'], 'click')}, {write.counted(row['orders'], 'order')}"
                + (", kept" if row["keep"] else ""),
                write.micro(row["spend"]),
            )
            for row in rows
        ],
        "siblings_more": 0,
        **_offered(scope, worded),
        "hits": [],
        "links": [],
    }


# --- names ------------------------------------------------------------------------------


def _names(scope: Scope) -> dict[str, Any]:
    facts, write = parts().facts, figures()
    held = names.campaign_names(facts, scope.look)
    own = scope.account.naming
    tried = scope.said("pattern") or own or names.suggestion(facts, scope.look)
    waiting = plans.planned(parts().store, scope.account.id)
    planned = frozenset(
        each.change.campaign
        for each in waiting
        if each.change.entity is Entity.CAMPAIGN and each.change.field == "name"
    )
    return {
        "answer": name_pages.answer(own, names.parsed(facts, scope.look), held, write),
        "own": own,
        "tried": tried,
        "preview": name_pages.preview(tried, held, names.parsed(facts, scope.look, tried), write),
        "renames": name_pages.rename_lines(names.renames(facts, scope.look), planned),
    }


@catalog.get("/names/preview")
def try_pattern() -> str:
    """A pattern tried on the account's names, as it is typed."""
    scope = current_scope()
    text = request.args.get("pattern", "").strip()
    held = names.campaign_names(parts().facts, scope.look)
    parsed = names.parsed(parts().facts, scope.look, text)
    return render_template("catalog/_preview.html", preview=name_pages.preview(text, held, parsed, figures()))


@catalog.post("/names/pattern")
def set_pattern() -> AnyResponse:
    """Sets the account's naming pattern; empty for none."""
    who, scope = must_write(), current_scope()
    text = PatternForm(request.form).checked().pattern.data or ""
    accounts.set_naming(parts().store, scope.account.id, who.id, text)
    flash(
        "The naming pattern is set: its parts filter and group every page."
        if text
        else "No naming pattern is used any more."
    )
    return redirect(scope.elsewhere(_here("names")))


@catalog.post("/names/rename")
def rename() -> AnyResponse:
    """Puts a campaign's new name into the plan."""
    must_write()
    scope = current_scope()
    form = NameForm(request.form).checked()
    name, new = form.row.data or "", form.name.data or ""
    held = names.campaign_names(parts().facts, scope.look)
    if name not in held:
        raise NotFound(f"There is no campaign “{name}”.", remedy="Look at the list again.")
    if new in held:
        raise BadInput(f"Another campaign is called “{new}”.", remedy="Write another name.")
    offer = names.rename_offer(scope.look, name, new)
    worded = Worded(offer, f"call it {new}", (f"“{name}” breaks the pattern {scope.account.naming}",))
    accept_one(scope, of_worded(name, worded, ""))
    flash("1 change added to the plan.", "accepted")
    return redirect(scope.elsewhere(_here("names")))


# --- catch-all ----------------------------------------------------------------------------


def _built(scope: Scope, given: Mapping[str, str]) -> catch_all.CatchAll:
    form = CatchAllForm(MultiDict(given), scope.account.locale).checked()
    without = [sku for sku in (form.without.data or "").replace(",", " ").split() if sku]
    return catch_all.built(
        parts().facts,
        scope.look,
        bid=float(form.bid.data) if form.bid.data is not None else None,
        budget=float(form.budget.data) if form.budget.data is not None else None,
        without=without,
        name=form.name.data or f"{scope.account.brand} · catch-all · auto",
    )


def _asked(scope: Scope) -> dict[str, str]:
    return {
        "bid": scope.said("bid"),
        "budget": scope.said("budget"),
        "without": scope.said("without"),
        "name": scope.said("what"),
    }


def _catch_all(scope: Scope) -> dict[str, Any]:
    write, made = figures(), _built(scope, _asked(scope))
    worded = _catch_all_worded(scope, made)
    return {
        "made": made,
        "worded": worded,
        "planned": acted_on_campaign(scope, worded.offer, catch_all.CHECK) if worded.offer else Acted([], 0),
        "bid": write.number(made.bid),
        "budget": write.number(made.budget),
        "skus": made.products.head(12).rows(),
        "skus_more": max(0, len(made.products) - 12),
    }


def _catch_all_worded(scope: Scope, made: catch_all.CatchAll) -> Worded:
    write, found = figures(), made.expected
    offer = catch_all.offer(parts().facts, scope.look, made)
    count = write.counted(len(made.products), "product")
    if found is None:
        why: tuple[str, ...] = ("unknown what it brings: the account has no clicks this cheap",)
    else:
        why = (
            (
                f"{write.counted(found.cheap, 'click')} of the last 90 days cost no more than"
                f" {write.money(made.bid, 2)}; they converted {write.rate(found.cvr)}"
            ),
            (
                f"expected a month: {write.counted(round(found.clicks), 'click')},"
                f" {write.counted(round(found.orders), 'order')}, ACOS {write.rate(found.acos, 0)}"
            ),
            *(
                (
                    (
                        f"at {write.money(made.bid, 2)} a click it needs"
                        f" {write.rate(made.bid / found.aov / scope.target_acos)} conversion to meet"
                        f" {write.aim(scope.target_acos)}"
                    ),
                )
                if found.aov
                else ()
            ),
        )
    if made.products.is_empty():
        known = (
            "no product is left for it" if made.skipped else "which products may be advertised is told by the catalog"
        )
        return Worded(None, "nothing", (known,), "")
    return Worded(
        offer,
        f"one automatic campaign, {count}, each in an ad group of its own",
        why,
        effect_words(offer.projected, write),
    )


@catalog.post("/catch-all/build")
def build() -> AnyResponse | str:
    """Puts the catch-all into the plan."""
    must_write()
    scope = current_scope()
    made = _built(scope, {name: request.form.get(name, "") for name in ("bid", "budget", "without", "name")})
    if made.products.is_empty():
        raise BadInput("No product is left for it.", remedy="Leave out fewer.")
    return put(
        scope,
        [of_worded(made.name, _catch_all_worded(scope, made), "")],
        title=f"{made.name}, before it is done",
        thing="campaign",
        action=url_for("catalog.build"),
        back=scope.elsewhere(_here("catch-all")),
    )


# --- accepting ------------------------------------------------------------------------------


def _families_offered(scope: Scope, keys: Sequence[str]) -> list[Candidate]:
    days = _days(scope)
    # A line of the table may be a child: its family is meant.
    families_of = dict.fromkeys(key.split("/")[0] for key in keys)
    return [
        of_worded(key, family_pages.worded(scope.look, _family(scope, key), days, figures()), _NO_SHIFT)
        for key in families_of
    ]


def _ads_offered(scope: Scope, keys: Sequence[str]) -> list[Candidate]:
    rows = ads.listed(parts().facts, scope.look).filter(pl.col("row_id").is_in(list(keys))).to_dicts()
    offers = ads.offers(parts().facts, scope.look, rows)
    return [
        of_worded(row["row_id"], ad_pages.worded(row, offer, figures()), _KEPT_ADS, row)
        for row, offer in zip(rows, offers, strict=True)
    ]


def _gaps_offered(scope: Scope, keys: Sequence[str]) -> list[Candidate]:
    rows = [_gap_row(scope, key) for key in keys]
    return [
        of_worded(str(row["row_id"]), gap_pages.gap_worded(row, offer, figures()), _NO_PLACE)
        for row, offer in zip(rows, gaps.add_offers(parts().facts, scope.look, rows), strict=True)
    ]


def _twins_offered(scope: Scope, keys: Sequence[str]) -> list[Candidate]:
    made = []
    for key in dict.fromkeys(keys):
        rows = _twins(scope, key)
        offer = structure.twin_offer(parts().facts, scope.look, rows)
        made.append(of_worded(key, structure_pages.worded(rows, offer, figures()), ""))
    return made


_NO_SHIFT: Final = "no spend can move to a sibling that sells"
_KEPT_ADS: Final = "their evidence does not call for a pause"
_NO_PLACE: Final = "no ad group of a sibling is known to add them to"
_OFFERED: Final[Mapping[str, Callable[[Scope, Sequence[str]], list[Candidate]]]] = {
    "families": _families_offered,
    "ads": _ads_offered,
    "gaps": _gaps_offered,
    "structure": _twins_offered,
}


def _accepting(name: str) -> Callable[[Scope, Sequence[str]], list[Candidate]]:
    if name not in _OFFERED:
        raise NotFound("There is nothing to accept here.", remedy="Follow a link of the page.")
    return _OFFERED[name]


@catalog.post("/<name>/accept")
def accept(name: str) -> AnyResponse | str:
    """
    Puts what is proposed on a row into the plan, worked out anew from the record; what is more than a handful is shown
    first.
    """
    must_write()
    scope, row = current_scope(), request.form.get("row", "")
    found = _accepting(name)(scope, [row])
    if not found:
        raise NotFound("This row did nothing in these days.", remedy="Look at the list again.")
    if len(found[0].package) > HANDFUL:
        return _put(name, scope, found, "accept")
    accept_one(scope, found[0])
    return _swapped(name, scope, row)


def _put(name: str, scope: Scope, offered: Sequence[Candidate], deed: str) -> AnyResponse | str:
    thing = _THINGS[name]
    return put(
        scope,
        offered,
        title=f"{figures().counted(len(offered), *thing)}, before it is done",
        thing=thing[0],
        action=url_for(f"catalog.{deed}", name=name),
        back=back_to(scope, scope.link(_here(name), open="")),
    )


_THINGS: Final[Mapping[str, tuple[str, str]]] = {
    "families": ("family", "families"),
    "ads": ("product ad", "product ads"),
    "gaps": ("product", "products"),
    "structure": ("duplicate keyword", "duplicate keywords"),
}


@catalog.post("/<name>/accept-many")
def accept_many(name: str) -> AnyResponse | str:
    """Puts what is proposed on the selected rows into the plan; of several it first says what that does."""
    must_write()
    scope = current_scope()
    keys = selected()
    if not keys:
        raise BadInput("No row is selected.", remedy="Select some first (x).")
    return _put(name, scope, _accepting(name)(scope, keys), "accept_many")


@catalog.post("/<name>/take-back")
def take_back(name: str) -> AnyResponse:
    """Undoes an acceptance from the drawer."""
    who, scope = must_write(), current_scope()
    plans.remove_many(parts().store, scope.account.id, who.id, request.form.getlist("change", type=whole))
    return _swapped(name, scope, request.form.get("row", ""))


def _swapped(name: str, scope: Scope, row: str) -> AnyResponse:
    """The drawer anew and the plan strip with it; a whole page where no script asked."""
    if not by_htmx():
        response = make_response("", 303)
        response.headers["Location"] = scope.link(_here(name), open=row)
        return response
    return make_response(render_template("catalog/_accepted.html", view=name, drawer=_DRAWERS[name](scope, row)))


# --- files ----------------------------------------------------------------------------------


@catalog.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> AnyResponse:
    """All rows of a view as a file."""
    if name not in files.FILES:
        raise NotFound(f"“{name}” is not a table of Catalog.", remedy=f"Export {', '.join(files.FILES)}.")
    scope = current_scope()
    need(parts().facts, scope, _NEEDS[name], figures())
    if name == "ads":
        return hand_out(files.ads_table(_ads_listed(scope)[1].ordered), ending)
    return hand_out(files.FILES[name](parts().facts, scope.look), ending)


_VIEWS: Final[Mapping[str, Callable[[Scope], dict[str, Any]]]] = {
    "families": _families,
    "ads": _ads,
    "eligibility": _eligibility,
    "gaps": _gaps,
    "listings": _listings,
    "structure": _structure,
    "names": _names,
    "catch-all": _catch_all,
}
_WORKED_OUT: Final = {
    "families": (families.is_listed, families.reads),
    "catch-all": (catch_all.is_told, catch_all.reads),
}
"""Views that may take long: whether they are worked out, and what is read for it."""
_DRAWERS: Final[Mapping[str, Callable[[Scope, str], dict[str, Any]]]] = {
    "families": _family_drawer,
    "ads": _ad_drawer,
    "gaps": _gap_drawer,
    "listings": _listing_drawer,
    "structure": _twin_drawer,
}
_NEEDS: Final[Mapping[str, tuple[str, ...]]] = {**files.NEEDS, "names": (), "catch-all": TARGET_SOURCES}
