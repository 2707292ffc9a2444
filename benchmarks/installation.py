"""A whole installation whose parts run as processes of their own, and may be killed: database, web, worker."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Final

from nimbus_reef.cli import wiring
from nimbus_reef.config import Config
from nimbus_reef.store.record import server
from nimbus_reef.store.record.engine import Store

_PATIENCE: Final = 120.0
"""Seconds until it is given up: so long that a busy machine is not taken for a fault."""


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
        """Kill -9, as a power cut would."""
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
