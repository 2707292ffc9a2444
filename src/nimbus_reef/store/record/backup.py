"""
A backup: one file that holds all of an installation but for what can be made anew.

A gzipped tar of `manifest.json` (revision of the tables, when it was made), `database.sql` (one consistent moment,
taken while everything goes on), and `files/` (reports taken in, the key that signs sessions). Day files are made anew
from the record.
"""

from __future__ import annotations

import io
import json
import os
import shutil
import subprocess
import tarfile
import tempfile
import zlib
from collections.abc import Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, Final

from sqlalchemy import Engine, inspect, text
from sqlalchemy.engine import URL

from nimbus_reef.errors import BadFile, StoreAway
from nimbus_reef.store.record import schema
from nimbus_reef.store.record.server import program

_MANIFEST, _DUMP, _FILES = "manifest.json", "database.sql", "files/"
_FORMAT: Final = 1
_QUICK: Final = 1
"""gzip's lowest level: a dump shrinks to a fifth all the same, in a third of the time."""


@dataclass(frozen=True, slots=True)
class Manifest:
    """What a backup says of itself: format, revision of the tables, when it was made (UTC)."""

    format: int
    revision: str
    made_at: str


def make(engine: Engine, files: Mapping[str, Path], target: Path, scratch: Path) -> int:
    """
    Writes a backup, whole or not at all; its size in bytes.

    files: folders and single files to keep, by the name that each has in the backup.
    """
    target.parent.mkdir(parents=True, exist_ok=True)
    scratch.mkdir(parents=True, exist_ok=True)
    part = target.with_name(f".{target.name}.part")
    try:
        with (
            tempfile.NamedTemporaryFile(dir=scratch, suffix=".sql") as dump,
            tarfile.open(part, "w:gz", compresslevel=_QUICK) as archive,
        ):
            result = Manifest(_FORMAT, schema.current(engine), datetime.now(UTC).isoformat(timespec="seconds"))
            _client(
                "mariadb-dump",
                engine.url,
                [
                    "--single-transaction",
                    "--quick",
                    "--skip-lock-tables",
                    "--skip-add-locks",
                    "--hex-blob",
                    "--no-tablespaces",
                ],
                stdout=dump,
            )
            _add(archive, _MANIFEST, json.dumps(asdict(result)))
            archive.add(dump.name, _DUMP)
            for name, path in files.items():
                for each in sorted(path.iterdir()) if path.is_dir() else [path]:
                    if each.is_file() and each.suffix != ".part":
                        inside = f"{name}/{each.name}" if path.is_dir() else name
                        archive.add(each, f"{_FILES}{inside}")
        part.replace(target)
    finally:
        part.unlink(missing_ok=True)
    return target.stat().st_size


def _add(archive: tarfile.TarFile, name: str, content: str) -> None:
    data = content.encode()
    entry = tarfile.TarInfo(name)
    entry.size, entry.mode = len(data), 0o600
    archive.addfile(entry, io.BytesIO(data))


def manifest(source: Path) -> Manifest:
    """What a file says it is; BadFile where it is no backup, or one of a later version."""
    try:
        with tarfile.open(source, "r:gz") as archive:
            entry = archive.extractfile(_MANIFEST)
            by_key = json.loads(entry.read()) if entry else {}
        found = Manifest(int(by_key["format"]), str(by_key["revision"]), str(by_key["made_at"]))
    except (OSError, EOFError, KeyError, TypeError, ValueError, tarfile.TarError):
        raise BadFile(
            "This is no backup, or not all of one.", place=source.name, remedy="Use a file that `reef backup` wrote."
        ) from None
    if found.format > _FORMAT or not schema.knows(found.revision):
        raise BadFile(
            "This backup is of a later version of the application.",
            place=source.name,
            remedy="Restore it with that version, or a newer one.",
        )
    return found


def restore(owner: Engine, source: Path, files: Mapping[str, Path], scratch: Path) -> None:
    """
    Puts everything back as the backup has it: tables, files; what was there before is gone. The tables stand at the
    newest revision then.

    Everything is unpacked before anything is touched. Cut off in the middle, it is run again.
    """
    manifest(source)
    scratch.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=scratch) as name:
        unpacked = Path(name)
        _unpack(source, unpacked)
        _drop_all(owner)
        with (unpacked / _DUMP).open("rb") as dump:
            _client("mariadb", owner.url, ["--default-character-set=utf8mb4"], stdin=dump)
        schema.migrate(owner)
        for inside, path in files.items():
            kept = unpacked / _FILES / inside
            if kept.is_dir():
                shutil.rmtree(path, ignore_errors=True)
                shutil.move(kept, path)
            elif kept.is_file():
                shutil.move(kept, path)


def _unpack(source: Path, folder: Path) -> None:
    """Plain files alone, each below the folder, whatever the archive says."""
    try:
        with tarfile.open(source, "r:gz") as archive:
            for entry in archive:
                place = folder / entry.name
                content = archive.extractfile(entry) if entry.isfile() else None
                if content is None or ".." in place.parts or not place.is_relative_to(folder):
                    continue
                place.parent.mkdir(parents=True, exist_ok=True)
                with place.open("wb") as file:
                    shutil.copyfileobj(content, file)
    except (EOFError, zlib.error, tarfile.TarError):
        raise BadFile("This backup is not whole.", place=source.name, remedy="Use another one.") from None
    if not (folder / _DUMP).exists():
        raise BadFile("This backup is not whole.", place=source.name, remedy="Use another one.")


def _drop_all(owner: Engine) -> None:
    with owner.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for name in inspect(owner).get_table_names():
            connection.execute(text(f"DROP TABLE IF EXISTS `{name}`"))
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))


def _client(name: str, url: URL, options: list[str], **streams: Any) -> None:
    """Runs one of MariaDB's own programs on the database; its password never stands on a command line."""
    command = [
        program(name),
        "--no-defaults",
        f"--host={url.host}",
        f"--port={url.port or 3306}",
        "--protocol=tcp",
        f"--user={url.username}",
        *options,
        str(url.database),
    ]
    ran = subprocess.run(  # noqa: S603  its own programs, on its own database
        command, env=os.environ | {"MYSQL_PWD": url.password or ""}, stderr=subprocess.PIPE, check=False, **streams
    )
    if ran.returncode:
        words = ran.stderr.decode(errors="replace").strip()[-300:]
        raise StoreAway(f"{name} stopped: {words}", remedy="See that the database runs, then try it again.")
