"""The queue of long work: huey on SQLite for one machine, on Redis for more."""

from __future__ import annotations

import os
import socket
import time
from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from functools import cache
from itertools import count
from pathlib import Path
from typing import Any, Final, TypeVar

import structlog
from huey import Huey, RedisHuey, SqliteHuey, crontab
from redis.exceptions import RedisError

from nimbus_reef.config import Config
from nimbus_reef.errors import (
    BadFile,
    DiskFull,
    MarketplaceAway,
    MarketplaceRefused,
    NeedsYes,
    NotFound,
    ReefError,
    StoreAway,
    is_full_disk,
)
from nimbus_reef.jobs import acceptances, demo_brands, exports, fetching, intake, marketplaces, orders, sending, upkeep
from nimbus_reef.jobs import watch as watching
from nimbus_reef.store.loading import ingest, report_orders, undo
from nimbus_reef.store.loading.ingest import Progress
from nimbus_reef.store.people import accounts, marketplace_links, people, sendings, sessions
from nimbus_reef.store.record import json_columns, loads, workers
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store

log = structlog.get_logger("jobs")

T = TypeVar("T")
_NAME = "nimbus-reef"
LOADS, EXPORTS, OUTSIDE = "loads", "exports", "outside"
MARKET: Final = "market"
"""The kind of job that deals with an account's marketplace: one at a time for each account."""
_BEGAN_FIELD: Final = 19
"""Where `/proc/PID/stat` tells it, behind the name of the program."""
_PAUSES: Final = (0.5, 1, 2, 4, 8, *([15] * 40))
"""Seconds between tries to write a job's end: ten minutes in all."""


@dataclass(frozen=True, slots=True)
class Queue:
    """
    Enqueues jobs, and in a worker does them. lanes: loads, undos and the demo in one, exports in another, what waits
    for marketplaces in a third, so that none waits for the other. running: jobs that this process does now.
    """

    lanes: Mapping[str, Huey]
    tasks: Mapping[str, Any]
    running: set[int]

    def start(self, job_id: int, kind: str = "load") -> None:
        """
        Asks a worker to do the noted job. Where the queue is away it is taken up as soon as that is back: see
        `sweep_jobs`.
        """
        try:
            self.tasks[_lane(kind)](job_id)
        except RedisError:
            log.warning("the queue is away; a job waits for it", job=job_id)

    @property
    def busy(self) -> bool:
        """Whether somebody waits for something that this process does, or is to do."""
        return bool(self.running) or not self.idle

    @property
    def idle(self) -> bool:
        """Whether nothing waits in it; what is away is not."""
        try:
            return not any(huey.pending_count() for huey in self.lanes.values())
        except RedisError:
            return False


def _lane(kind: str) -> str:
    if kind == MARKET:
        return OUTSIDE
    return EXPORTS if kind in ("export", "backup", "accept") else LOADS


def _began(pid: int) -> str:
    """When a process of this machine began, in the kernel's count; empty where it is gone."""
    try:
        text = Path(f"/proc/{pid}/stat").read_text(encoding="ascii", errors="replace")
    except OSError:
        return ""
    return text.rpartition(")")[2].split()[_BEGAN_FIELD]


@cache
def worker_name() -> str:
    """Tells this process from all others, past ones of the same number too."""
    return f"{socket.gethostname()}:{os.getpid()}:{_began(os.getpid())}"


def still_alive(worker: str | None, present: Collection[str] = ()) -> bool:
    """Whether a worker still runs: one of this machine by its process, one of another by what it said lately."""
    host, _, rest = (worker or "").partition(":")
    pid, _, began = rest.partition(":")
    if host != socket.gethostname() or not pid.isdecimal():
        return worker in present
    return bool(began) and _began(int(pid)) == began


def make_queue(config: Config, store: Store, *, immediate: bool = False) -> Queue:
    """The queue of this installation. immediate: do jobs at once in this process (tests)."""
    lanes = {name: _huey(config, name, immediate=immediate) for name in (LOADS, EXPORTS, OUTSIDE)}
    tasks: dict[str, Any] = {}
    running: set[int] = set()
    for name, huey in lanes.items():

        @huey.task(name="job")  # type: ignore[untyped-decorator]  # huey has no types
        def task(job_id: int) -> None:
            running.add(job_id)
            try:
                run(config, store, job_id, queue.start)
            finally:
                running.discard(job_id)

        tasks[name] = task
    queue = Queue(lanes, tasks, running)

    @lanes[LOADS].periodic_task(crontab(minute="*"), name="watch")  # type: ignore[untyped-decorator]
    def watch() -> None:
        sweep_inbox(config, store, queue.start)
        sweep_jobs(store, queue)
        sweep_marketplaces(store, queue)
        look_after(config, store, queue)

    return queue


