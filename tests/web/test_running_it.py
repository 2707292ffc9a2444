"""Behind a proxy, under a path prefix, and what whoever watches over it is told."""

from dataclasses import replace

import pytest
from tests.pages import parsed, text_of

from nimbus_reef.errors import StoreAway
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.record import loads, workers
from nimbus_reef.web.factory import compile_templates, make_app
from nimbus_reef.web.security import limiter

PROXY = "192.0.2.1"
SAID = {
    "X-Forwarded-For": "198.51.100.7",
    "X-Forwarded-Proto": "https",
    "X-Forwarded-Host": "audits.example",
    "X-Forwarded-Prefix": "/reef",
}
PAGES = (
    "/pulse/",
    "/intake/",
    "/standing/tree",
    "/standing/products",
    "/movement/drift",
    "/movement/trends",
    "/catalog/families",
    "/catalog/ads",
    "/delivery/placements",
    "/delivery/hours",
    "/targeting/targets",
    "/findings/",
    "/findings/report",
    "/plan/",
    "/accounts/",
    "/people",
    "/me",
    "/trail",
    "/targeting/targets?window=nonsense",
    "/nowhere",
)


@pytest.fixture(scope="module")
def proxied(demo):
    """The site behind a proxy that the settings name, and somebody signed in through it."""
    conf = replace(demo.config, proxies=frozenset({PROXY}), hosts=frozenset({"audits.example"}))
    app = make_app(conf, demo.store, make_queue(conf, demo.store, immediate=True), secret_key="x", testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    data = {"email": "demo@nimbus-reef.example", "password": demo.password}
    signed = client.post("/sign-in", data=data, headers=SAID, environ_base={"REMOTE_ADDR": PROXY})
    assert signed.location == "/reef/"
    return client


@pytest.mark.parametrize("path", PAGES)
def test_under_a_prefix_every_address_of_a_page_has_it(proxied, path):
    page = proxied.get(path, headers=SAID, environ_base={"REMOTE_ADDR": PROXY}, follow_redirects=False)
    assert page.status_code in (200, 400, 404)
    found = parsed(page)
    told = [
        str(each[name])
        for name in ("href", "action", "src", "hx-get", "formaction", "data-href")
        for each in found.select(f"[{name}]")
    ]
    assert len(told) > 10
    assert [each for each in told if each.startswith("/") and not each.startswith("/reef/")] == []


def test_once_compiled_no_page_compiles_a_template(app, owner, monkeypatch):
    app.jinja_env.cache.clear()
    compile_templates(app)
    monkeypatch.setattr(app.jinja_env, "compile", None)
    assert owner.get("/targeting/targets").status_code == 200


def test_what_a_proxy_says_is_believed_of_it_alone(proxied, demo):
    """The same headers from anybody else count for nothing: neither address, nor host, nor prefix."""
    stranger = proxied.get("/me", headers=SAID)
    assert 'action="/me/name"' in stranger.text
    listed = text_of(proxied.get("/me", headers=SAID, environ_base={"REMOTE_ADDR": PROXY}))
    assert "198.51.100.7" in listed
    invited = proxied.post(
        "/people/invite",
        headers=SAID,
        environ_base={"REMOTE_ADDR": PROXY},
        data={"email": "ann@example.com", "name": "Ann", "role": "owner"},
    )
    assert "https://audits.example/reef/invitation/" in invited.text


def test_behind_tls_browsers_are_told_to_ask_for_nothing_else(demo, viewer):
    secure = replace(demo.config, secure_cookies=True)
    app = make_app(secure, demo.store, make_queue(secure, demo.store, immediate=True), secret_key="x", testing=True)
    told = app.test_client().get("/sign-in").headers
    assert told["Strict-Transport-Security"].startswith("max-age=31536000")
    assert "Strict-Transport-Security" not in viewer.get("/me").headers


def test_people_sign_in_while_the_queue_is_away(demo):
    """Tries are counted there; without it each process counts its own."""
    conf = replace(demo.config, redis_url="redis://127.0.0.1:9/0")
    app = make_app(conf, demo.store, make_queue(conf, demo.store), secret_key="x", testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    limiter.enabled = True
    try:
        data = {"email": "demo@nimbus-reef.example", "password": demo.password}
        assert app.test_client().post("/sign-in", data=data).status_code == 302
    finally:
        limiter.enabled = False


def test_readiness_says_what_is_wrong(visitor, store, monkeypatch):
    workers.beat(store, "here:1:2")
    told = visitor.get("/ready")
    assert told.status_code == 200
    assert "workers: 1 running" in told.text
    workers.leave(store, "here:1:2")
    assert "none was heard of" in visitor.get("/ready").text

    def away(_):
        raise StoreAway("The database does not answer.")

    monkeypatch.setattr("nimbus_reef.store.record.engine.Store.read", away)
    told = visitor.get("/ready")
    assert told.status_code == 503
    assert "database: The database does not answer." in told.text
    assert visitor.get("/alive").status_code == 200


def test_counts_are_told_to_whoever_has_the_token_and_to_nobody_else(demo):
    conf = replace(demo.config, metrics_token="a token")
    app = make_app(conf, demo.store, make_queue(conf, demo.store, immediate=True), secret_key="x", testing=True)
    job_id = loads.start_job(demo.store, kind="export", account_id=None, person_id=None, upload_id=None, request={})
    loads.cancel(demo.store, job_id)
    client = app.test_client()
    assert client.get("/alive").status_code == 200
    assert client.get("/metrics").status_code == 404
    assert client.get("/metrics", headers={"Authorization": "Bearer wrong"}).status_code == 404
    told = client.get("/metrics", headers={"Authorization": "Bearer a token"})
    assert told.status_code == 200
    assert 'reef_requests_total{endpoint="alive",method="GET",status="200"} 1.0' in told.text
    assert "reef_database_up 1.0" in told.text
    assert 'reef_jobs{kind="export",state="cancelled"}' in told.text
    off = make_app(
        demo.config, demo.store, make_queue(demo.config, demo.store, immediate=True), secret_key="x", testing=True
    )
    assert off.test_client().get("/metrics", headers={"Authorization": "Bearer "}).status_code == 404
