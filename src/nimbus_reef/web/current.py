"""What every request works with, and the scope and person of the request in hand."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final
from urllib.parse import urlsplit

from flask import current_app, g, request, session, url_for
from flask_login import UserMixin, current_user
from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis.named_parts import unknown
from nimbus_reef.config import Config
from nimbus_reef.errors import BadInput, NotAllowed, NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs.queue import Queue
from nimbus_reef.store.people import accounts, hidden_findings, target_acos
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.api_tokens import ApiToken
from nimbus_reef.store.people.hidden_findings import PutAway
from nimbus_reef.store.people.people import Person
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store
from nimbus_reef.web import params
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.params import Scope


@dataclass(frozen=True, slots=True)
class Services:
    """What one place wires together for all requests."""

    config: Config
    store: Store
    facts: Facts
    queue: Queue


class SignedIn(UserMixin):  # type: ignore[misc]  # Flask-Login has no types
    """The person behind a session or a token, as Flask-Login wants them. token: by which a program reads for them."""

    def __init__(self, person: Person, token: ApiToken | None = None) -> None:
        self.person = person
        self.token = token

    def get_id(self) -> str:
        """What the session keeps of who it is."""
        return str(self.person.id)


def services() -> Services:
    """What the application was wired with."""
    found: Services = current_app.extensions["reef"]
    return found


def here_path() -> str:
    """The path of this request as a browser has it: with the prefix that a proxy in front may add."""
    return f"{request.script_root}{request.path}"


def person() -> Person:
    """Who is signed in."""
    found: Person = current_user.person
    return found


def token() -> ApiToken | None:
    """The token by which a program asks; None where a person does."""
    found: ApiToken | None = getattr(current_user, "token", None)
    return found


def away_from(account_id: int) -> list[PutAway]:
    """The findings that are put away in an account; asked for once a page."""
    if request.method != "GET":
        return hidden_findings.away(services().store, account_id)
    known: dict[int, list[PutAway]] = g.setdefault("away", {})
    if account_id not in known:
        known[account_id] = hidden_findings.away(services().store, account_id)
    return known[account_id]


SECOND_ANSWER: Final = ("answer", "second")
"""What the address of a page's second answer says besides: see `kit.judging`."""


def is_first_answer() -> bool:
    """Whether a whole page was asked for, and not already its second answer."""
    name, value = SECOND_ANSWER
    return not request.headers.get("HX-Request") and request.args.get(name) != value


def must_write() -> Person:
    """Who is signed in, if their role may change things; NotAllowed otherwise."""
    who = person()
    if not who.writes:
        raise NotAllowed("Viewers cannot change anything.", remedy="Ask an owner for the role of analyst.")
    return who


def must_manage() -> Person:
    """Who is signed in, if people and accounts are theirs to manage; NotAllowed otherwise."""
    who = person()
    if not who.manages:
        raise NotAllowed("Only owners manage people and accounts.", remedy="Ask an owner.")
    return who


def my_accounts() -> list[Account]:
    """The accounts of the brands this person may see, or the one that their token is for; kept for the request."""
    if "accounts" not in g:
        who, by = person(), token()
        seen = [each for each in accounts.all_accounts(services().store) if who.sees(each.brand_id)]
        g.accounts = [each for each in seen if by is None or by.account_id in (None, each.id)]
    found: list[Account] = g.accounts
    return found


def account_of(key: str | None) -> Account:
    """One of this person's accounts, the first when none is named. The only way to an account."""
    mine = my_accounts()
    if key:
        found = next((each for each in mine if each.key == key), None)
        if found is None:
            raise NotFound(f"You have no access to an account “{key}”.", remedy="Choose one in the scope bar.")
        return found
    if not mine:
        raise NotFound(
            "You have no brand account yet.", remedy="Ask an owner for access. `reef account add` creates an account."
        )
    return mine[0]


def account_by_id(account_id: int) -> Account:
    """The account of something that was found by its own id."""
    found = next((each for each in my_accounts() if each.id == account_id), None)
    if found is None:
        raise NotFound("Not found, or no access.", remedy="Use a link in the application.")
    return found


def _last_account() -> str | None:
    """The account looked at last, if it is still one of this person's."""
    last = session.get("account")
    return last if any(each.key == last for each in my_accounts()) else None


_CHECKED: Final = frozenset({"standing", "movement", "catalog", "delivery", "targeting", "findings", "plan", "notes"})
"""Areas whose addresses say nothing but what is looked at."""
_BESIDES: Final = frozenset({SECOND_ANSWER[0], "all", "area", "back", "kind", "row", "stay"})


def current_scope() -> Scope:
    """The scope of this request; kept for it."""
    if "scope" not in g:
        account = account_of(request.values.get("account") or _last_account())
        if token() is None:
            session["account"] = account.key
        if request.method == "GET" and request.blueprint in _CHECKED:
            params.refuse_unknown(request.args, _BESIDES)
        scope = params.of_account(
            request.values, account, services().facts, target_acos.aims(services().store, account)
        )
        if scope.newest is not None and (missing := unknown(services().facts, scope.selection)):
            near = f" Did you mean {' or '.join(f'“{each}”' for each in missing.near)}?" if missing.near else ""
            raise BadInput(
                f"There is no {missing.kind} “{missing.name}” in this account.",
                remedy=f"Choose one in the scope bar.{near}",
            )
        g.scope = scope
    found: Scope = g.scope
    return found


def usual_scope() -> Scope:
    """The scope as if nothing had been chosen, for a page about a choice that cannot be understood."""
    last = _last_account()
    account = account_of(last)
    g.scope = params.of_account(MultiDict(), account, services().facts, target_acos.aims(services().store, account))
    found: Scope = g.scope
    return found


def figures() -> Figures:
    """Writes figures for the account in scope."""
    account = current_scope().account
    return Figures(account.locale, account.currency)


def context() -> Context:
    """What the views of this request are made from."""
    return Context(services().facts, current_scope(), figures(), url_for, person().writes, my_accounts())


def inside(target: str) -> str:
    """A path of this application to go on to, or the start: never somebody else's address."""
    split = urlsplit(target)
    # A backslash counts as a slash in browsers; `/\other` would leave.
    safe = target.startswith("/") and not target.startswith(("//", "/\\")) and target.isprintable()
    return target if safe and not split.netloc and not split.scheme else url_for("start")
