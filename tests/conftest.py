"""What all tests share: a private MariaDB of their own, and an empty store on it."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from subprocess import Popen

import pytest
from hypothesis import settings
from sqlalchemy import text

from nimbus_reef import config
from nimbus_reef.cli import demo as demo_data
from nimbus_reef.cli import wiring
from nimbus_reef.config import Config
from nimbus_reef.store.people import accounts, people
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import engine, schema, server
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import metadata
from tests import kept

# The first example pays for imports and compilation; a deadline would judge those.
settings.register_profile("full", deadline=None, print_blob=True)
settings.register_profile("everyday", deadline=None, print_blob=True, max_examples=20)
settings.load_profile("full" if "CI" in os.environ else "everyday")

PROCESS = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))
"""Which of the processes that share the tests this is."""


def port_from(first: int) -> int:
    """A free port; two processes never look for theirs in the same place."""
    return wiring.free_port("127.0.0.1", first + 20 * PROCESS)


@pytest.fixture(scope="session")
def database(tmp_path_factory: pytest.TempPathFactory) -> Iterator[server.Server]:
    """A private MariaDB for this run alone, gone afterwards."""
    place = server.prepare(tmp_path_factory.mktemp("mariadb"), port_from(3466))
    process = server.start(place, buffer_mb=128)
    owner = engine.connect(place.owner_url, Path(place.folder) / "s", Path(place.folder) / "t")
    schema.migrate(owner.engine)
    owner.engine.dispose()
    yield place
    server.stop(process)


@pytest.fixture
def store(database: server.Server, tmp_path: Path) -> Iterator[Store]:
    """An empty store: every table emptied, no day file."""
    made = engine.connect(database.app_url, tmp_path / "snapshots", tmp_path / "scratch")
    with made.engine.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for table in metadata.sorted_tables:
            connection.execute(table.delete())
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
    yield made
    made.engine.dispose()


@pytest.fixture
def account(store: Store) -> Account:
    """One brand account."""
    return accounts.add(
        store,
        key="fern-de",
        brand_name="Fernhollow",
        marketplace="Tidemarkt",
        country="DE",
        currency="EUR",
        locale="en_IE",
        timezone="Europe/Berlin",
        target_acos=0.28,
    )


Process = Popen[bytes]
LAST_DAY = date(2026, 11, 20)
PASSWORD = "viewers look only"


@dataclass(frozen=True)
class Demo:
    """A demo installation of its own: settings, store, and who may sign in."""

    config: Config
    store: Store
    password: str


def load_demo(var: Path) -> None:
    """Two simulated brands over 45 days, loaded through the ordinary intake."""
    conf = config.load({"REEF_VAR": str(var), "REEF_DATABASE_PORT": str(port_from(3566)), "REEF_DEMO_DAYS": "45"})
    process = server.start(wiring.private_server(conf), buffer_mb=128)
    try:
        wiring.migrate(conf)
        made = wiring.open_store(conf)
        demo_data.load(conf, made, seed=4, last_day=LAST_DAY, step=lambda _: None)
        people.add(
            made,
            email="viewer@nimbus-reef.example",
            name="Vic",
            password=PASSWORD,
            role=people.Role.VIEWER,
            brand_names=("Fernhollow",),
        )
        made.engine.dispose()
    finally:
        server.stop(process)


@pytest.fixture(scope="session")
def kept_demo() -> Path:
    """The folder of an installation with the demo brands, at rest: to be copied, never used itself."""
    return kept.folder("demo", load_demo)


def installed(kept_demo: Path, var: Path, **environment: str) -> tuple[Config, Process]:
    """A copy of the demo installation, and its database running."""
    kept.copied(kept_demo, var)
    conf = config.load(environment | {"REEF_VAR": str(var), "REEF_DATABASE_PORT": str(port_from(3566))})
    place = server.prepare(wiring.database_folder(conf), conf.database_port)
    wiring.note_port(place)
    return conf, server.start(place, buffer_mb=128)


@pytest.fixture(scope="session")
def demo(kept_demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    """A demo installation, its database running."""
    conf, process = installed(kept_demo, tmp_path_factory.mktemp("demo"))
    made = wiring.open_store(conf)
    yield Demo(conf, made, demo_data.password(conf))
    made.engine.dispose()
    server.stop(process)
