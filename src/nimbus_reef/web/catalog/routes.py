"""Catalog: families, product ads, eligibility, gaps, listings, structure, names, the catch-all."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.catalog import catch_all, families, files, names
from nimbus_reef.analysis.judged import Judged
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading.facts import TARGET_SOURCES
from nimbus_reef.web import acting
from nimbus_reef.web.catalog import (
    ad_pages,
    catch_all_pages,
    duplicate_pages,
    family_pages,
    gap_pages,
    listing_pages,
    name_pages,
    structure_pages,
)
from nimbus_reef.web.catalog.forms import NameForm, PatternForm
from nimbus_reef.web.current import context, current_scope, is_first_answer, must_write, services
from nimbus_reef.web.kit.judging import judged_first, worked_out_first
from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.view_routes import add_acceptance, add_pages

catalog = Blueprint("catalog", __name__, url_prefix="/catalog")


VIEWS: Final[Mapping[str, AreaView]] = {
    "families": AreaView(
        "Families",
        family_pages.page,
        files.NEEDS["families"],
        family_pages.LIST,
        drawer=family_pages.drawer,
        thing="family",
        things="families",
    ),
    "ads": AreaView(
        "Product ads",
        ad_pages.page,
        files.NEEDS["ads"],
        ad_pages.LIST,
        drawer=ad_pages.drawer,
        thing="product ad",
        things="product ads",
    ),
    "eligibility": AreaView("Eligibility", gap_pages.eligibility_page, files.NEEDS["eligibility"], gap_pages.LOST),
    "gaps": AreaView(
        "Gaps",
        gap_pages.page,
        files.NEEDS["gaps"],
        gap_pages.GAPS,
        drawer=gap_pages.drawer,
        thing="product",
        things="products",
    ),
    "listings": AreaView(
        "Listings", listing_pages.page, files.NEEDS["listings"], listing_pages.LIST, drawer=listing_pages.drawer
    ),
    "structure": AreaView("Structure", structure_pages.page, files.NEEDS["structure"], structure_pages.LIST),
    "duplicates": AreaView(
        "Duplicates",
        duplicate_pages.page,
        files.NEEDS["duplicates"],
        duplicate_pages.LIST,
        drawer=duplicate_pages.drawer,
        thing="duplicate keyword",
        things="duplicate keywords",
    ),
    "names": AreaView("Names", name_pages.page),
    "catch-all": AreaView("Catch-all", catch_all_pages.page, TARGET_SOURCES),
}


_JUDGED: Final = {"ads": Judged.ADS, "duplicates": Judged.TARGETS}


def _before(name: str) -> AnyResponse | None:
    """Answers with sums first where a view is judged or made from very many rows."""
    facts, scope, first = services().facts, current_scope(), is_first_answer()
    if name == "structure" and scope.open:
        # Duplicates were a part of that page.
        return redirect(scope.link(_here("duplicates")))
    if name in _JUDGED:
        judged_first(facts, scope, _JUDGED[name], first=first)
    if name == "families":
        make = lambda: families.is_listed(facts, scope.selection)  # noqa: E731
        worked_out_first(facts, scope, make, families.reads(facts, scope.selection), first=first)
    if name == "catch-all":
        compute = lambda: catch_all.is_told(facts, scope.selection)  # noqa: E731
        worked_out_first(facts, scope, compute, catch_all.reads(facts, scope.selection), first=first)
    return None


add_pages(
    catalog,
    VIEWS,
    "Catalog",
    "This area needs the catalog and product ads by day. Product sales and listings add other selling products and"
    " broken pages.",
    _before,
)
add_acceptance(catalog, VIEWS, "Catalog")


def _here(name: str) -> str:
    return url_for("catalog.view", name=name)


@catalog.get("/names/preview")
def try_pattern() -> str:
    """A pattern tried on the account's names, as it is typed."""
    found = name_pages.tried(context(), request.args.get("pattern", "").strip())
    return render_template("catalog/_preview.html", preview=found)


@catalog.post("/names/pattern")
def set_pattern() -> AnyResponse:
    """Sets the account's naming pattern; empty for none."""
    who, scope = must_write(), current_scope()
    text = PatternForm(request.form).checked().pattern.data or ""
    accounts.set_naming(services().store, scope.account.id, who.id, text)
    set_now = "Naming pattern saved. Its parts are filters and groups on every page."
    flash(set_now if text else "Naming pattern removed.")
    return redirect(scope.elsewhere(_here("names")))


@catalog.post("/names/rename")
def rename() -> AnyResponse:
    """Puts a campaign's new name into the plan."""
    must_write()
    scope, form = current_scope(), NameForm(request.form).checked()
    name, new = form.row.data or "", form.name.data or ""
    keys = names.campaign_names(services().facts, scope.selection)
    if name not in keys:
        raise NotFound(f"There is no campaign “{name}”.", remedy="Reload the list.")
    if new in keys:
        raise BadInput(f"Another campaign is already named “{new}”.", remedy="Enter another name.")
    acting.accept_one(scope, names.proposal(scope.selection, name, new))
    flash("1 change added to the plan.", "accepted")
    return redirect(scope.elsewhere(_here("names")))


@catalog.post("/catch-all/build")
def build() -> AnyResponse | str:
    """Puts the catch-all into the plan."""
    must_write()
    scope = current_scope()
    given = {name: request.form.get(name, "") for name in ("bid", "budget", "without", "name")}
    result = catch_all_pages.built(context(), given)
    if result.products.is_empty():
        raise BadInput("No product left.", remedy="Exclude fewer products.")
    return acting.put(
        scope,
        [catch_all.proposal(services().facts, scope.selection, result)],
        title=f"Preview: {result.name}",
        thing="campaign",
        action=url_for("catalog.build"),
        back=scope.elsewhere(_here("catch-all")),
    )
