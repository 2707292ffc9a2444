"""The site by Flask's client, on the demo brands."""

import pytest
from tests.conftest import PASSWORD

from nimbus_reef import config
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.people import accounts, own_limits, people, plans
from nimbus_reef.web.factory import make_app
from nimbus_reef.web.security import limiter


def app_of(demo):
    """The site of an installation, without tokens and limits in the way."""
    made = make_app(
        demo.config, demo.store, make_queue(demo.config, demo.store, immediate=True), secret_key="x", testing=True
    )
    made.config.update(WTF_CSRF_ENABLED=False)
    limiter.enabled = False
    return made


@pytest.fixture(scope="session")
def app(demo):
    return app_of(demo)


def signed_in(app, email, password):
    client = app.test_client()
    assert client.post("/sign-in", data={"email": email, "password": password}).status_code == 302
    return client


@pytest.fixture
def owner(app, demo):
    client = signed_in(app, "demo@nimbus-reef.example", demo.password)
    yield client
    for account in accounts.all_accounts(demo.store):
        held = plans.planned(demo.store, account.id)
        if held:
            plans.remove_many(demo.store, account.id, 1, [each.id for each in held])


@pytest.fixture
def viewer(app):
    return signed_in(app, "viewer@nimbus-reef.example", PASSWORD)


@pytest.fixture
def visitor(store, account, tmp_path):
    """A signed-in owner of an installation with just this account."""
    conf = config.load({"REEF_VAR": str(tmp_path / "var")})
    people.add(store, email="o@example.com", name="O", password="a long password", role=people.Role.OWNER)
    app = make_app(conf, store, make_queue(conf, store, immediate=True), secret_key="x", testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    client.post("/sign-in", data={"email": "o@example.com", "password": "a long password"})
    return client


@pytest.fixture
def fernhollow(demo):
    """A demo brand, whose limits and goals below it are gone afterwards."""
    made = accounts.by_key(demo.store, "fernhollow-de")
    yield made
    with demo.store.read() as connection:
        kept = own_limits.kept(connection, made.id)
    for each in kept:
        own_limits.set_limits(demo.store, made.id, 1, each.level, [each.name], each.what, None)


@pytest.fixture
def planned(demo):
    """What the plan of that brand holds."""
    made = accounts.by_key(demo.store, "fernhollow-de")
    return lambda: plans.planned(demo.store, made.id)
