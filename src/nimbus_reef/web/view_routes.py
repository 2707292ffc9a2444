"""The pages of an area whose views are a register: one way to show a view, open a row, take it and hand out a file."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from flask import Blueprint, make_response, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.acceptance import HANDFUL
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.web import acting
from nimbus_reef.web.current import context, current_scope, figures, must_write, services
from nimbus_reef.web.downloads import hand_out_view
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.drawers import Drawer
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.views import AreaView

Views = Mapping[str, AreaView]


def add_pages(
    area: Blueprint,
    views: Views,
    title: str,
    begins_with: str,
    before: Callable[[str], AnyResponse | None] = lambda _: None,
) -> None:
    """
    Gives an area the pages of its views, the first of which it opens on, their drawers and files.

    title: what the area is called; begins_with: what it needs where nothing is loaded; before: what is done before a
    view is made, with another answer where there is one.
    """

    def index() -> AnyResponse:
        """The area opens on its first view."""
        return redirect(current_scope().link(_here(area, next(iter(views)))))

    def view(name: str) -> str | AnyResponse:
        """One of the area's views."""
        found, scope = view_of(views, name, title), current_scope()
        if scope.newest is None:
            return render_template("empty.html", view=name, views=_titles(views), begins_with=begins_with)
        if found.needs:
            need(services().facts, scope, found.needs, figures())
        if instead := before(name):
            return instead
        ask = context()
        return render_template(
            f"{area.name}/{(found.template or name).replace('-', '_')}.html",
            view=name,
            views=_titles(views),
            leaves=found.leaves,
            drawer=found.drawer(ask, scope.open) if scope.open and found.drawer else None,
            **shown(found.page(ask)),
        )

    def evidence(name: str) -> PageResponse:
        """The drawer alone, for swapping in."""
        scope = current_scope()
        opened = _drawer(view_of(views, name, title), scope.open)
        page = render_template("_area_drawer.html", view=name, drawer=opened)
        return acting.pushed(make_response(page), scope.link(_here(area, name)))

    def export(name: str, ending: str) -> AnyResponse:
        """The rows of a view as a file."""

        def ready() -> None:
            if views[name].needs:
                need(services().facts, current_scope(), views[name].needs, figures())

        return hand_out_view(views, name, ending, ready)

    area.add_url_rule("/", view_func=index)
    area.add_url_rule("/<name>", view_func=view)
    area.add_url_rule("/<name>/evidence", view_func=evidence)
    area.add_url_rule("/<name>/export.<ending>", view_func=export)


def add_acceptance(area: Blueprint, views: Views, title: str) -> None:
    """Gives an area the ways from its views' rows to the plan and back; see `add_pages`."""

    def accept(name: str) -> AnyResponse | str:
        """
        Puts what is proposed on a row into the plan, worked out anew from the record; what is more than a handful is
        shown first.
        """
        must_write()
        scope, row = current_scope(), request.form.get("row", "")
        found = proposed(name, [row])
        if len(found[0].package) > HANDFUL:
            return put(name, found, "accept")
        acting.accept_one(scope, found[0])
        return swapped(name, row)

    def accept_many(name: str) -> AnyResponse | str:
        """Puts what is proposed on the selected rows into the plan; of several it first says what that does."""
        must_write()
        found, ask = view_of(views, name, title), context()
        keys = acting.keys_of(ask, found.rows) if found.rows else []
        if not keys and found.unselected:
            keys = found.unselected(ask)
        if not keys:
            raise BadInput("No row is selected.", remedy="Select rows first (x), or all filtered rows (X).")
        return put(name, [each.advised() for each in proposed(name, keys)], "accept_many")

    def take_back(name: str) -> AnyResponse:
        """Undoes an acceptance from the drawer."""
        acting.take_out(current_scope())
        return swapped(name, request.form.get("row", ""))

    def proposed(name: str, keys: list[str]) -> list[Proposal]:
        if not view_of(views, name, title).thing:
            raise NotFound("Nothing to accept here.", remedy="Use a link on the page.")
        found = acting.proposed(current_scope(), name, keys)
        if not found:
            raise NotFound("This row has no activity in this period.", remedy="Reload the list.")
        return found

    def put(name: str, offered: list[Proposal], endpoint: str) -> AnyResponse | str:
        scope, found = current_scope(), views[name]
        return acting.put(
            scope,
            offered,
            title=f"Preview: {figures().counted(len(offered), found.thing, found.things)}",
            thing=found.thing,
            action=url_for(f"{area.name}.{endpoint}", name=name),
            back=acting.back_to(scope, scope.link(_here(area, name), open="")),
        )

    def swapped(name: str, row: str) -> AnyResponse:
        """The drawer anew and the plan strip with it; a whole page where no script asked."""
        if not acting.by_htmx():
            return redirect(current_scope().link(_here(area, name), open=row), 303)
        opened = _drawer(view_of(views, name, title), row)
        return make_response(render_template("_area_accepted.html", view=name, drawer=opened))

    area.add_url_rule("/<name>/accept", view_func=accept, methods=["POST"])
    area.add_url_rule("/<name>/accept-many", view_func=accept_many, methods=["POST"])
    area.add_url_rule("/<name>/take-back", view_func=take_back, methods=["POST"])


def view_of(views: Views, name: str, title: str) -> AreaView:
    """A view of an area by its name; NotFound for none."""
    if name not in views:
        raise NotFound(f"{title} has no view “{name}”.", remedy="Choose one under the title.")
    return views[name]


def _titles(views: Views) -> Mapping[str, str]:
    return {name: each.title for name, each in views.items()}


def _here(area: Blueprint, name: str) -> str:
    return url_for(f"{area.name}.view", name=name)


def _drawer(of: AreaView, row_id: str) -> Drawer:
    if of.drawer is None:
        raise NotFound("This row does not exist.", remedy="Use a link on the page.")
    return of.drawer(context(), row_id)
