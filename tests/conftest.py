"""What all tests share: a private MariaDB of their own, and an empty store on it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import settings
from sqlalchemy import text

from nimbus_reef.cli.wiring import free_port
from nimbus_reef.store import accounts, engine, schema, server
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.engine import Store
from nimbus_reef.store.models import metadata

# The first example pays for imports and compilation; a deadline would judge those.
settings.register_profile("reef", deadline=None, print_blob=True)
settings.load_profile("reef")


@pytest.fixture(scope="session")
def database(tmp_path_factory: pytest.TempPathFactory) -> Iterator[server.Server]:
    """A private MariaDB for this run alone, gone afterwards."""
    place = server.prepare(tmp_path_factory.mktemp("mariadb"), free_port("127.0.0.1", 3466))
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
    with made.write() as connection:
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
        store, key="fern-de", brand_name="Fernhollow", marketplace="Tidemarkt", country="DE",
        currency="EUR", locale="en_IE", timezone="Europe/Berlin", target_acos=0.28,
    )  # fmt: skip
