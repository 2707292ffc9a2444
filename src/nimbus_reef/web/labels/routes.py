"""Labels: listed, put on what is selected, taken off, read from two columns."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import labels as store_labels
from nimbus_reef.web.current import context, current_scope, figures, must_write, services
from nimbus_reef.web.downloads import hand_out
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.lists import chosen, file_of
from nimbus_reef.web.labels import pages

labels = Blueprint("labels", __name__, url_prefix="/labels")


@labels.get("/")
def index() -> str:
    """Products and campaigns with their labels."""
    return render_template("labels/index.html", **shown(pages.page(context())))


@labels.get("/export.<ending>")
def export(ending: str) -> AnyResponse:
    """The list as a file."""
    table = file_of(context(), pages.LIST)
    assert table is not None, "it is a table, be it empty"
    return hand_out(table, ending)


@labels.post("/assign")
def assign() -> AnyResponse:
    """Puts a label on the selected rows, or takes it off them."""
    who, scope = must_write(), current_scope()
    keys = None if request.form.get("all") else request.form.getlist("rows")
    things = [(kind, name) for kind, name in chosen(context(), pages.LIST, keys).select("kind", "name").rows()]
    text = request.form.get("label_text", "").strip()
    if not text:
        raise BadInput("No label entered.", remedy="Enter a label such as “winter”.")
    takes_off, store, account = request.form.get("do") == "remove", services().store, scope.account.id
    if takes_off:
        store_labels.remove(store, account, who.id, things, text)
    else:
        store_labels.put(store, account, who.id, [(*thing, text) for thing in things])
    flash(f"“{text}” {'removed from' if takes_off else 'added to'} {figures().counted(len(things), 'row')}.")
    return redirect(scope.link(url_for("labels.index")))


@labels.post("/read")
def read() -> AnyResponse:
    """Adds labels from two columns, pasted or as a file."""
    who, scope = must_write(), current_scope()
    file = request.files.get("file")
    text = file.read().decode("utf-8-sig", "replace") if file and file.filename else request.form.get("text", "")
    count = store_labels.put(services().store, scope.account.id, who.id, pages.read(context(), text))
    flash(f"{figures().counted(count, 'label')} added.")
    return redirect(scope.link(url_for("labels.index")))
