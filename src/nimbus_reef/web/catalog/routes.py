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
    family_pages,
    gap_pages,
    listing_pages,
    name_pages,
    structure_pages,
)
from nimbus_reef.web.catalog.forms import NameForm, PatternForm
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.downloads import hand_out
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
        drawer=family_pages.drawer,
        thing="family",
        things="families",
    ),
    "ads": AreaView(
        "Product ads",
        ad_pages.page,
        files.NEEDS["ads"],
        drawer=ad_pages.drawer,
        thing="product ad",
        things="product ads",
    ),
    "eligibility": AreaView("Eligibility", gap_pages.eligibility_page, files.NEEDS["eligibility"]),
    "gaps": AreaView(
        "Gaps", gap_pages.page, files.NEEDS["gaps"], drawer=gap_pages.drawer, thing="product", things="products"
    ),
    "listings": AreaView("Listings", listing_pages.page, files.NEEDS["listings"], drawer=listing_pages.drawer),
    "structure": AreaView(
        "Structure",
        structure_pages.page,
        files.NEEDS["structure"],
        drawer=structure_pages.drawer,
        thing="duplicate keyword",
        things="duplicate keywords",
    ),
    "names": AreaView("Names", name_pages.page),
    "catch-all": AreaView("Catch-all", catch_all_pages.page, TARGET_SOURCES),
}
TITLES: Final = {name: each.title for name, each in VIEWS.items()}


@catalog.get("/")
def look() -> AnyResponse:
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
    if request.args.get("compared"):
        return redirect(scope.link(_here(name)))
    if scope.newest is None:
        return render_template("catalog/empty.html", view=name, views=TITLES)
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


def _worked_out(name: str) -> None:
    """Answers with sums first where a view is judged or made from very many rows."""
    facts, scope, first = services().facts, current_scope(), is_first_answer()
    if name == "ads":
        judged_first(facts, scope, Judged.ADS, first=first)
    if name == "families":
        made = lambda: families.is_listed(facts, scope.look)  # noqa: E731
        worked_out_first(facts, scope, made, families.reads(facts, scope.look), first=first)
    if name == "catch-all":
        told = lambda: catch_all.is_told(facts, scope.look)  # noqa: E731
        worked_out_first(facts, scope, told, catch_all.reads(facts, scope.look), first=first)


@catalog.get("/<name>/evidence")
def evidence(name: str) -> PageResponse:
    """The drawer alone, for swapping in."""
    scope = current_scope()
    page = render_template("catalog/_drawer.html", view=name, drawer=_drawer(name, scope.open))
    return acting.pushed(make_response(page), scope.link(_here(name)))


def _drawer(name: str, row_id: str) -> Drawer:
    made = _view(name).drawer
    if made is None:
        raise NotFound("There is nothing to open here.", remedy="Follow a link of the page.")
    return made(context(), row_id)


@catalog.get("/structure/bought-twice")
def bought_twice() -> str:
    """
    Keywords bought twice alone, asked for after the page: which to keep rests on targets that may have to be judged
    first.
    """
    need(services().facts, current_scope(), files.NEEDS["structure"], figures())
    ask = context()
    answer, table = structure_pages.duplicates_answer(ask), structure_pages.twin_table(ask)
    return render_template("catalog/_twins.html", bought=answer, table=table)


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
    set_now = "The naming pattern is set: its parts filter and group every page."
    flash(set_now if text else "No naming pattern is used any more.")
    return redirect(scope.elsewhere(_here("names")))


@catalog.post("/names/rename")
def rename() -> AnyResponse:
    """Puts a campaign's new name into the plan."""
    must_write()
    scope, form = current_scope(), NameForm(request.form).checked()
    name, new = form.row.data or "", form.name.data or ""
    held = names.campaign_names(services().facts, scope.look)
    if name not in held:
        raise NotFound(f"There is no campaign “{name}”.", remedy="Look at the list again.")
    if new in held:
        raise BadInput(f"Another campaign is called “{new}”.", remedy="Write another name.")
    acting.accept_one(scope, names.proposal(scope.look, name, new))
    flash("1 change added to the plan.", "accepted")
    return redirect(scope.elsewhere(_here("names")))


@catalog.post("/catch-all/build")
def build() -> AnyResponse | str:
    """Puts the catch-all into the plan."""
    must_write()
    scope = current_scope()
    given = {name: request.form.get(name, "") for name in ("bid", "budget", "without", "name")}
    made = catch_all_pages.built(context(), given)
    if made.products.is_empty():
        raise BadInput("No product is left for it.", remedy="Leave out fewer.")
    return acting.put(
        scope,
        [catch_all.proposal(services().facts, scope.look, made)],
        title=f"{made.name}, before it is done",
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
    keys = acting.selected()
    if not keys:
        raise BadInput("No row is selected.", remedy="Select some first (x).")
    return _put(name, _proposed(name, keys), "accept_many")


def _proposed(name: str, keys: list[str]) -> list[Proposal]:
    if not _view(name).thing:
        raise NotFound("There is nothing to accept here.", remedy="Follow a link of the page.")
    found = acting.proposed(current_scope(), name, keys)
    if not found:
        raise NotFound("This row has no activity in this period.", remedy="Look at the list again.")
    return found


def _put(name: str, offered: list[Proposal], endpoint: str) -> AnyResponse | str:
    scope, found = current_scope(), _view(name)
    return acting.put(
        scope,
        offered,
        title=f"{figures().counted(len(offered), found.thing, found.things)}, before it is done",
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
    """All rows of a view as a file."""
    if name not in files.FILES:
        raise NotFound(f"“{name}” is not a table of Catalog.", remedy=f"Export {', '.join(files.FILES)}.")
    scope = current_scope()
    need(services().facts, scope, _view(name).needs, figures())
    if name == "ads":
        return hand_out(files.ads_table(ad_pages.listed(context())[1].ordered), ending)
    return hand_out(files.FILES[name](services().facts, scope.look), ending)
