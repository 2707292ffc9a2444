"""Where a program begins: the accounts, the tables and their addresses, and the description of both."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict

from flask import Blueprint, current_app, jsonify, request
from werkzeug.routing import Rule
from werkzeug.wrappers import Response

from nimbus_reef import __version__
from nimbus_reef.web.api.description import TableAddress, described
from nimbus_reef.web.api_tokens import TABLE
from nimbus_reef.web.current import my_accounts

api = Blueprint("api", __name__, url_prefix="/api")


@api.get("/accounts")
def accounts() -> Response:
    """The accounts that may be read."""
    fields = ("key", "brand", "marketplace", "country", "currency")
    return jsonify([{name: getattr(each, name) for name in fields} for each in my_accounts()])


@api.get("/tables")
def tables() -> Response:
    """Every table and its address."""
    return jsonify([asdict(each) for each in _tables()])


@api.get("/openapi.json")
def openapi() -> Response:
    """The interface, described."""
    return jsonify(described(list(_tables()), request.host_url.rstrip("/"), __version__))


def _tables() -> Iterator[TableAddress]:
    """The tables in the order of the areas, then those of no area."""
    for rule in current_app.url_map.iter_rules():
        if rule.rule.endswith(TABLE):
            yield from _of_rule(rule)


def _of_rule(rule: Rule) -> Iterator[TableAddress]:
    of = rule.endpoint.partition(".")[0]
    address = rule.rule.replace("<ending>", "{ending}")
    if "name" not in rule.arguments:
        name = address.removesuffix("/export.{ending}").strip("/")
        yield TableAddress(name, name.replace("/", ": ").capitalize(), address)
        return
    area, views = current_app.extensions["reef_tables"][of]
    for name, title in views.items():
        yield TableAddress(f"{of}/{name}", f"{area}: {title}", address.replace("<name>", name))
