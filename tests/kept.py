"""What is dear to make and the same each time, kept between runs by a hash of the code that makes it."""

from __future__ import annotations

import fcntl
import hashlib
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
KEPT = ROOT / "var" / "tests"
MOST = 3
"""Folders of one name that stay: those of the branches that one works on."""
_SOURCES = ("core", "formats", "store", "sim", "jobs", "cli", "errors.py", "config.py")


def digest() -> str:
    """Tells the code and packages that loaded data depend on."""
    found = hashlib.sha256()
    places = [ROOT / "src" / "nimbus_reef" / name for name in _SOURCES]
    files = [each for place in places for each in ([place] if place.is_file() else place.rglob("*.py"))]
    for file in sorted(
        [*files, ROOT / "requirements" / "dev.txt", ROOT / "tests" / "conftest.py", ROOT / "tests" / "sqlite_record.py"]
    ):
        found.update(f"{file.relative_to(ROOT)}\n".encode())
        found.update(file.read_bytes())
    return found.hexdigest()[:16]


def folder(name: str, make: Callable[[Path], None]) -> Path:
    """The folder that `make` fills, made once for this code however many processes ask for it."""
    KEPT.mkdir(parents=True, exist_ok=True)
    with (KEPT / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        made = KEPT / f"{name}-{digest()}"
        if not made.is_dir():
            fresh = KEPT / f"{name}.new"
            shutil.rmtree(fresh, ignore_errors=True)
            fresh.mkdir()
            make(fresh)
            fresh.rename(made)
            old = sorted(KEPT.glob(f"{name}-*"), key=lambda each: each.stat().st_mtime)[:-MOST]
            for each in old:
                shutil.rmtree(each)
        made.touch()
    return made


def copied(source: Path, target: Path) -> None:
    """A copy of a folder, its files sharing their blocks where the disk can."""
    subprocess.run(["cp", "-a", "--reflink=auto", "--sparse=always", f"{source}/.", str(target)], check=True)
