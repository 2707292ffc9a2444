"""What is looked after by itself: backups in time, and files that are over."""

from __future__ import annotations

import shutil
import time
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Final

from nimbus_reef.config import Config
from nimbus_reef.store.record import backup
from nimbus_reef.store.record.engine import Store

_HOUR: Final = 3600.0
_SCRATCH_KEPT: Final = 6 * _HOUR
"""Longer than any load: what lies in scratch then was left by a process that was killed."""
_EXPORTS_KEPT: Final = 24 * _HOUR
_NAMED: Final = "reef-"


def kept_files(config: Config) -> dict[str, Path]:
    """What a backup holds besides the record, by the name it has there."""
    return {"uploads": config.uploads, "secret-key": config.var / "secret-key"}


def back_up(config: Config, store: Store, target: Path | None = None) -> Path:
    """Writes a backup, into the folder of the settings where none is named, and lets the oldest there go."""
    file = target or config.backups / f"{_NAMED}{datetime.now(UTC):%Y%m%d-%H%M%S}.tar.gz"
    kept = {name: path for name, path in kept_files(config).items() if path.exists()}
    backup.make(store.engine, kept, file, config.scratch)
    if target is None:
        for old in _backups(config)[: -config.backups_kept]:
            old.unlink(missing_ok=True)
    return file


def _backups(config: Config) -> list[Path]:
    return sorted(config.backups.glob(f"{_NAMED}*.tar.gz"))


def backup_is_due(config: Config) -> bool:
    """Whether backups are wanted, and the newest is older than it may be."""
    if not config.backup_hours:
        return False
    paths = _backups(config)
    return not paths or time.time() - paths[-1].stat().st_mtime >= config.backup_hours * _HOUR


def tidy(config: Config) -> int:
    """
    Removes files that are over: scratch of processes that died, exports of yesterday, reports kept long enough; how
    many.
    """
    gone = 0
    for path, kept in _over(config):
        if time.time() - path.lstat().st_mtime < kept:
            continue
        if path.is_dir() and not path.is_symlink():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
        gone += 1
    return gone


def _over(config: Config) -> Iterator[tuple[Path, float]]:
    for folder, kept in ((config.scratch, _SCRATCH_KEPT), (config.exports, _EXPORTS_KEPT)):
        if folder.is_dir():
            yield from ((path, kept) for path in folder.iterdir())
    if config.uploads.is_dir():
        for path in config.uploads.iterdir():
            unfinished = path.suffix == ".part"
            yield path, _SCRATCH_KEPT if unfinished else config.uploads_kept_days * 24 * _HOUR
    yield from ((path, _SCRATCH_KEPT) for path in config.snapshots.rglob("*.part"))
