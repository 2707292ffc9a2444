"""Jobs: whatever comes of a load is on record, and a dead worker's job is taken up."""

import os
import socket
from dataclasses import replace
from datetime import date, datetime
from pathlib import Path

import pytest
from sqlalchemy import update

from nimbus_reef import config
from nimbus_reef.errors import Conflict, StoreAway
from nimbus_reef.formats import files, mapping
from nimbus_reef.jobs import intake, orders, queue
from nimbus_reef.jobs.orders import LoadOrder
from nimbus_reef.store.loading import undo
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.models import job

GOOD = "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales\n" + "".join(
    f"2026-10-{day:02},C,G,t,broad,term {day},100,5,2.50,1,20.00\n" for day in range(1, 11)
)


@pytest.fixture
def conf(tmp_path):
    return config.load({"REEF_VAR": str(tmp_path)})


def start(store, account, conf, text, scope="product"):
    path = Path(conf.var) / "in.csv"
    path.write_text(text)
    kept = intake.keep_file(conf.uploads, path)
    upload_id = loads.add_upload(
        store, account_id=account.id, person_id=None, file_name="in.csv", sha256=kept.sha256, size=kept.size
    )
    chosen = mapping.suggest_kind(files.read_table(kept.path, "in.csv"))[0].mapping
    return loads.start_job(
        store,
        kind="load",
        account_id=account.id,
        person_id=None,
        upload_id=upload_id,
        request=LoadOrder((chosen,), scope=scope),
    )


def done(conf, store, job_id, again=None):
    """What a worker does with a job; again: what asks for it once more."""
    queue.run(conf, store, job_id, again or (lambda *_: pytest.fail("nothing was to be done again")))


def test_a_load_ends_done_with_its_summary(store, account, conf):
    job_id = start(store, account, conf, GOOD)
    done(conf, store, job_id)
    job = loads.get_job(store, job_id)
    assert (job.state, job.progress) == ("done", 1.0)
    (did,) = job.result["loads"]
    assert (did["rows"], did["days"], did["sums"]["spend"]) == (10, 10, 25_000_000)
    assert loads.get_upload(store, job.upload_id).state == "loaded"
    batch = loads.same_file(store, account.id, loads.get_upload(store, job.upload_id).sha256)
    assert batch.rows == 10
    assert loads.remembered(store, account.id, mapping.signature(GOOD.split("\n")[0].split(","))) == [batch]


def test_a_bad_file_ends_failed_with_the_reason_and_waits_for_another_try(store, account, conf):
    job_id = start(store, account, conf, GOOD.replace("2.50", "lots", 2))
    done(conf, store, job_id)
    job = loads.get_job(store, job_id)
    assert job.state == "failed"
    assert "spend is not a readable number" in job.message
    assert loads.get_upload(store, job.upload_id).state == "waiting"
    assert loads.batches(store, account.id) == []


def test_a_load_that_asks_waits_for_its_yes(store, account, conf):
    job_id = start(store, account, conf, GOOD.replace("2026-10-10", "2036-10-10"))
    done(conf, store, job_id)
    job = loads.get_job(store, job_id)
    assert job.state == "asks"
    assert len(job.result["questions"]) == 2


def test_a_fault_of_ours_fails_the_job_and_not_the_worker(store, account, conf, monkeypatch):
    job_id = start(store, account, conf, GOOD)
    monkeypatch.setattr(intake, "load", lambda *_, **__: 1 / 0)
    done(conf, store, job_id)
    job = loads.get_job(store, job_id)
    assert job.state == "failed"
    assert f"job {job_id}" in job.message


def test_a_file_is_loaded_by_one_job_at_a_time(store, account, conf):
    job = loads.get_job(store, start(store, account, conf, GOOD))
    with pytest.raises(Conflict):
        loads.start_job(store, kind="load", account_id=account.id, person_id=None, upload_id=job.upload_id, request={})