def _huey(config: Config, lane: str, *, immediate: bool) -> Huey:
    if config.redis_url:
        return RedisHuey(f"{_NAME}-{lane}", url=config.redis_url, immediate=immediate)
    config.var.mkdir(parents=True, exist_ok=True)
    return SqliteHuey(f"{_NAME}-{lane}", filename=str(config.var / "queue.db"), immediate=immediate)


def sweep_inbox(config: Config, store: Store, start: Callable[[int, str], None]) -> None:
    """Takes in what lies in the watched folder; a fault is logged, the next minute tries again."""
    try:
        watching.sweep(store, watching.Folders(config.inbox, config.uploads), start)
    except (ReefError, OSError):
        log.exception("the watched folder could not be read")


def run(config: Config, store: Store, job_id: int, start: Callable[[int, str], None]) -> None:
    """
    Does one noted job; whatever comes of it is written to the job. start: asks for it once more where the database went
    away.
    """
    tries = count()
    job = _patiently(lambda: loads.claim_job(store, job_id, worker_name(), once_more=next(tries) > 0), job_id)
    if job is None:
        return
    end: dict[str, Any]
    try:
        done = _WORK[job.kind](config, store, job)
        end = {"state": "done", "message": "done", "result": done, "upload_state": "loaded"}
    except NeedsYes as asked:
        end = {
            "state": "asks",
            "message": asked.message,
            "remedy": asked.remedy,
            "result": {"questions": list(asked.questions)},
            "upload_state": "waiting",
        }
    except StoreAway:
        if _patiently(lambda: loads.queue_again(store, job_id), job_id):
            start(job_id, job.kind)
            return
        end = _failed(
            StoreAway("The database stopped twice during this job. Nothing was changed.", remedy="Try it again.")
        )
    except loads.Cancelled:
        end = {"state": "cancelled", "message": "Cancelled.", "upload_state": "waiting"}
    except ReefError as problem:
        end = _failed(problem)
    except OSError as problem:
        end = _failed(DiskFull()) if is_full_disk(problem) else _fault(job_id)
    except Exception:
        # The one broad catch: a worker must survive any job, and the page must say so.
        end = _fault(job_id)
    _patiently(lambda: loads.finish_job(store, job_id, **end), job_id)


def _failed(problem: ReefError) -> dict[str, Any]:
    return {"state": "failed", "message": str(problem), "upload_state": "waiting"}


def _fault(job_id: int) -> dict[str, Any]:
    log.exception("job failed", job=job_id)
    return {
        "state": "failed",
        "upload_state": "waiting",
        "message": f"The application failed. Nothing was changed (job {job_id}).",
        "remedy": "The log has the details under that number.",
    }


def _patiently(work: Callable[[], T], job_id: int) -> T:
    """What is noted of a job, however long the database is away: else it would seem to wait, or to run, for ever."""
    for pause in _PAUSES:
        try:
            return work()
        except StoreAway:
            log.warning("the database is away; what is noted of a job waits", job=job_id)
            time.sleep(pause)
    return work()


def _progress(store: Store, job: loads.Job) -> Progress:
    def note(part: float, message: str) -> None:
        loads.note_progress(store, job.id, part, message)

    return note


def _load(config: Config, store: Store, job: loads.Job) -> dict[str, Any]:
    # The worker, or the database's answer, may have been lost after the commit and before it could be noted.
    before = ingest.loaded_by(store, job.id) if job.attempts > 1 else ()
    if before:
        return {"loads": [json_columns.plain(each) for each in before]}
    upload = loads.get_upload(store, job.upload_id or 0)
    known = accounts.all_accounts(store)
    account = next((a for a in known if a.id == job.account_id), None)
    if upload is None or account is None:
        raise NotFound("The file or its account is gone.", remedy="Drop the file again.")
    path = config.uploads / upload.sha256
    if not path.exists():
        raise BadFile("The file is gone.", place=upload.file_name, remedy="Drop it again.")
    person = people.by_id(store, job.person_id) if job.person_id else None
    order = orders.load_order(job)
    done = intake.load(
        store,
        intake.LoadRequest(
            account,
            path,
            upload.file_name,
            order.maps,
            scope=order.scope or None,
            usual=order.usual or None,
            others=[a for a in known if person and person.sees(a.brand_id)],
            confirmed=order.confirmed,
            sha256=upload.sha256,
            person_id=job.person_id,
            upload_id=upload.id,
            job_id=job.id,
        ),
        _progress(store, job),
    )
    return {"loads": [json_columns.plain(each) for each in done]}


