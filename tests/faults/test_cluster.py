"""
Two machines, each a web process and a worker with day files of its own, on one cluster of three databases and one
queue: a database is killed under loads and acceptances, and nothing is lost, nothing is there twice.
"""

from __future__ import annotations

import subprocess
import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from urllib.request import OpenerDirector

import pytest
from sqlalchemy import text
from tests.conftest import port_from
from tests.faults.cluster import NODES, Cluster, cluster, steady_writes
from tests.faults.conftest import Installation, Person, environment_of, until

from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.errors import StoreAway
from nimbus_reef.formats import files, mapping
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.orders import LoadOrder
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.loading.verify import verify
from nimbus_reef.store.people import accounts, people, plans
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import loads

pytestmark = [pytest.mark.fault, pytest.mark.cluster]

PERSON = Person("ann@example.com", "a password for two machines")
HEADER = "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales\n"
ROWS, DAYS = 12_000, 30
_OUT_AFTER = 6
"""
Seconds: on a machine that does much else all nodes may be kept from speaking for two, and those left must not lose each
other.
"""


@dataclass
class Machines:
    """The two machines, what they share, and the brand account that they work on."""

    nodes: Cluster
    both: tuple[Installation, Installation]
    account: Account

    def held(self, node: int) -> tuple[int, int]:
        """Rows and clicks that a node has."""
        store = wiring.open_store(
            config.load({"REEF_DATABASE_URL": self.nodes.url(node), "REEF_VAR": str(self.both[0].config.var)})
        )
        with store.read() as connection:
            told = connection.execute(text("SELECT COUNT(*), COALESCE(SUM(clicks), 0) FROM search_term_daily")).one()
        store.engine.dispose()
        return int(told[0]), int(told[1])

    def enqueue(self, by: Installation, word: str, clicks: int, folder: Path) -> int:
        """A month under other words and figures, waiting in the queue that both machines serve."""
        file = folder / "month.csv"
        lines = (
            f"2026-06-{1 + n % DAYS:02},C,G,t {n % 50},broad,{word} {n},100,{clicks},1.00,{n % 2},{n % 2}.00\n"
            for n in range(ROWS)
        )
        file.write_text(HEADER + "".join(lines))
        kept = intake.keep_file(by.config.uploads, file)
        upload_id = loads.add_upload(
            by.store,
            account_id=self.account.id,
            person_id=None,
            file_name="month.csv",
            sha256=kept.sha256,
            size=kept.size,
        )
        chosen = mapping.suggest_kind(files.read_table(kept.path, "month.csv", rows=500))[0].mapping
        job_id = loads.start_job(
            by.store,
            kind="load",
            account_id=self.account.id,
            person_id=None,
            upload_id=upload_id,
            request=LoadOrder((chosen,), scope="all", confirmed=True),
        )
        make_queue(by.config, by.store).start(job_id)
        return job_id


@pytest.fixture(scope="module")
def queue_server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    folder, port = tmp_path_factory.mktemp("redis"), port_from(6480)
    settings = ("--bind", "127.0.0.1", "--port", str(port), "--dir", str(folder), "--save", "", "--loglevel", "warning")
    process = subprocess.Popen(["redis-server", *settings])
    yield f"redis://127.0.0.1:{port}/0"
    process.terminate()
    process.wait()


@pytest.fixture(scope="module")
def machines(queue_server: str, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Machines]:
    shared = tmp_path_factory.mktemp("shared")
    with cluster(_OUT_AFTER) as nodes:
        wiring.migrate(config.load({"REEF_VAR": str(shared), "REEF_DATABASE_URL": nodes.url(owner=True)}))
        both = []
        for number in range(2):
            settings = {
                "REEF_VAR": str(shared),
                "REEF_LOCAL": str(tmp_path_factory.mktemp(f"machine-{number}")),
                "REEF_REDIS_URL": queue_server,
                "REEF_DATABASE_URL": nodes.url(number),
                "REEF_PORT": str(port_from(8890 + 5 * number)),
                "REEF_WEB_WORKERS": "1",
                "REEF_LOG_LEVEL": "ERROR",
                "REEF_SIGN_IN_LIMIT": "1000 per minute",
            }
            conf = config.load(settings)
            both.append(Installation(conf, wiring.open_store(conf), environment_of(settings), PERSON))
        store = both[0].store
        account = accounts.add(
            store,
            key="two-de",
            brand_name="Twofold",
            marketplace="Tidemarkt",
            country="DE",
            currency="EUR",
            locale="en_IE",
            timezone="Europe/Berlin",
            target_acos=0.28,
        )
        people.add(store, email=PERSON.email, name="Ann", password=PERSON.password, role=people.Role.OWNER)
        for each in both:
            each.start("worker")
            each.start("web")
        yield Machines(nodes, (both[0], both[1]), account)
        for each in both:
            each.end()


def ended(machines: Machines, job_id: int) -> loads.Job:
    """The job once nothing happens to it any more, as the second machine sees it."""
    return come_to(machines, job_id, lambda job: not job.open)


