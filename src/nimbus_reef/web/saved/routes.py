"""Keeping a view of a table under a name, and letting go of it. Each person has their own."""

from __future__ import annotations

from urllib.parse import urlencode, urlsplit

from flask import Blueprint, flash, redirect, request
from werkzeug.wrappers import Response

from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import saved_views as store_saved
from nimbus_reef.web.current import current_scope, inside, person, services
from nimbus_reef.web.saved.forms import ViewForm

saved = Blueprint("saved", __name__, url_prefix="/saved")


@saved.post("/")
def save() -> Response:
    """Keeps what the form's address shows; the account, the open row and the page are left out."""
    form = ViewForm(request.form)
    place = inside(form.place.data or "")
    if urlsplit(place).path != place or place == "/":
        raise BadInput("This view belongs to no table.", remedy="Save it from the table itself.")
    name = form.checked().name.data or ""
    scope = current_scope()
    query = urlencode([(n, v) for n, v in scope.values() if n not in ("account", "open", "page")])
    shared = scope.account.brand_id if request.form.get("shared") and person().writes else None
    store_saved.save(services().store, person().id, place, name, query, shared)
    flash(f"“{name}” is saved for {'everyone with access to the brand' if shared else 'you'}.")
    return redirect(scope.link(place))


@saved.post("/<int:view_id>/forget")
def forget(view_id: int) -> Response:
    """Lets go of a view."""
    if not store_saved.forget(services().store, person().id, view_id):
        raise NotFound("This view does not exist.", remedy="Reload your views.")
    return redirect(current_scope().link(inside(request.form.get("place", "/"))))
