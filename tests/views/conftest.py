"""Views are made from loaded data without Flask and without a database server."""

from __future__ import annotations

from collections.abc import Callable
from urllib.parse import urlencode

import pytest
from tests.analysis.conftest import _spoken, both_brands, demo, facts, own, selection
from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.targeting import Aims
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web import params
from nimbus_reef.web.kit.context import Context

__all__ = ["_spoken", "both_brands", "demo", "facts", "own", "selection"]

Asking = Callable[..., Context]


def url(endpoint: str, **values: object) -> str:
    """An address as Flask would make one of an endpoint."""
    return f"/{endpoint.replace('.', '/')}?{urlencode(values)}"


def asked(of: Facts, about: Selection, **said: str) -> Context:
    """What a view is made from when somebody asks for `?name=value`, without a target of its own."""
    account = about.account
    days = {"window": f"{about.window.first}..{about.window.last}"}
    scope = params.of_account(MultiDict(days | said), account, of, Aims(account.target_acos))
    return Context(of, scope, Figures(account.locale, account.currency), url, accounts=accounts.all_accounts(of.store))


@pytest.fixture
def ask(facts: Facts, selection: Selection) -> Asking:
    """What views are made from, of each brand."""
    return lambda **said: asked(facts, selection, **said)
