"""Many proposals on their way into the plan: a page writes them to a file at once, a worker accepts them."""

from __future__ import annotations

import json
import uuid
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from nimbus_reef.core.changes import Change
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.proposals import Package
from nimbus_reef.errors import NotFound
from nimbus_reef.store.people import plans
from nimbus_reef.store.record import json_columns
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.loads import Job


def hand_over(folder: Path, packages: Sequence[Package], replacing: Sequence[int]) -> dict[str, Any]:
    """Writes packages for a worker to take up; what the job is asked to do."""
    folder.mkdir(parents=True, exist_ok=True)
    stem = uuid.uuid4().hex
    written = [
        [[json_columns.plain(change), json_columns.plain(promise)] for change, promise in package]
        for package in packages
    ]
    _handed(folder, stem).write_text(json.dumps(written), encoding="utf-8")
    return {"stem": stem, "changes": sum(map(len, packages)), "replacing": list(replacing)}


def _handed(folder: Path, stem: str) -> Path:
    return folder / f"{stem}.packages.json"


def accept(folder: Path, store: Store, job: Job, progress: Callable[[float, str], None]) -> dict[str, Any]:
    """Puts what was handed over into the plan, all of it or nothing; done again, it adds nothing twice."""
    request, source = job.request, _handed(folder, job.request["stem"])
    if not source.exists():
        raise NotFound("These proposals are gone.", remedy="Select the rows and accept them again.")
    packages = [
        [(json_columns.read(change, Change), json_columns.read(promise, Promise)) for change, promise in package]
        for package in json.loads(source.read_text(encoding="utf-8"))
    ]
    count = max(1, request["changes"])
    done = plans.accept_packages(
        store,
        job.account_id or 0,
        job.person_id or 0,
        packages,
        request["replacing"],
        progress=lambda so_far: progress(so_far / count, f"{so_far:,} of {count:,} changes"),
    )
    source.unlink()
    return {"accepted": len(done.planned), "replaced": len(done.taken.replaced)}
