"""Catalog: families, product ads, eligibility, gaps, listings, structure, names, the catch-all."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from flask import Blueprint, flash, make_response, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.acceptance import HANDFUL
from nimbus_reef.analysis.catalog import catch_all, families, files, names
from nimbus_reef.analysis.judged import Judged
from nimbus_reef.core.proposals import Proposal
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
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.downloads import hand_out_view
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.drawers import Drawer
from nimbus_reef.web.kit.judging import judged_first, worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.views import AreaView

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
TITLES: Final = {name: each.title for name, each in VIEWS.items()}


@catalog.get("/")
def index() -> AnyResponse:
    """The area opens on families."""
    return redirect(current_scope().link(url_for("catalog.view", name="families")))


def _view(name: str) -> AreaView:
    if name not in VIEWS:
        raise NotFound(f"Catalog has no view “{name}”.", remedy="Choose one under the title.")
    return VIEWS[name]


def _here(name: str) -> str:
    return url_for("catalog.view", name=name)


@catalog.get("/<name>")
def view(name: str) -> str | AnyResponse:
    """One of the area's views."""
    found, scope = _view(name), current_scope()
    if scope.newest is None:
        return render_template("catalog/empty.html", view=name, views=TITLES)
    if name == "structure" and scope.open:
        # Duplicates were a part of that page.
        return redirect(scope.link(_here("duplicates")))
    if found.needs:
        need(services().facts, scope, found.needs, figures())
    _worked_out(name)
    ask = context()
    return render_template(
        f"catalog/{name.replace('-', '_')}.html",
        view=name,
        views=TITLES,
        drawer=found.drawer(ask, scope.open) if scope.open and found.drawer else None,
        **shown(found.page(ask)),
    )


_JUDGED: Final = {"ads": Judged.ADS, "duplicates": Judged.TARGETS}


def _worked_out(name: str) -> None:
    """Answers with sums first where a view is judged or made from very many rows."""
    facts, scope, first = services().facts, current_scope(), is_first_answer()
    if name in _JUDGED:
        judged_first(facts, scope, _JUDGED[name], first=first)
    if name == "families":
        make = lambda: families.is_listed(facts, scope.selection)  # noqa: E731
        worked_out_first(facts, scope, make, families.reads(facts, scope.selection), first=first)
    if name == "catch-all":
        compute = lambda: catch_all.is_told(facts, scope.selection)  # noqa: E731
        worked_out_first(facts, scope, compute, catch_all.reads(facts, scope.selection), first=first)


@catalog.get("/<name>/evidence")
def evidence(name: str) -> PageResponse:
    """The drawer alone, for swapping in."""
    scope = current_scope()
    page = render_template("catalog/_drawer.html", view=name, drawer=_drawer(name, scope.open))
    return acting.pushed(make_response(page), scope.link(_here(name)))


def _drawer(name: str, row_id: str) -> Drawer:
    result = _view(name).drawer
    if result is None:
        raise NotFound("This row does not exist.", remedy="Use a link on the page.")
    return result(context(), row_id)


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


@catalog.post("/<name>/accept")
def accept(name: str) -> AnyResponse | str:
    """
    Puts what is proposed on a row into the plan, worked out anew from the record; what is more than a handful is shown
    first.
    """
    must_write()
    scope, row = current_scope(), request.form.get("row", "")
    found = _proposed(name, [row])
    if len(found[0].package) > HANDFUL:
        return _put(name, found, "accept")
    acting.accept_one(scope, found[0])
    return _swapped(name, row)


@catalog.post("/<name>/accept-many")
def accept_many(name: str) -> AnyResponse | str:
    """Puts what is proposed on the selected rows into the plan; of several it first says what that does."""
    must_write()
    rows = _view(name).rows
    keys = acting.keys_of(context(), rows) if rows else []
    if not keys:
        raise BadInput("No row is selected.", remedy="Select rows first (x), or all filtered rows (X).")
    return _put(name, _proposed(name, keys), "accept_many")


def _proposed(name: str, keys: list[str]) -> list[Proposal]:
    if not _view(name).thing:
        raise NotFound("Nothing to accept here.", remedy="Use a link on the page.")
    found = acting.proposed(current_scope(), name, keys)
    if not found:
        raise NotFound("This row has no activity in this period.", remedy="Reload the list.")
    return found


def _put(name: str, offered: list[Proposal], endpoint: str) -> AnyResponse | str:
    scope, found = current_scope(), _view(name)
    return acting.put(
        scope,
        offered,
        title=f"Preview: {figures().counted(len(offered), found.thing, found.things)}",
        thing=found.thing,
        action=url_for(f"catalog.{endpoint}", name=name),
        back=acting.back_to(scope, scope.link(_here(name), open="")),
    )


@catalog.post("/<name>/take-back")
def take_back(name: str) -> AnyResponse:
    """Undoes an acceptance from the drawer."""
    acting.take_out(current_scope())
    return _swapped(name, request.form.get("row", ""))


def _swapped(name: str, row: str) -> AnyResponse:
    """The drawer anew and the plan strip with it; a whole page where no script asked."""
    if not acting.by_htmx():
        return redirect(current_scope().link(_here(name), open=row), 303)
    return make_response(render_template("catalog/_accepted.html", view=name, drawer=_drawer(name, row)))


@catalog.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> AnyResponse:
    """The rows of a view as a file."""
    return hand_out_view(
        VIEWS, name, ending, lambda: need(services().facts, current_scope(), VIEWS[name].needs, figures())
    )
