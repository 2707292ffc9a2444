"""The README's first command, on an empty folder: everything up, usable, and gone on Ctrl-C."""

import http.cookiejar
import os
import re
import signal
import subprocess
import sys
import time
import urllib.parse
import urllib.request
from pathlib import Path

import pytest
from tests.pages import token

from nimbus_reef.cli import wiring

pytestmark = pytest.mark.fault


def processes_of(folder):
    """Processes that have the folder on their command line or in their environment."""
    found = []
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            told = (entry / "cmdline").read_bytes() + (entry / "environ").read_bytes()
        except OSError:
            continue
        if str(folder).encode() in told and int(entry.name) != os.getpid():
            found.append(entry.name)
    return found


def test_from_nothing_to_a_page_and_back(tmp_path):
    """`reef up --demo` makes its database, loads the brands, serves a judged page, and stops
    whole, with the ports it wanted taken by others."""
    taken = wiring.free_port("127.0.0.1", 8700)
    environment = os.environ | {
        "REEF_VAR": str(tmp_path), "REEF_PORT": str(taken), "REEF_DATABASE_PORT": "3700",
        "PYTHONPATH": os.pathsep.join(sys.path),
    }  # fmt: skip
    log = tmp_path / "up.log"
    with log.open("wb") as file:
        up = subprocess.Popen(
            [sys.executable, "-m", "nimbus_reef", "up", "--demo"], env=environment, stdout=file, stderr=file,
            start_new_session=True,
        )  # fmt: skip
    try:
        end = time.monotonic() + 600  # so long that only what hangs is ended: the log says at what
        while b"Ctrl-C stops it" not in log.read_bytes():
            assert up.poll() is None, log.read_text()
            assert time.monotonic() < end, log.read_text()
            time.sleep(0.3)
        text = log.read_text()
        assert "Fernhollow: loading search term daily" in text
        base = re.search(r"http://[\d.:]+", text)[0]
        email, password = re.search(r"Sign in as (\S+) with (\S+)", text).groups()
        browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        form = browser.open(f"{base}/sign-in", timeout=10).read().decode()
        fields = {"email": email, "password": password, "csrf_token": token(form)}
        browser.open(f"{base}/sign-in", urllib.parse.urlencode(fields).encode(), timeout=30)
        page = browser.open(f"{base}/targeting/targets", timeout=30).read().decode()
        assert ">costly</span>" in page
        assert oct((tmp_path / "mariadb/secrets.json").stat().st_mode)[-3:] == "600"
    finally:
        os.killpg(up.pid, signal.SIGINT)
        up.wait(timeout=30)
    end = time.monotonic() + 10
    while processes_of(tmp_path) and time.monotonic() < end:
        time.sleep(0.2)
    assert processes_of(tmp_path) == []
