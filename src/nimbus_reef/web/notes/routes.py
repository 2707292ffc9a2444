"""Notes: written on what is open, listed, taken out, taken off."""

from __future__ import annotations

from flask import Blueprint, redirect, render_template, request
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.store.people import notes as store_notes
from nimbus_reef.store.people.notes import About
from nimbus_reef.web import acting
from nimbus_reef.web.current import context, current_scope, inside, must_write, services
from nimbus_reef.web.downloads import hand_out
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.lists import file_of
from nimbus_reef.web.notes import pages
from nimbus_reef.web.notes.forms import NoteForm

notes = Blueprint("notes", __name__, url_prefix="/notes")


@notes.get("/")
def index() -> str:
    """The notes of the account."""
    return render_template("notes/index.html", **shown(pages.page(context())))


@notes.get("/export.<ending>")
def export(ending: str) -> AnyResponse:
    """The notes as a file, as the address narrows them."""
    table = file_of(context(), pages.LIST)
    assert table is not None, "it is a table, be it empty"
    return hand_out(table, ending)


@notes.post("/add")
def add() -> AnyResponse | str:
    """Writes a note on a thing."""
    who, form = must_write(), NoteForm(request.form).checked()
    about = About(form.view.data or "", form.row.data or "", form.thing.data or "", form.place.data or "")
    store_notes.add(services().store, current_scope().account.id, who.id, about, form.text.data or "")
    return _anew(about)


@notes.post("/<int:remark_id>/remove")
def remove(remark_id: int) -> AnyResponse | str:
    """Takes a note off."""
    who = must_write()
    store_notes.remove(services().store, current_scope().account.id, who.id, remark_id)
    given = (request.form.get(name, "") for name in ("view", "row", "thing", "place"))
    return _anew(About(*given))


def _anew(about: About) -> AnyResponse | str:
    """The notes of the thing anew; the page where no script asked."""
    if acting.by_htmx():
        return render_template("_notes.html", about=about)
    return redirect(current_scope().link(inside(request.form.get("back", "/"))))
