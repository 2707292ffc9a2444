"""Uploads, the jobs that load them, and the batches they became."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from typing import Any, Final
from zoneinfo import ZoneInfo

from sqlalchemy import Connection, delete, exists, func, insert, select, text, update
from sqlalchemy.engine import Row

from nimbus_reef.core.coverage import Span, standing
from nimbus_reef.core.windows import Window, month
from nimbus_reef.errors import Conflict, ReefError
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import SETTINGS_OF, ColumnMap
from nimbus_reef.store.record import json_columns, locks
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import batch, batch_day, job, reject, upload

ATTEMPTS: Final = 2
_OPEN: Final = ("queued", "running")
_SOON: Final = timedelta(seconds=60)


@dataclass(frozen=True, slots=True)
class Upload:
    """A file taken in; `state` is waiting, loading, loaded, failed or discarded."""

    id: int
    account_id: int
    person_id: int | None
    file_name: str
    sha256: str
    size: int
    state: str
    created_at: datetime


@dataclass(frozen=True, slots=True)
class Job:
    """Long work and how far it is. state: queued, running, done, failed, asks, cancelled."""

    id: int
    account_id: int | None
    upload_id: int | None
    person_id: int | None
    kind: str
    state: str
    progress: float
    message: str
    remedy: str
    request: Mapping[str, Any]
    result: Mapping[str, Any]
    attempts: int
    created_at: datetime
    worker: str = ""

    @property
    def open(self) -> bool:
        """True while something may still happen by itself."""
        return self.state in _OPEN


@dataclass(frozen=True, slots=True)
class Batch:
    """What one load put into the record."""

    id: int
    account_id: int
    kind: str
    scope: str
    file_name: str
    sha256: str
    mapping: ColumnMap
    first_day: date | None
    last_day: date | None
    rows: int
    rejected: int
    removed: int
    sums: Mapping[str, int]
    warnings: tuple[str, ...]
    upload_id: int | None
    loaded_at: datetime
    undone_at: datetime | None
    together: int | None = None


def _upload(row: Row[Any]) -> Upload:
    return Upload(row.id, row.account_id, row.person_id, row.file_name, row.sha256, row.size, row.state, row.created_at)


def _job(row: Row[Any]) -> Job:
    return Job(
        row.id,
        row.account_id,
        row.upload_id,
        row.person_id,
        row.kind,
        row.state,
        row.progress,
        row.message,
        row.remedy,
        row.request,
        row.result or {},
        row.attempts,
        row.created_at,
        row.worker or "",
    )


def _batch(row: Row[Any]) -> Batch:
    return Batch(
        row.id,
        row.account_id,
        row.kind,
        row.scope,
        row.file_name,
        row.sha256,
        row.mapping,
        row.first_day,
        row.last_day,
        row.rows,
        row.rejected,
        row.removed,
        row.sums,
        tuple(row.warnings),
        row.upload_id,
        row.loaded_at,
        row.undone_at,
        row.together,
    )


def add_upload(store: Store, *, account_id: int, person_id: int | None, file_name: str, sha256: str, size: int) -> int:
    """Notes a file that was taken in."""
    cursor = store.execute(
        insert(upload).values(
            account_id=account_id,
            person_id=person_id,
            file_name=file_name[-255:],
            sha256=sha256,
            size=size,
            state="waiting",
        )
    )
    return int(cursor.inserted_primary_key[0])  # type: ignore[index]


def get_upload(store: Store, upload_id: int) -> Upload | None:
    """One upload."""
    with store.read() as connection:
        row = connection.execute(select(upload).where(upload.c.id == upload_id)).first()
    return _upload(row) if row else None


_NO_LONGER: Final = {
    "loading": ("is being loaded already", "Wait for it to finish."),
    "loaded": ("was loaded already", "See its batch; to load it again, drop it again."),
    "discarded": ("was discarded", "Drop it again to load it."),
}


def _must_wait(connection: Connection, upload_id: int) -> None:
    """Conflict where a file waits for its mapping no more. Whoever else asks waits until this transaction ends."""
    row = connection.execute(
        select(upload.c.state, upload.c.file_name).where(upload.c.id == upload_id).with_for_update()
    ).first()
    if row is not None and row.state in _NO_LONGER:
        what, remedy = _NO_LONGER[row.state]
        raise Conflict(f"{row.file_name} {what}.", remedy=remedy)


def discard(store: Store, upload_id: int) -> None:
    """Puts a file away that waits for its mapping; Conflict where it does no more."""

    def work(connection: Connection) -> None:
        _must_wait(connection, upload_id)
        connection.execute(update(upload).where(upload.c.id == upload_id).values(state="discarded"))

    store.transact(work)


def waiting_uploads(store: Store, account_id: int) -> list[Upload]:
    """Files taken in that wait for their mapping to be confirmed, newest first."""
    with store.read() as connection:
        rows = connection.execute(
            select(upload)
            .where(upload.c.account_id == account_id, upload.c.state == "waiting")
            .order_by(upload.c.id.desc())
            .limit(50)
        )
        return [_upload(row) for row in rows]


def start_job(
    store: Store, *, kind: str, account_id: int | None, person_id: int | None, upload_id: int | None, request: object
) -> int:
    """Notes long work to be done; an upload is loaded by one job at a time."""

    def work(connection: Connection) -> int:
        if upload_id is not None:
            _must_wait(connection, upload_id)
            connection.execute(update(upload).where(upload.c.id == upload_id).values(state="loading"))
        cursor = connection.execute(
            insert(job).values(
                kind=kind,
                account_id=account_id,
                person_id=person_id,
                upload_id=upload_id,
                state="queued",
                request=json_columns.plain(request),
                message="waiting for its turn",
            )
        )
        return int(cursor.inserted_primary_key[0])  # type: ignore[index]

    return store.transact(work)


def get_job(store: Store, job_id: int) -> Job | None:
    """One job."""
    with store.read() as connection:
        row = connection.execute(select(job).where(job.c.id == job_id)).first()
    return _job(row) if row else None


def recent_jobs(store: Store, account_id: int, limit: int = 8) -> list[tuple[Job, str]]:
    """
    The newest loads and undos of an account with the names of their files; of a file that was tried
    again the last try.
    """
    later = job.alias("later")
    tried_again = exists().where(later.c.upload_id == job.c.upload_id, later.c.id > job.c.id)
    with store.read() as connection:
        rows = connection.execute(
            select(job, upload.c.file_name)
            .outerjoin(upload, upload.c.id == job.c.upload_id)
            .where(job.c.account_id == account_id, job.c.kind.in_(("load", "undo")), ~tried_again)
            .order_by(job.c.id.desc())
            .limit(limit)
        ).all()
    jobs = [(_job(row), row.file_name) for row in rows]
    return [(each, name or each.request.get("file", "")) for each, name in jobs]


def claim_job(store: Store, job_id: int, worker: str, *, once_more: bool = False) -> Job | None:
    """
    Takes a queued job; None when it is not to be had (done, or another's).

    once_more: an earlier try went unanswered, so that the worker may have it already.
    """
    taken = store.execute(
        update(job)
        .where(job.c.id == job_id, job.c.state == "queued")
        .values(state="running", worker=worker, attempts=job.c.attempts + 1, message="reading the file")
    )
    found = get_job(store, job_id)
    if taken.rowcount or found is None:
        return found
    return found if once_more and (found.state, found.worker) == ("running", worker) else None


class Cancelled(ReefError):
    """Somebody does not want this job any more."""


def note_progress(store: Store, job_id: int, progress: float, message: str) -> None:
    """Says how far a job is; Cancelled where nobody wants it any more."""

    def work(connection: Connection) -> bool:
        noted = connection.execute(
            update(job)
            .where(job.c.id == job_id, job.c.state == "running")
            .values(progress=progress, message=message[:1024])
        )
        return bool(noted.rowcount) or _state(connection, job_id) == "running"

    if not store.transact(work):
        raise Cancelled("It was cancelled.")


def _state(connection: Connection, job_id: int) -> str | None:
    return connection.execute(select(job.c.state).where(job.c.id == job_id)).scalar()


def cancel(store: Store, job_id: int) -> bool:
    """Takes back what was asked for, as long as it is not done; False where it is."""
    done = store.execute(
        update(job)
        .where(job.c.id == job_id, job.c.state.in_(_OPEN))
        .values(state="cancelled", message="It was cancelled.", finished_at=utc_now())
    )
    return bool(done.rowcount)


def queue_again(store: Store, job_id: int) -> bool:
    """Puts a job back that could not be done now; False where that was tried often enough."""
    done = store.execute(
        update(job)
        # Queued already where an earlier try went unanswered.
        .where(job.c.id == job_id, job.c.state.in_(_OPEN), job.c.attempts < ATTEMPTS)
        .values(state="queued", message="the database was away; trying again")
    )
    return bool(done.rowcount)


def left_waiting(store: Store) -> list[tuple[int, str]]:
    """Jobs that have waited for a minute and more, with their kinds."""
    with store.read() as connection:
        rows = connection.execute(
            select(job.c.id, job.c.kind)
            .where(job.c.state == "queued", job.c.created_at < utc_now() - _SOON)
            .order_by(job.c.id)
        )
        return [(row.id, row.kind) for row in rows]


def open_job(store: Store, kind: str, account_id: int) -> Job | None:
    """The job of a kind that an account has open; None where it has none."""
    query = select(job).where(job.c.kind == kind, job.c.account_id == account_id, job.c.state.in_(_OPEN))
    with store.read() as connection:
        row = connection.execute(query.order_by(job.c.id.desc())).first()
    return _job(row) if row else None


def forget(store: Store, kind: str) -> None:
    """Forgets jobs of a kind that were over a day ago."""
    old = job.c.created_at < utc_now() - timedelta(days=1)
    store.execute(delete(job).where(job.c.kind == kind, job.c.state.not_in(_OPEN), old))


def states(store: Store) -> dict[tuple[str, str], int]:
    """How many jobs of each kind stand in each state."""
    with store.read() as connection:
        rows = connection.execute(select(job.c.kind, job.c.state, func.count()).group_by(job.c.kind, job.c.state))
        return {(kind, state): count for kind, state, count in rows}


def start_only(store: Store, kind: str, account_id: int | None = None) -> int | None:
    """
    Notes work of the installation's own, or of an account's, where none of its kind is open there; None where one is,
    another machine's too.
    """

    def work(connection: Connection) -> int | None:
        locks.take(connection, locks.NO_ACCOUNT, kind)
        own = job.c.account_id.is_not_distinct_from(account_id)
        result = select(job.c.id).where(job.c.kind == kind, own, job.c.state.in_(_OPEN)).limit(1)
        if connection.execute(result).first() is not None:
            return None
        cursor = connection.execute(
            insert(job).values(
                kind=kind, account_id=account_id, state="queued", request={}, message="waiting for its turn"
            )
        )
        return int(cursor.inserted_primary_key[0])  # type: ignore[index]

    return store.transact(work)


def open_jobs(store: Store, person_id: int, kind: str) -> int:
    """How many jobs of a kind somebody has that are not done."""
    with store.read() as connection:
        count = connection.execute(
            select(func.count()).where(job.c.person_id == person_id, job.c.kind == kind, job.c.state.in_(_OPEN))
        ).scalar()
    return int(count or 0)


def finish_job(
    store: Store,
    job_id: int,
    *,
    state: str,
    message: str = "",
    remedy: str = "",
    result: Mapping[str, Any] | None = None,
    upload_state: str | None = None,
) -> None:
    """Ends a job, and moves its upload on in the same breath."""

    def work(connection: Connection) -> None:
        connection.execute(
            update(job)
            .where(job.c.id == job_id)
            .values(
                state=state,
                message=message[:1024],
                remedy=remedy[:1024],
                progress=1.0 if state == "done" else job.c.progress,
                result=dict(result) if result is not None else None,
                finished_at=utc_now(),
            )
        )
        if upload_state:
            connection.execute(
                text("UPDATE upload u JOIN job j ON j.upload_id = u.id SET u.state = :state WHERE j.id = :job"),
                {"state": upload_state, "job": job_id},
            )

    store.transact(work)


def take_back_orphans(store: Store, alive: Callable[[str | None], bool]) -> list[tuple[int, str]]:
    """
    Jobs whose worker is gone: queued once more, or failed when that was tried already.

    alive: tells of a worker's name whether it still runs. Returns those queued again, with their kinds.
    """

    def work(connection: Connection) -> list[tuple[int, str]]:
        again = []
        rows = connection.execute(select(job).where(job.c.state == "running").with_for_update()).all()
        for row in rows:
            if alive(row.worker):
                continue
            if row.attempts < ATTEMPTS:
                again.append((row.id, row.kind))
                values = {"state": "queued", "message": "its worker stopped; trying again"}
            else:
                values = {
                    "state": "failed",
                    "message": "The worker stopped twice during this job. Nothing was changed.",
                    "remedy": "Try it again; the log names the cause.",
                }
                connection.execute(update(upload).where(upload.c.id == row.upload_id).values(state="waiting"))
            connection.execute(update(job).where(job.c.id == row.id).values(**values))
        return again

    return store.transact(work)


def batches(store: Store, account_id: int, limit: int = 30) -> list[Batch]:
    """The newest batches of an account."""
    with store.read() as connection:
        rows = connection.execute(
            select(batch).where(batch.c.account_id == account_id).order_by(batch.c.id.desc()).limit(limit)
        )
        return [_batch(row) for row in rows]


def kinds_with_reports(store: Store, account_id: int) -> frozenset[str]:
    """The kinds of settings of which the account has a report. Bids taken from a performance report do not count."""
    with store.read() as connection:
        rows = connection.execute(
            select(batch.c.kind, batch.c.mapping)
            .where(
                batch.c.account_id == account_id,
                batch.c.undone_at.is_(None),
                batch.c.kind.in_(set(SETTINGS_OF.values())),
            )
            .distinct()
        ).all()
    return frozenset(row.kind for row in rows if not row.mapping.beside)


def newest_batches(store: Store) -> dict[int, int]:
    """The newest batch of each account, by its id."""
    with store.read() as connection:
        rows = connection.execute(select(batch.c.account_id, func.max(batch.c.id)).group_by(batch.c.account_id))
        return {row[0]: row[1] for row in rows}


def get_batch(store: Store, batch_id: int) -> Batch | None:
    """One batch."""
    with store.read() as connection:
        row = connection.execute(select(batch).where(batch.c.id == batch_id)).first()
    return _batch(row) if row else None


def of_job(store: Store, job_id: int) -> list[Batch]:
    """What a job has put into the record: all that it was to put there, or nothing."""
    with store.read() as connection:
        rows = connection.execute(select(batch).where(batch.c.job_id == job_id).order_by(batch.c.id))
        return [_batch(row) for row in rows]


def of_one_file(store: Store, found: Batch) -> list[Batch]:
    """All batches of one account that a file became, one a kind; they are undone together."""
    with store.read() as connection:
        head = found.together or found.id
        rows = connection.execute(
            select(batch)
            .where(batch.c.account_id == found.account_id, (batch.c.together == head) | (batch.c.id == head))
            .order_by(batch.c.id)
        )
        return [_batch(row) for row in rows]


def same_file(store: Store, account_id: int, sha256: str) -> Batch | None:
    """The newest batch made from the very same bytes that still stands."""
    with store.read() as connection:
        row = connection.execute(
            select(batch)
            .where(batch.c.account_id == account_id, batch.c.sha256 == sha256, batch.c.undone_at.is_(None))
            .order_by(batch.c.id.desc())
        ).first()
    return _batch(row) if row else None


def remembered(store: Store, account_id: int, signature: str) -> list[Batch]:
    """
    The newest batches from a table with the same headers, one a kind: their mappings are the best
    guess. Those of an older load than the newest are left out.
    """
    with store.read() as connection:
        rows = connection.execute(
            select(batch)
            .where(batch.c.account_id == account_id, batch.c.signature == signature)
            .order_by(batch.c.id.desc())
            .limit(30)
        ).all()
    found = [_batch(row) for row in rows]
    if not found:
        return []
    head = found[0].together or found[0].id
    return [each for each in reversed(found) if (each.together or each.id) == head]


def rejects(store: Store, batch_id: int) -> list[tuple[int, str, str, str]]:
    """Line, column, value and reason of every row that was turned away."""
    with store.read() as connection:
        rows = connection.execute(
            select(reject.c.line, reject.c.column, reject.c.value, reject.c.reason)
            .where(reject.c.batch_id == batch_id)
            .order_by(reject.c.line, reject.c.id)
        )
        return [(row.line, row.column, row.value, row.reason) for row in rows]


def spans(store: Store, account_id: int, zone: str) -> dict[str, list[Span]]:
    """
    What is held of each kind, as the days and sums that its batches speak for.

    zone: the account's, in which the day of loading counts.
    """
    with store.read() as connection:
        batches_standing = connection.execute(
            select(batch)
            .where(batch.c.account_id == account_id, batch.c.undone_at.is_(None), batch.c.first_day.is_not(None))
            .order_by(batch.c.id)
        ).all()
        pairs = connection.execute(
            select(batch_day.c.batch_id, batch_day.c.first_day, batch_day.c.day, batch_day.c.undone)
            .join(batch, batch.c.id == batch_day.c.batch_id)
            .where(
                batch.c.account_id == account_id,
                batch_day.c.told,
                batch_day.c.part == 0,
                batch_day.c.undone | (batch_day.c.first_day < batch_day.c.day),
            )
        ).all()
    without: dict[int, set[date]] = defaultdict(set)
    blocks: dict[int, list[Window]] = defaultdict(list)
    for row in pairs:
        if row.first_day < row.day:
            blocks[row.batch_id] += [] if row.undone else [Window(row.first_day, row.day)]
        else:
            without[row.batch_id].add(row.day)
    spoken: dict[str, list[Span]] = defaultdict(list)
    for row in batches_standing:
        loaded = row.loaded_at.replace(tzinfo=UTC).astimezone(ZoneInfo(zone)).date()
        if row.id in blocks:
            spoken[row.kind] += [Span(row.scope, each, loaded, block=each.days > 1) for each in blocks[row.id]]
            continue
        days = Window(row.first_day, _whole(row.kind, row.last_day))
        spoken[row.kind].append(Span(row.scope, days, loaded, frozenset(without[row.id])))
    return {kind: standing(each) for kind, each in spoken.items()}


def _whole(kind: str, last: date) -> date:
    """The last day of the week or month that begins on `last`, for kinds that come by these."""
    column = KINDS[kind].day_column
    if column == "week":
        return last + timedelta(days=6)
    return month(last.year, last.month).last if column == "month" else last


@dataclass(frozen=True, slots=True)
class HeldReport:
    """Which days of one kind an account holds."""

    kind: str
    first_day: date
    last_day: date
    days: int
    rows: int


def held_reports(store: Store, account_id: int) -> list[HeldReport]:
    """What the record holds of an account, by kind."""
    with store.read() as connection:
        rows = connection.execute(
            text(
                "SELECT kind, MIN(day) AS first_day, MAX(day) AS last_day, COUNT(*) AS days, "
                "SUM(`rows`) AS held FROM day_version WHERE account_id = :account AND `rows` > 0 "
                "GROUP BY kind ORDER BY kind"
            ),
            {"account": account_id},
        )
        return [HeldReport(r.kind, r.first_day, r.last_day, r.days, int(r.held)) for r in rows]