def _undo(_: Config, store: Store, job: loads.Job) -> dict[str, Any]:
    batch_id = int(job.request["batch"])
    found = loads.get_batch(store, batch_id)
    if job.attempts > 1 and found is not None and found.undone_at is not None:
        # The worker died after the commit and before it could say so.
        return {"undone": batch_id, "kinds": []}
    done = undo.undo(store, job.account_id or 0, batch_id, progress=_progress(store, job))
    return {"undone": batch_id, "kinds": [json_columns.plain(each) for each in done]}


def _export(config: Config, store: Store, job: loads.Job) -> dict[str, Any]:
    exports.make_workbook(config.exports, dict(job.request), _progress(store, job))
    return {"stem": job.request["stem"]}


def _accept(config: Config, store: Store, job: loads.Job) -> dict[str, Any]:
    return acceptances.accept(config.exports, store, job, _progress(store, job))


def _demo(config: Config, store: Store, job: loads.Job) -> dict[str, Any]:
    note, done = _progress(store, job), 0

    def step(message: str) -> None:
        nonlocal done
        done += 1
        note(min(0.99, done / demo_brands.STEPS), message)

    last_day = date.today() - timedelta(days=1)
    demo_brands.load(config, store, seed=demo_brands.SEED, last_day=last_day, step=step)
    return {}


def _backup(config: Config, store: Store, _: loads.Job) -> dict[str, Any]:
    path = upkeep.back_up(config, store)
    return {"file": path.name, "bytes": path.stat().st_size}


def _market(config: Config, store: Store, job: loads.Job) -> dict[str, Any]:
    """Sends what is to be sent to an account's marketplace, and fetches what is missing or due."""
    account = next((each for each in accounts.all_accounts(store) if each.id == job.account_id), None)
    link = marketplace_links.link(store, job.account_id or 0)
    if account is None or link is None:
        raise NotFound("The account is not linked any more.", remedy="Link it under Accounts.")
    note, loaded = _progress(store, job), 0
    try:
        with marketplaces.connected(config, store, account.id) as market:
            for entry in reversed(sendings.left_open(store)):
                if entry.account_id == account.id:
                    sending.deliver(store, market, entry, note)
            if link.due_at is not None and link.due_at <= utc_now():
                told = market.account()
                fetching.order_missing(store, account, told, new_day=told.today != link.today)
                marketplace_links.note(store, account.id, told.today, simulated=told.simulated)
            loaded = fetching.fetch(config, store, market, account, note)
    except (MarketplaceAway, MarketplaceRefused) as problem:
        marketplace_links.note_trouble(store, account.id, str(problem))
        raise
    return {"loaded": loaded}


_WORK: Final[dict[str, Callable[[Config, Store, loads.Job], dict[str, Any]]]] = {
    "load": _load,
    "undo": _undo,
    "export": _export,
    "accept": _accept,
    "demo": _demo,
    "backup": _backup,
    MARKET: _market,
}


def take_up_orphans(store: Store, queue: Queue) -> int:
    """Jobs whose worker died are queued again, or failed with a reason; how many are queued."""
    present = workers.present(store)
    again = loads.take_back_orphans(store, lambda worker: still_alive(worker, present))
    for job_id, kind in again:
        queue.start(job_id, kind)
    return len(again)


def sweep_jobs(store: Store, queue: Queue) -> None:
    """
    Every minute: jobs of dead workers are taken up; so are those that wait though nothing stands in the queue, since
    whoever noted them died before saying so. What is over of sessions and workers is forgotten.
    """
    try:
        take_up_orphans(store, queue)
        if queue.idle:
            for job_id, kind in loads.left_waiting(store):
                queue.start(job_id, kind)
        sessions.sweep(store)
        workers.sweep(store)
    except StoreAway:
        log.warning("the database is away; jobs are looked after in the next minute")


def sweep_marketplaces(store: Store, queue: Queue) -> None:
    """Every minute: accounts that have something to send or to fetch are dealt with, each by one job at a time."""
    try:
        for account_id in marketplaces.accounts_with_work(store, utc_now()):
            ask_marketplace(store, queue, account_id)
        report_orders.sweep(store)
        loads.forget(store, MARKET)
    except StoreAway:
        log.warning("the database is away; marketplaces are asked in the next minute")


def ask_marketplace(store: Store, queue: Queue, account_id: int) -> None:
    """Has a worker deal with an account's marketplace now, where none does already."""
    if (job_id := loads.start_only(store, MARKET, account_id)) is not None:
        queue.start(job_id, MARKET)


def look_after(config: Config, store: Store, queue: Queue) -> None:
    """Every minute: files that are over go, and a backup that is due is asked for."""
    try:
        upkeep.tidy(config)
        if upkeep.backup_is_due(config) and (job_id := loads.start_only(store, "backup")) is not None:
            queue.start(job_id, "backup")
    except (ReefError, OSError):
        log.exception("files could not be looked after")
