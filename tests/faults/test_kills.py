"""kill -9 of every part in the middle of its work: the old state or the new, no third."""

import threading
import time
from pathlib import Path

import pytest
from sqlalchemy import text
from tests.faults.conftest import Installation, until

from nimbus_reef.formats import files, mapping
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.orders import LoadOrder
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.loading import undo
from nimbus_reef.store.loading.verify import verify
from nimbus_reef.store.people import accounts, plans
from nimbus_reef.store.record import loads

pytestmark = pytest.mark.fault

HEADER = "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales\n"
ROWS = 50_000


@pytest.fixture
def account(installation):
    return accounts.by_key(installation.store, "fernhollow-de")


def rows_held(installation):
    with installation.store.read() as connection:
        return connection.execute(
            text("SELECT COUNT(*) FROM search_term_daily WHERE day BETWEEN '2025-03-01' AND '2025-03-31'")
        ).scalar()


def enqueue_load(installation: Installation, account, folder: Path, word: str) -> int:
    """A large file of March 2025 under a label of its own, waiting for the worker."""
    path = folder / "big.csv"
    rows = (f"2025-03-{1 + n % 31:02},K,G,t,broad,{word} {n},100,2,1.00,0,0\n" for n in range(ROWS))
    path.write_text(HEADER + "".join(rows))
    store, conf = installation.store, installation.config
    kept = intake.keep_file(conf.uploads, path)
    upload_id = loads.add_upload(
        store, account_id=account.id, person_id=None, file_name="big.csv", sha256=kept.sha256, size=kept.size
    )
    chosen = mapping.suggest_kind(files.read_table(kept.path, "big.csv", rows=500))[0].mapping
    return enqueue(installation, account, "load", LoadOrder((chosen,), scope="all", confirmed=True), upload_id)


def enqueue(installation, account, kind, request, upload_id=None):
    job_id = loads.start_job(
        installation.store, kind=kind, account_id=account.id, person_id=None, upload_id=upload_id, request=request
    )
    make_queue(installation.config, installation.store).start(job_id)
    return job_id


def job(installation, job_id):
    return loads.get_job(installation.store, job_id)


def well(installation, account):
    return list(verify(installation.store, account.id)) == []


def test_the_worker_killed_in_a_load_leaves_the_old_state_and_the_next_finishes(installation, account, tmp_path):
    job_id = enqueue_load(installation, account, tmp_path, "killed")
    until(lambda: job(installation, job_id).progress >= 0.5)
    installation.kill("worker")
    assert job(installation, job_id).state == "running"
    assert rows_held(installation) == 0
    installation.start("worker")
    until(lambda: not job(installation, job_id).open, 120)
    assert (job(installation, job_id).state, job(installation, job_id).attempts) == ("done", 2)
    assert rows_held(installation) == ROWS
    assert well(installation, account)


def test_the_worker_killed_in_an_undo_leaves_the_old_state_and_the_next_finishes(installation, account):
    """Of the load above: 31 days are taken out in one transaction."""
    batch = loads.batches(installation.store, account.id)[0]
    job_id = enqueue(installation, account, "undo", {"batch": batch.id, "file": batch.file_name})
    until(lambda: job(installation, job_id).progress >= 0.3)
    installation.kill("worker")
    assert rows_held(installation) in (0, ROWS)
    installation.start("worker")
    until(lambda: not job(installation, job_id).open, 120)
    assert job(installation, job_id).state == "done"
    assert rows_held(installation) == 0
    assert well(installation, account)


def test_the_database_killed_in_an_undo_leaves_the_old_state_or_the_new(installation, account, tmp_path):
    """The first thirty days are put back when the power goes; the undo can then be asked for again."""
    job_id = enqueue_load(installation, account, tmp_path, "undone")
    until(lambda: not job(installation, job_id).open, 120)
    batch = loads.batches(installation.store, account.id)[0]
    job_id = enqueue(installation, account, "undo", {"batch": batch.id, "file": batch.file_name})
    until(lambda: job(installation, job_id).progress >= 0.3)
    installation.kill("database")
    time.sleep(0.5)
    installation.start("database")
    until(lambda: not job(installation, job_id).open, 120)
    undone = loads.get_batch(installation.store, batch.id).undone_at is not None
    assert rows_held(installation) == (0 if undone else ROWS)
    assert well(installation, account)
    if not undone:
        undo.undo(installation.store, account.id, batch.id)
    assert rows_held(installation) == 0


@pytest.mark.parametrize("at", [0.4, 0.7])
def test_the_database_killed_in_a_load_leaves_the_old_state_or_the_new(installation, account, tmp_path, at):
    """The worker lives on and writes the job's end as soon as the database is back."""
    before = rows_held(installation)
    job_id = enqueue_load(installation, account, tmp_path, f"cut {at}")
    until(lambda: job(installation, job_id).progress >= at)
    installation.kill("database")
    time.sleep(0.5)
    installation.start("database")
    until(lambda: not job(installation, job_id).open, 120)
    ended = job(installation, job_id)
    assert rows_held(installation) == (ROWS if ended.state == "done" else before)
    assert ended.state == "done" or "does not answer" in ended.message
    assert well(installation, account)


@pytest.mark.parametrize("after", [0.0, 0.1, 0.3])
def test_the_web_killed_in_accepting_many_keeps_all_of_them_or_none(installation, account, after):
    browser, token = installation.signed_in()
    form = {"csrf_token": token, "all": "yes", "where": "verdict:is:costly", "account": account.key, "sure": "yes"}
    path = "/targeting/targets/accept-many"
    asking = threading.Thread(target=lambda: installation.ask(path, form, browser))
    asking.start()
    time.sleep(after)
    installation.kill("web")
    asking.join()
    installation.start("web")
    kept = len(plans.planned(installation.store, account.id))
    browser, token = installation.signed_in()
    installation.ask(path, form | {"csrf_token": token}, browser)
    whole = plans.planned(installation.store, account.id)
    assert len(whole) > 5
    assert kept in (0, len(whole))
    assert [each.change.row for each in whole] == sorted({each.change.row for each in whole})
    plans.remove_many(installation.store, account.id, 1, [each.id for each in whole])


def test_pages_say_within_three_seconds_that_the_database_is_away_and_recover(installation):
    browser, _ = installation.signed_in()
    pages = ("/pulse/", "/intake/", "/targeting/targets", "/findings/", "/plan/")
    assert all(installation.get(page, browser)[0] == 200 for page in pages)
    installation.kill("database")
    for page in pages:
        status, told = installation.get(page, browser, seconds=3)
        assert status == 503, page
        assert "The database does not answer" in told
    installation.start("database")
    until(lambda: all(installation.get(page, browser)[0] == 200 for page in pages), 20)
