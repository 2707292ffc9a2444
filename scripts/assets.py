"""
Tells whether the built files in static/ belong to the sources they were built from.

--stamp writes the checksums of sources and built files to static/built.json, --check
compares. So a check needs no npm; where there is npm, CI builds anew and compares too.
"""

from __future__ import annotations

import hashlib
import json
import sys
from pathlib import Path

WEB = Path("src/nimbus_reef/web")
STATIC = WEB / "static"
STAMP = STATIC / "built.json"
BUILT = ("reef.min.css", "reef.min.js", "charts.min.js", "early.min.js", "archivo.woff2", "archivo-ext.woff2")


def digest(paths: list[Path]) -> str:
    """One checksum over names and contents."""
    whole = hashlib.sha256()
    for path in sorted(paths):
        whole.update(path.as_posix().encode() + b"\0" + path.read_bytes())
    return whole.hexdigest()


def state() -> dict[str, str]:
    """Checksums of what the build reads and of what it wrote."""
    sources = [
        *WEB.glob("assets/*"),
        *WEB.rglob("templates/**/*.html"),
        Path("package.json"),
        Path("package-lock.json"),
    ]
    return {"sources": digest(sources), "built": digest([STATIC / name for name in BUILT])}


def main() -> int:
    """Stamps or checks."""
    if sys.argv[1:] == ["--stamp"]:
        STAMP.write_text(json.dumps(state(), indent=1) + "\n")
        return 0
    if json.loads(STAMP.read_text()) != state():
        print("static/ is not what its sources build to: run `make assets` and commit the result.")
        return 1
    return 0


sys.exit(main())
