"""Route × role × brand, generated over every route: who gets in, who changes things, who sees what."""

from collections.abc import Iterator
from dataclasses import dataclass
from urllib.parse import parse_qs, urlsplit

import pytest
from flask import url_for
from tests.pages import text_of
from tests.planned import BID, PROMISE
from tests.web.conftest import signed_in

from nimbus_reef.store.people import accounts, hidden_findings, notes, people, plans, sendings
from nimbus_reef.store.record import loads

OPEN = {"static", "alive", "ready", "people.sign_in", "people.set_up", "people.take_up"}
"""Routes that answer without a sign-in."""
ANYBODY_S = {
    "people.sign_out",
    "saved.save",
    "saved.forget",
    "start",
    "pulse.index",
    "people.me",
    "people.rename",
    "people.end_session",
    "people.make_token",
    "people.revoke_token",
    "api.accounts",
    "api.tables",
    "api.openapi",
    "people.change_password",
    "people.sign_out_everywhere",
    "people.trail_of",
    "people.trail_export",
    "settings.index",
}
"""Routes about oneself, or that show each person just what is theirs."""
OWNERS = {
    "people.listed",
    "people.invite",
    "people.rights",
    "people.new_link",
    "people.switch",
    "people.demo",
    "people.demo_loading",
    "settings.add",
    "settings.describe",
    "settings.rest",
    "marketplace.save",
    "marketplace.remove",
}
"""Routes by which people and accounts are managed."""
SENDERS = {"sending.send", "sending.approve"}
"""Routes for those who may send, a right of its own that an analyst has only when it is given."""
PASSWORD = "a matrix of rights"
OTHER, OWN = "pellwick-gb", "fernhollow-de"


@dataclass(frozen=True)
class Who:
    """A role and whether the brand in question is theirs."""

    role: people.Role
    own: bool

    @property
    def email(self):
        return f"{self.role.value}-{'own' if self.own else 'other'}@nimbus-reef.example"

    @property
    def writes(self):
        return self.role is not people.Role.VIEWER


PEOPLE = [Who(role, own) for role in (people.Role.VIEWER, people.Role.ANALYST) for own in (True, False)] + [
    Who(people.Role.OWNER, True)
]


@pytest.fixture(scope="module")
def things(demo):
    """One of everything that has a number, all of it Pellwick's."""
    store, account = demo.store, accounts.by_key(demo.store, OTHER)
    for who in PEOPLE:
        people.add(
            store,
            email=who.email,
            name="x",
            password=PASSWORD,
            role=who.role,
            brand_names=("Pellwick",) if who.own else ("Fernhollow",),
        )
    upload = loads.add_upload(store, account_id=account.id, person_id=None, file_name="x.csv", sha256="0" * 64, size=1)
    job = loads.start_job(
        store,
        kind="export",
        account_id=account.id,
        person_id=None,
        upload_id=None,
        request={"stem": "none", "file": "x.xlsx", "rows": 1},
    )
    (change,) = plans.accept_packages(store, account.id, 1, [[(BID, PROMISE)]]).planned
    notes.add(store, account.id, 1, notes.About("targets", "1"), "x")
    hidden_findings.put(store, account.id, 1, "costly-targets", ["1"], until_day=None, until_clicks=None, reason="x")
    yield {
        "upload_id": upload,
        "batch_id": loads.batches(store, account.id)[0].id,
        "job_id": job,
        "change_id": change.id,
        "sending_id": sendings.send(store, account.id, 1, "csv", [change]),
        "remark_id": notes.of_account(store, account.id, "targets", "1")[0].id,
        "view_id": 999,
        "layout_id": 999,
    }
    accounts.rest(store, account.id, None, resting=False)
    plans.remove_many(store, account.id, 1, [change.id])
    hidden_findings.bring_back(store, account.id, 1, [each.id for each in hidden_findings.away(store, account.id)])


WORDS = {
    "name": "targets",
    "view": "targets",
    "ending": "csv",
    "kind": "campaign",
    "filename": "x",
    "key": OTHER,
    "person_id": 999,
    "session_id": 999,
    "token_id": 999,
    "token": "x",
}


def routes(app) -> Iterator[tuple[str, str, tuple[str, ...]]]:
    """Every endpoint, method and the names in its address."""
    for rule in app.url_map.iter_rules():
        for method in sorted(rule.methods - {"HEAD", "OPTIONS"}):
            yield rule.endpoint, method, tuple(sorted(rule.arguments))


def ask(app, client, things, endpoint, method, account):
    with app.test_request_context():
        rule = next(iter(app.url_map.iter_rules(endpoint)))
        values = {name: things.get(name) or WORDS[name] for name in rule.arguments}
        address = url_for(endpoint, **values)
    data = {"account": account, "row": "1", "rows": "1"}
    return client.open(
        address, method=method, query_string={"account": account}, data=data if method == "POST" else None
    )


@pytest.mark.parametrize("who", PEOPLE, ids=lambda who: f"{who.role.value}-{'own' if who.own else 'other'}")
def test_every_route_knows_who_asks(app, things, who):
    """
    Another brand's account and things are not there, whatever the route; a viewer changes
    nothing; whoever may is never told that they may not.
    """
    client = signed_in(app, who.email, PASSWORD)
    asked = 0
    for endpoint, method, _ in routes(app):
        if endpoint in OPEN | ANYBODY_S:
            continue
        status = ask(app, client, things, endpoint, method, OTHER).status_code
        place = (endpoint, method, status)
        asked += 1
        if endpoint in OWNERS | SENDERS and who.role is not people.Role.OWNER:
            assert status in (403, 404), place
        elif endpoint == "settings.rest":
            assert status == 302, place
        elif method == "POST" and not who.writes:
            assert status in (403, 404), place
        elif not who.own:
            assert status == 404, place
        else:
            assert status not in (401, 403), place
            assert status < 500, place
    assert asked > 30


def test_nobody_gets_in_without_a_sign_in(app, things):
    for endpoint, method, _ in routes(app):
        if endpoint not in OPEN:
            answer = ask(app, app.test_client(), things, endpoint, method, OWN)
            if endpoint.startswith("api."):
                assert answer.status_code == 401, (endpoint, method)
                continue
            assert answer.status_code == 302, (endpoint, method)
            assert "/sign-in" in answer.location


def test_who_is_signed_in_no_more_comes_back_to_the_page_and_not_to_a_part_of_it(app):
    """A part of a page, or what was sent, has no address of its own; what was sent is said not to be done."""
    page = "/targeting/targets?account=fernhollow-de&sort=-clicks"
    part = {"HX-Request": "true", "HX-Current-URL": f"http://localhost{page}"}
    visitor = app.test_client()
    asked = visitor.get("/targeting/targets/evidence?open=1", headers=part)
    sent = visitor.post("/targeting/targets/accept-row", data={"row": "1"}, headers=part)
    for answer, lost in ((asked, ""), (sent, "lost=yes")):
        assert answer.status_code == 401
        led = urlsplit(answer.headers["HX-Redirect"])
        assert led.path == "/sign-in"
        assert parse_qs(led.query)["next"] == [page]
        assert lost in led.query
    form = visitor.post("/targeting/targets/accept-many", headers={"Referer": f"http://localhost{page}"})
    assert parse_qs(urlsplit(form.location).query) == {"next": [page], "lost": ["yes"]}
    assert "was not saved" in text_of(visitor.get(form.location))
    whole = visitor.get(page)
    assert parse_qs(urlsplit(whole.location).query) == {"next": [page]}
