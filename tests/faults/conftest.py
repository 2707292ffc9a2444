"""A whole installation of its own, whose parts may be killed: database, web, worker."""

from __future__ import annotations

import http.cookiejar
import urllib.request
from collections.abc import Iterator
from pathlib import Path

import pytest
from benchmarks import installation as installations
from benchmarks.installation import Person, environment_of, until
from tests.conftest import installed, port_from
from tests.pages import token

from nimbus_reef.cli import demo as demo_data
from nimbus_reef.cli import wiring

__all__ = ["Installation", "Person", "environment_of", "until"]


class Installation(installations.Installation):
    """One that somebody can sign in to."""

    def signed_in(self) -> tuple[urllib.request.OpenerDirector, str]:
        """A browser that is signed in, and its CSRF token."""
        browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        # Whatever was killed before is being taken over meanwhile.
        until(lambda: self.get("/sign-in", browser)[0] == 200)
        form = {
            "csrf_token": token(self.get("/sign-in", browser)[1]),
            "email": self.person.email,
            "password": self.person.password,
        }
        assert self.ask("/sign-in", form, browser)[0] == 200
        return browser, token(self.get("/plan/", browser)[1])


@pytest.fixture(scope="session")
def installation(kept_demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Installation]:
    settings = {
        "REEF_PORT": str(port_from(8990)),
        "REEF_WEB_WORKERS": "1",
        "REEF_LOG_LEVEL": "ERROR",
        "REEF_SIGN_IN_LIMIT": "1000 per minute",
    }
    var = tmp_path_factory.mktemp("faults")
    conf, database = installed(kept_demo, var, **settings)
    place = {"REEF_VAR": str(var), "REEF_DATABASE_PORT": str(conf.database_port)}
    person = Person(demo_data.DEMO_EMAIL, demo_data.password(conf))
    made = Installation(conf, wiring.open_store(conf), environment_of(settings | place), person, {"database": database})
    for name in ("worker", "web"):
        made.start(name)
    yield made
    made.end()
