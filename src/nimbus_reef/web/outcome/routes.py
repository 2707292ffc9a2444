"""Outcome: promises against results, by change and by sheet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from flask import Blueprint

from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.outcome import pages
from nimbus_reef.web.view_routes import add_acceptance, add_pages

outcome = Blueprint("outcome", __name__, url_prefix="/outcome")
VIEWS: Final[Mapping[str, AreaView]] = {
    pages.VIEW: AreaView(
        "Changes",
        pages.page,
        rows=pages.LIST,
        drawer=pages.drawer,
        thing="change",
        things="changes",
        template="changes",
    ),
    "sheets": AreaView("Audits", pages.audits, file=pages.audits_file, template="audits"),
}
add_pages(outcome, VIEWS, "Outcome", "This area needs targets by day, and changes that were carried out.")
add_acceptance(outcome, VIEWS, "Outcome")
