"""A worker that dies in the middle of a load: nothing half-done, and the job is taken up."""

import time

import pytest
from sqlalchemy import text

from nimbus_reef.formats import mapping, tables
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store import accounts, loads

pytestmark = [pytest.mark.browser, pytest.mark.fault]

HEADER = "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales\n"


def rows_held(store):
    with store.read() as connection:
        return connection.execute(
            text("SELECT COUNT(*) FROM search_term_daily WHERE day BETWEEN '2025-03-01' AND '2025-03-31'")
        ).scalar()


def test_kill_9_of_the_worker_leaves_the_old_state_and_the_next_finishes(site, tmp_path):
    """Killed at different points of the load; then a new worker brings it to its end."""
    store, conf = site.demo.store, site.demo.config
    account = accounts.all_accounts(store)[0]
    path = tmp_path / "big.csv"
    path.write_text(
        HEADER
        + "".join(
            f"2025-03-{1 + n % 31:02},K,G,t,broad,killed term {n},100,2,1.00,0,0\n" for n in range(150_000)
        )
    )
    kept = intake.keep_file(conf.uploads, path)
    upload_id = loads.add_upload(
        store, account_id=account.id, person_id=None, file_name="big.csv", sha256=kept.sha256, size=kept.size
    )
    chosen = mapping.suggest_kind(tables.read_table(kept.path, "big.csv", rows=500))[0].mapping
    job_id = loads.start_job(
        store, kind="load", account_id=account.id, person_id=None, upload_id=upload_id,
        request={"mapping": chosen.as_json(), "scope": "brand"},
    )  # fmt: skip
    make_queue(conf, store).start(job_id)
    end = time.monotonic() + 30
    while loads.get_job(store, job_id).progress < 0.5 and time.monotonic() < end:
        time.sleep(0.02)
    site.kill("worker")
    assert loads.get_job(store, job_id).state == "running"
    assert rows_held(store) == 0
    site.start("worker", "worker")
    while loads.get_job(store, job_id).open and time.monotonic() < end + 60:
        time.sleep(0.1)
    job = loads.get_job(store, job_id)
    assert (job.state, job.attempts) == ("done", 2)
    assert rows_held(store) == 150_000
