"""Writes docs/settings.md from the one list of settings."""

from pathlib import Path

from nimbus_reef.config import SETTINGS

lines = [
    "# Settings",
    "",
    "Environment variables, read when a process starts. This page is written by `make docs` from `config.py`.",
    "",
    "| variable | default | what it does |",
    "|---|---|---|",
    *(f"| `{s.name}` | {f'`{s.default}`' if s.default else 'empty'} | {s.help} |" for s in SETTINGS),
    "",
]
Path("docs/settings.md").write_text("\n".join(lines))