def test_a_dead_worker_s_job_is_taken_up_once_and_then_failed(store, account, conf):
    """First it is queued again and runs; a second death fails it with a reason."""
    made = queue.make_queue(conf, store, immediate=True)
    job_id = start(store, account, conf, GOOD)
    dead = f"{socket.gethostname()}:999999"
    loads.claim_job(store, job_id, dead)
    assert queue.take_up_orphans(store, made) == 1
    assert loads.get_job(store, job_id).state == "done"
    second = start(store, account, conf, GOOD.replace("C,G", "D,G"))
    for _ in range(2):
        loads.claim_job(store, second, dead)
        loads.take_back_orphans(store, queue.still_alive)
    job = loads.get_job(store, second)
    assert job.state == "failed"
    assert "twice" in job.message


def test_an_undo_whose_worker_died_before_saying_so_is_done(store, account, conf):
    done(conf, store, start(store, account, conf, GOOD))
    batch = loads.batches(store, account.id)[0]
    again = loads.start_job(
        store, kind="undo", account_id=account.id, person_id=None, upload_id=None, request={"batch": batch.id}
    )
    undo.undo(store, account.id, batch.id)
    loads.claim_job(store, again, f"{socket.gethostname()}:999999")
    assert queue.take_up_orphans(store, queue.make_queue(conf, store, immediate=True)) == 1
    assert loads.get_job(store, again).state == "done"


def test_a_living_worker_keeps_its_job(store, account, conf):
    job_id = start(store, account, conf, GOOD)
    loads.claim_job(store, job_id, queue.worker_name())
    assert queue.take_up_orphans(store, queue.make_queue(conf, store, immediate=True)) == 0
    assert queue.still_alive("another:1:2", {"another:1:2"}), "it said so lately"
    assert not queue.still_alive("another:1:2", {"another:1:3"})


def test_a_worker_whose_number_another_process_has_now_is_dead(store, account, conf):
    job_id = start(store, account, conf, GOOD)
    loads.claim_job(store, job_id, f"{socket.gethostname()}:{os.getppid()}:12")
    assert queue.take_up_orphans(store, queue.make_queue(conf, store, immediate=True)) == 1
    assert loads.get_job(store, job_id).state == "done"


def test_a_job_that_was_noted_and_never_asked_for_is_taken_up(store, account, conf):
    """The database, or the web server, died between the two; the next minute sees to it."""
    job_id, made = start(store, account, conf, GOOD), queue.make_queue(conf, store, immediate=True)
    queue.sweep_jobs(store, made)
    assert loads.get_job(store, job_id).state == "queued", "it may only just be on its way"
    with store.engine.begin() as connection:
        connection.execute(update(job).where(job.c.id == job_id).values(created_at=datetime(2026, 1, 1)))
    queue.sweep_jobs(store, made)
    assert loads.get_job(store, job_id).state == "done"


def test_a_database_that_is_away_when_a_job_is_taken_is_waited_for(store, account, conf, monkeypatch):
    job_id, claim, tries = start(store, account, conf, GOOD), loads.claim_job, []

    def away(*arguments, once_more):
        tries.append(once_more)
        if len(tries) < 3:
            raise StoreAway("The database does not answer.")
        return claim(*arguments, once_more=once_more)

    monkeypatch.setattr(queue.loads, "claim_job", away)
    monkeypatch.setattr(queue.time, "sleep", lambda _: None)
    done(conf, store, job_id)
    assert loads.get_job(store, job_id).state == "done"
    assert tries == [False, True, True]


def test_a_job_that_was_taken_without_hearing_of_it_is_done(store, account, conf):
    """The answer to taking it was lost; nobody else gets it, and who asks for the first time does not get it twice."""
    job_id, me = start(store, account, conf, GOOD), queue.worker_name()
    assert loads.claim_job(store, job_id, me).worker == me
    assert loads.claim_job(store, job_id, me) is None
    assert loads.claim_job(store, job_id, "another:1:2", once_more=True) is None
    assert loads.claim_job(store, job_id, me, once_more=True).id == job_id
    assert loads.queue_again(store, job_id)
    assert loads.queue_again(store, job_id), "that answer was lost too"


def test_a_load_that_the_database_left_is_done_again_and_once_only(store, account, conf, monkeypatch):
    """It says that it is tried again, and is; the second time it says that it is not."""
    job_id, asked = start(store, account, conf, GOOD), []

    def away(*_, **__):
        raise StoreAway("The database does not answer.")

    monkeypatch.setattr(queue.intake, "load", away)
    done(conf, store, job_id, lambda *job: asked.append(job))
    found = loads.get_job(store, job_id)
    assert (found.state, asked) == ("queued", [(job_id, "load")])
    assert "trying again" in found.message
    done(conf, store, job_id)
    found = loads.get_job(store, job_id)
    assert found.state == "failed"
    assert "twice" in found.message
    assert loads.get_upload(store, found.upload_id).state == "waiting", "it can be loaded again"