def come_to(machines: Machines, job_id: int, true: Callable[[loads.Job], bool]) -> loads.Job:
    """Waits until a condition holds for the job on the second machine, and returns the job."""
    found: list[loads.Job] = []

    def seen() -> bool:
        with suppress(StoreAway):
            job = loads.get_job(machines.both[1].store, job_id)
            found[:] = [job] if job else []
        return bool(found) and true(found[0])

    until(seen, 180)
    return found[0]


def test_what_one_machine_loads_the_other_shows_at_once(machines, tmp_path):
    """Each makes day files of its own from the versions that it reads."""
    one, other = machines.both
    job_id = machines.enqueue(one, "first", 4, tmp_path)
    assert ended(machines, job_id).state == "done"
    browser, _ = other.signed_in()
    page = f"/targeting/terms?account={machines.account.key}&window=2026-06-01..2026-06-30"
    status, shown = other.get(page, browser)
    assert status == 200
    assert "first 1" in shown
    browser, _ = one.signed_in()
    assert "first 1" in one.get(page, browser)[1]
    for each in machines.both:
        assert list(each.config.snapshots.rglob("*.arrow"))
    assert [machines.held(node) for node in range(NODES)] == [(ROWS, 4 * ROWS)] * NODES


@pytest.mark.parametrize(("node", "at"), [(0, 0.3), (1, 0.9)])
def test_a_node_killed_under_a_load_loses_nothing_and_doubles_nothing(machines, tmp_path, node, at):
    """
    The month is there as it was before or as the file has it, on all nodes alike; here: as the file has it, since it is
    tried again.
    """
    clicks = 10 + round(10 * at) + node
    batches = len(loads.batches(machines.both[0].store, machines.account.id))
    job_id = machines.enqueue(machines.both[node % 2], f"killed {node} {at}", clicks, tmp_path)
    come_to(machines, job_id, lambda job: job.progress >= at)
    with machines.nodes.without(node):
        job = ended(machines, job_id)
    assert job.state == "done", (job.message, job.attempts)
    assert [machines.held(each) for each in range(NODES)] == [(ROWS, clicks * ROWS)] * NODES
    assert len(loads.batches(machines.both[0].store, machines.account.id)) == batches + 1
    for each in machines.both:
        assert list(verify(each.store, machines.account.id)) == []


def test_loads_of_the_same_days_by_both_machines_end_as_one_of_them(machines, tmp_path):
    """They meet on two nodes that know nothing of each other's locks."""
    one, other = machines.both
    first, second = (machines.enqueue(one, "mine", 31, tmp_path), machines.enqueue(other, "yours", 32, tmp_path))
    assert {ended(machines, first).state, ended(machines, second).state} == {"done"}
    rows, clicks = machines.held(0)
    assert rows == ROWS
    assert clicks in (31 * ROWS, 32 * ROWS)
    for each in machines.both:
        assert list(verify(each.store, machines.account.id)) == []


@pytest.mark.parametrize("after", [0.1])
def test_a_node_killed_under_acceptances_keeps_each_of_them_whole_and_once(machines, after):
    """Both machines accept all costly targets at once while a node dies; whoever was not answered asks again."""
    path, said = "/targeting/targets/accept-many", []
    # Sign in before the kill: this test is about acceptances.
    browsers = [(each, *each.signed_in()) for each in machines.both]

    def accept(machine: Installation, browser: OpenerDirector, token: str) -> None:
        form = {
            "csrf_token": token,
            "all": "yes",
            "where": "verdict:is:costly",
            "account": machines.account.key,
            "sure": "yes",
            "window": "2026-06-01..2026-06-30",
        }
        said.append(machine.ask(path, form, browser)[0])

    asking = [threading.Thread(target=accept, args=each) for each in browsers]
    for each in asking:
        each.start()
    threading.Event().wait(after)
    with machines.nodes.without(1):
        for each in asking:
            each.join()
        for each in browsers:
            accept(*each)
    assert set(said[-2:]) == {200}
    found = [plans.planned(each.store, machines.account.id) for each in machines.both]
    assert found[0] == found[1]
    assert len(found[0]) > 5
    rows = [each.change.row for each in found[0]]
    assert rows == sorted(set(rows))
    things = [(each.change.target, each.change.match_type, each.change.field) for each in found[0]]
    assert len(things) == len(set(things))
    plans.remove_many(machines.both[0].store, machines.account.id, 1, [each.id for each in found[0]])


def test_small_writes_go_on_while_a_node_is_killed_and_none_is_lost(machines):
    """Whatever was said to be kept is there, and nothing is there twice."""
    store = machines.both[0].store
    with steady_writes(store) as told:
        until(lambda: len(told.kept) > 20)
        number = machines.nodes.number_of(store.nodes.preferred)
        with machines.nodes.without(number):
            before = len(told.kept)
            until(lambda: len(told.kept) > before + 20)
    noted = told.noted(store)
    assert set(told.kept) <= set(noted)
    assert len(noted) == len(set(noted))
