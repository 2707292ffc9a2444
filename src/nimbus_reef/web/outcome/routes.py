"""Outcome: promises against results, by change and by sheet."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from flask import Blueprint

from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.outcome import audit_pages, hand_pages, pages
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
    hand_pages.NAME: AreaView("By hand", hand_pages.page, rows=hand_pages.LIST, template="by_hand"),
    audit_pages.NAME: AreaView("Audits", audit_pages.page, file=audit_pages.file, template="audits"),
}
add_pages(outcome, VIEWS, "Outcome", "This area needs targets by day, and changes that were carried out.")
add_acceptance(outcome, VIEWS, "Outcome")
