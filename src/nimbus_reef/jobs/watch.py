"""The watched folder: a report put there is loaded as its source was before, or waits for a mapping."""

from __future__ import annotations

import os
import time
import uuid
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import structlog

from nimbus_reef.errors import ReefError
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.orders import LoadOrder
from nimbus_reef.store.people import accounts
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.engine import Store

log = structlog.get_logger("jobs")

QUIET_SECONDS: Final = 5.0
"""A file that was written to more recently may still be on its way."""
_TAKING: Final = ".taking-"
_FORGOTTEN_AFTER: Final = 600.0
"""Seconds after which whoever took a file is taken to be gone."""
DONE: Final = "taken"


@dataclass(frozen=True, slots=True)
class Folders:
    """The inbox, with one folder an account, and where files taken in are kept."""

    inbox: Path
    uploads: Path


def sweep(store: Store, folders: Folders, start: Callable[[int, str], None]) -> int:
    """
    Takes in every quiet file of every account's folder; how many. start: asks a worker.

    Several machines may sweep one folder: whoever renames a file first has it. A file that cannot be taken in now (a
    full disk, the database away) gets its name back and is tried again; so is one whose taker died. A link is refused:
    it could lead to any file that the application can read.
    """
    taken = 0
    for account in accounts.all_accounts(store):
        folder = folders.inbox / account.key
        (folder / DONE).mkdir(parents=True, exist_ok=True)
        _give_back_forgotten(folder)
        for file in sorted(folder.iterdir()):
            mine = folder / f"{_TAKING}{uuid.uuid4().hex[:12]}-{file.name}"
            try:
                if file.name.startswith(".") or not (file.is_symlink() or file.is_file()) or _still_written(file):
                    continue
                file.rename(mine)
                # From now on it counts as touched, however old it is: see `_give_back_forgotten`.
                os.utime(mine, follow_symlinks=False)
            except FileNotFoundError:
                continue
            try:
                _take(store, account, mine, shown(file.name), folders.uploads, start)
            except (ReefError, OSError):
                log.exception("a file of the watched folder could not be taken in", file=shown(file.name))
                mine.rename(file)
                continue
            mine.rename(folder / DONE / f"{time.strftime('%Y%m%d-%H%M%S')}-{file.name}")
            taken += 1
    return taken


def shown(name: str) -> str:
    """A file's name as text, whatever bytes it is made of."""
    return name.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def _give_back_forgotten(folder: Path) -> None:
    """Gives files their names back whose taker died over them."""
    for file in folder.glob(f"{_TAKING}*"):
        with suppress(FileNotFoundError):
            if time.time() - file.lstat().st_mtime > _FORGOTTEN_AFTER:
                file.rename(folder / file.name.removeprefix(_TAKING).partition("-")[2])


def _still_written(file: Path) -> bool:
    return time.time() - file.lstat().st_mtime < QUIET_SECONDS


def _take(
    store: Store, account: Account, file: Path, name: str, uploads: Path, start: Callable[[int, str], None]
) -> None:
    if file.is_symlink():
        link = loads.add_upload(store, account_id=account.id, person_id=None, file_name=name, sha256="0" * 64, size=0)
        _refuse(store, account, link, "This is a link, not a file. Put the file itself into the folder.")
        return
    kept = intake.keep_file(uploads, file)
    upload_id = loads.add_upload(
        store, account_id=account.id, person_id=None, file_name=name, sha256=kept.sha256, size=kept.size
    )
    try:
        looked = intake.inspect(store, account, kept.path, name, kept.sha256)
    except ReefError as problem:
        _refuse(store, account, upload_id, str(problem))
        return
    if not looked.remembered or looked.before is not None:
        # Nobody has said yet how such a file is read, or it is held already: it waits to be looked at.
        return
    job_id = loads.start_job(
        store,
        kind="load",
        account_id=account.id,
        person_id=None,
        upload_id=upload_id,
        request=LoadOrder(tuple(looked.known), usual=looked.scope),
    )
    start(job_id, "load")


def _refuse(store: Store, account: Account, upload_id: int, message: str) -> None:
    """A file that cannot be read is told in the queue, like one that was dropped there."""
    job_id = loads.start_job(store, kind="load", account_id=account.id, person_id=None, upload_id=upload_id, request={})
    loads.finish_job(store, job_id, state="failed", message=message, upload_state="discarded")
