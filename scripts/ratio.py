"""Prints how many lines of the code are tests (aim: a quarter to a third)."""

import subprocess
from pathlib import Path

KINDS = {".py", ".html", ".js", ".css", ".mjs", ".sh"}
names = subprocess.run(["git", "ls-files"], capture_output=True, text=True, check=True).stdout.splitlines()
lines = {"tests": 0, "code": 0}
for name in names:
    path = Path(name)
    if path.suffix in KINDS and not {"static", "versions"} & set(path.parts):
        count = sum(1 for line in path.read_text().splitlines() if line.strip())
        lines["tests" if path.parts[0] == "tests" else "code"] += count
print(f"{lines['tests']} lines of tests to {lines['code']} of code: {lines['tests'] / lines['code']:.0%}")
