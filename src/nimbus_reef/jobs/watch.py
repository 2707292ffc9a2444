"""The watched folder: a report put there is loaded as its source was before, or waits for a mapping."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Final

from nimbus_reef.errors import ReefError
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.orders import LoadOrder
from nimbus_reef.store.people import accounts
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.engine import Store

QUIET_SECONDS: Final = 5.0
"""A file that was written to more recently may still be on its way."""
_TAKING: Final = ".taking-"
DONE: Final = "taken"


@dataclass(frozen=True, slots=True)
class Folders:
    """The inbox, with one folder an account, and where files taken in are kept."""

    inbox: Path
    uploads: Path


def sweep(store: Store, folders: Folders, start: Callable[[int], None]) -> int:
    """
    Takes in every quiet file of every account's folder; how many. start: asks a worker.

    Several machines may sweep one folder: whoever renames a file first has it.
    """
    taken = 0
    for account in accounts.all_accounts(store):
        folder = folders.inbox / account.key
        (folder / DONE).mkdir(parents=True, exist_ok=True)
        for file in sorted(folder.iterdir()):
            mine = folder / f"{_TAKING}{uuid.uuid4().hex}"
            try:
                if file.name.startswith(".") or not file.is_file() or _still_written(file):
                    continue
                file.rename(mine)
            except FileNotFoundError:
                continue
            _take(store, account, mine, file.name, folders.uploads, start)
            mine.rename(folder / DONE / f"{time.strftime('%Y%m%d-%H%M%S')}-{file.name}")
            taken += 1
    return taken


def _still_written(file: Path) -> bool:
    return time.time() - file.stat().st_mtime < QUIET_SECONDS


def _take(
    store: Store, account: Account, file: Path, name: str, uploads: Path, start: Callable[[int], None]
) -> None:
    kept = intake.keep_file(uploads, file)
    upload_id = loads.add_upload(
        store, account_id=account.id, person_id=None, file_name=name, sha256=kept.sha256, size=kept.size
    )
    try:
        looked = intake.look(store, account, kept.path, name, kept.sha256)
    except ReefError as problem:
        _refuse(store, account, upload_id, str(problem))
        return
    if not looked.remembered or looked.before is not None:
        # Nobody has said yet how such a file is read, or it is held already: it waits to be looked at.
        return
    job_id = loads.start_job(
        store, kind="load", account_id=account.id, person_id=None, upload_id=upload_id,
        request=LoadOrder(tuple(looked.known), usual=looked.scope),
    )  # fmt: skip
    start(job_id)


def _refuse(store: Store, account: Account, upload_id: int, message: str) -> None:
    """A file that cannot be read is told in the queue, like one that was dropped there."""
    job_id = loads.start_job(
        store, kind="load", account_id=account.id, person_id=None, upload_id=upload_id, request={}
    )
    loads.finish_job(store, job_id, state="failed", message=message, upload_state="discarded")
