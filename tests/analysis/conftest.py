"""What is asked of loaded data is asked here without a database server: see `tests.sqlite_record`."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

import pytest
from tests import kept, sqlite_record
from tests.conftest import LAST_DAY

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.demo_brands import account_of
from nimbus_reef.sim import brand, reports
from nimbus_reef.sim.vocabulary import BRANDS
from nimbus_reef.store.people import accounts, people
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store

DAYS = 45


@dataclass(frozen=True)
class Loaded:
    """A store that holds something."""

    store: Store


def _both_brands(folder: Path) -> None:
    with sqlite_record.spoken():
        store = sqlite_record.at(folder)
        for spec in BRANDS:
            account = account_of(store, spec)
            made = brand.simulate(spec, 4, DAYS, LAST_DAY)
            for path in reports.write(made.frames, folder / spec.key).values():
                intake.take(store, account, path, path.name, path.stem, today=LAST_DAY + timedelta(days=1))
        people.add(store, email="owner@reef.example", name="Ona", password="long enough words", role=people.Role.OWNER)
        store.engine.dispose()


@pytest.fixture(scope="session")
def both_brands() -> Path:
    """The folder of a store with both demo brands, at rest."""
    return kept.folder("sqlite-demo", _both_brands)


@pytest.fixture(autouse=True)
def _spoken() -> Iterator[None]:
    with sqlite_record.spoken():
        yield


@pytest.fixture
def store(tmp_path: Path) -> Iterator[Store]:
    """An empty store."""
    made = sqlite_record.at(tmp_path)
    yield made
    made.engine.dispose()


@pytest.fixture(scope="session")
def demo(both_brands: Path) -> Iterator[Loaded]:
    """Both brands, only to be read."""
    made = sqlite_record.at(both_brands)
    yield Loaded(made)
    made.engine.dispose()


@pytest.fixture(scope="session")
def facts(demo: Loaded) -> Facts:
    """Frames of both brands, kept from one test to the next."""
    return Facts(demo.store)


@pytest.fixture
def own(both_brands: Path, facts: Facts, tmp_path: Path) -> Iterator[Facts]:
    """Frames of both brands in a store that one test alone may write into."""
    kept.copied(both_brands, tmp_path)
    made = sqlite_record.at(tmp_path)
    yield Facts(made, facts.cache)
    made.engine.dispose()


def usual_look(facts: Facts, key: str) -> Selection:
    """The newest 14 mature days of a brand, against the 14 before."""
    account = accounts.by_key(facts.store, key)
    assert account is not None
    newest = facts.newest_day(account.id)
    assert newest is not None
    last = newest - timedelta(days=account.maturing_days)
    window = Window(last - timedelta(days=13), last)
    return Selection(
        account, window, Aims(account.target_acos), Window(last - timedelta(days=27), last - timedelta(days=14))
    )


@pytest.fixture(params=[spec.key for spec in BRANDS])
def selection(facts: Facts, request: pytest.FixtureRequest) -> Selection:
    """What is asked about, of each brand."""
    return usual_look(facts, request.param)
