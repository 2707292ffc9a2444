"""A whole installation of its own, whose parts may be killed: database, web, worker."""

from __future__ import annotations

import http.cookiejar
import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Final

import pytest
from tests.conftest import installed, port_from
from tests.pages import token

from nimbus_reef.cli import demo as demo_data
from nimbus_reef.cli import wiring
from nimbus_reef.config import Config
from nimbus_reef.store.record import server
from nimbus_reef.store.record.engine import Store

_PATIENCE: Final = 120.0
"""Seconds until a test gives up: so long that a busy machine is not taken for a fault."""


@dataclass(frozen=True)
class Person:
    """Who can sign in."""

    email: str
    password: str


@dataclass
class Installation:
    """Its settings, its store, who may sign in, and its running parts."""

    config: Config
    store: Store
    environment: dict[str, str]
    person: Person
    parts: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def start(self, name: str) -> None:
        """Starts a part and waits until it answers."""
        if name == "database":
            place = wiring.private_server(self.config)
            self.parts[name] = server.start(place, buffer_mb=128)
            return
        self.parts[name] = subprocess.Popen(
            [sys.executable, "-m", "nimbus_reef", {"web": "serve"}.get(name, name)],
            env=self.environment,
            start_new_session=True,
        )
        if name == "web":
            until(lambda: self.get("/alive")[0] == 200)

    def kill(self, name: str) -> None:
        """kill -9, as a power cut would."""
        part = self.parts.pop(name)
        if name == "database":
            part.kill()
        else:
            os.killpg(part.pid, signal.SIGKILL)
        part.wait()

    @property
    def base(self) -> str:
        """The site's address."""
        return f"http://127.0.0.1:{self.config.port}"

    def get(
        self, path: str, browser: urllib.request.OpenerDirector | None = None, seconds: float = _PATIENCE
    ) -> tuple[int, str]:
        """Status and page; 0 where nobody answers."""
        return self.ask(path, None, browser, seconds)

    def ask(
        self,
        path: str,
        form: dict[str, str] | None,
        browser: urllib.request.OpenerDirector | None,
        seconds: float = _PATIENCE,
    ) -> tuple[int, str]:
        """The same, posting a form where there is one."""
        data = urllib.parse.urlencode(form).encode() if form is not None else None
        opener = browser or urllib.request.build_opener()
        try:
            with opener.open(self.base + path, data, timeout=seconds) as answer:
                return answer.status, answer.read().decode()
        except urllib.error.HTTPError as problem:
            return problem.code, problem.read().decode()
        except OSError:
            return 0, ""

    def signed_in(self) -> tuple[urllib.request.OpenerDirector, str]:
        """A browser that is signed in, and its CSRF token."""
        browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        # Whatever was killed before is being taken over meanwhile.
        until(lambda: self.get("/sign-in", browser)[0] == 200, _PATIENCE)
        form = {
            "csrf_token": token(self.get("/sign-in", browser)[1]),
            "email": self.person.email,
            "password": self.person.password,
        }
        assert self.ask("/sign-in", form, browser)[0] == 200
        return browser, token(self.get("/plan/", browser)[1])

    def end(self) -> None:
        """Ends all parts, the last one first."""
        for part in reversed(self.parts.values()):
            part.terminate()
            part.wait(timeout=30)
        self.store.engine.dispose()


def environment_of(settings: dict[str, str]) -> dict[str, str]:
    """What processes of an installation are told."""
    return os.environ | settings | {"PYTHONPATH": os.pathsep.join(sys.path)}


def until(true: Callable[[], bool], seconds: float = _PATIENCE) -> None:
    """Waits until something holds; fails when it does not come to."""
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "it did not come to it"
        time.sleep(0.05)


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