def test_a_load_whose_end_was_not_heard_of_is_not_done_twice(store, account, conf, monkeypatch):
    """The database took it, and its answer was lost: the second try sees what the first put there."""
    job_id, whole = start(store, account, conf, GOOD), queue.intake.load
    made = []

    def lost(*given, **named):
        made.append(whole(*given, **named))
        raise StoreAway("The database does not answer.")

    monkeypatch.setattr(queue.intake, "load", lost)
    done(conf, store, job_id, lambda *_: None)
    assert loads.get_job(store, job_id).state == "queued"
    monkeypatch.setattr(queue.intake, "load", whole)
    done(conf, store, job_id)
    found = loads.get_job(store, job_id)
    assert found.state == "done"
    assert tuple(orders.loads_done(found)) == made[0]
    assert len(loads.batches(store, account.id)) == 1


def test_a_job_that_nobody_wants_any_more_stops(store, account, conf):
    """Cancelled while it waits it is not begun; while it runs it stops where it says how far it is."""
    waiting = start(store, account, conf, GOOD)
    assert loads.cancel(store, waiting)
    done(conf, store, waiting)
    assert loads.get_job(store, waiting).state == "cancelled"
    assert not loads.cancel(store, waiting)
    running = start(store, account, conf, GOOD.replace("C,G", "E,G"))
    loads.claim_job(store, running, queue.worker_name())
    loads.cancel(store, running)
    with pytest.raises(loads.Cancelled):
        loads.note_progress(store, running, 0.5, "half")


def test_exports_and_loads_do_not_wait_for_each_other(store, conf):
    made = queue.make_queue(conf, store)
    made.start(1, "load")
    made.start(2, "export")
    assert [huey.pending_count() for huey in made.lanes.values()] == [1, 1, 0]
    assert not made.idle


def test_an_uploaded_name_is_never_a_path(conf):
    path = Path(conf.var) / "x.csv"
    path.write_text("hello")
    kept = intake.keep_file(conf.uploads, path)
    assert kept.path.parent == conf.uploads
    assert kept.path.name == kept.sha256 == intake.keep_digest(path)


def test_what_an_earlier_version_noted_of_a_load_is_read_too(store, account):
    """Its record called account and batch otherwise, and had no sums of several days."""
    job_id = loads.start_job(store, kind="load", account_id=account.id, person_id=None, upload_id=None, request={})
    kept = {
        "account": account.id,
        "batch": 7,
        "kind": "target_daily",
        "rows": 3,
        "days": 1,
        "first_day": "2026-10-01",
        "last_day": "2026-10-01",
        "rejected": 0,
        "removed": 0,
        "sums": {"clicks": 3},
        "warnings": ["a line was left out"],
    }
    loads.finish_job(store, job_id, state="done", message="done", result={"loads": [kept]})
    (done,) = orders.loads_done(loads.get_job(store, job_id))
    assert (done.account_id, done.batch_id, done.first_day) == (account.id, 7, date(2026, 10, 1))
    assert (done.warnings, done.scope, done.blocks) == (("a line was left out",), "all", ())


def test_a_queue_that_is_away_costs_a_minute_and_no_job(store, account, conf):
    """
    Whoever asks is not refused: the job is noted, and waits until the queue is back; nobody takes it for forgotten
    meanwhile.
    """
    nowhere = replace(conf, redis_url="redis://127.0.0.1:9/0")
    job_id, away = start(store, account, conf, GOOD), queue.make_queue(nowhere, store)
    away.start(job_id, "load")
    assert (away.idle, away.busy) == (False, True)
    queue.sweep_jobs(store, away)
    assert loads.get_job(store, job_id).state == "queued"
    with store.engine.begin() as connection:
        connection.execute(update(job).where(job.c.id == job_id).values(created_at=datetime(2026, 1, 1)))
    queue.sweep_jobs(store, queue.make_queue(conf, store, immediate=True))
    assert loads.get_job(store, job_id).state == "done"
