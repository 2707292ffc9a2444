"""The README's first command, on an empty folder: everything up, usable, and gone on Ctrl-C."""

import http.cookiejar
import os
import re
import signal
import socket
import subprocess
import sys
import time
import urllib.parse
import urllib.request
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

import pytest
from tests.pages import token

from nimbus_reef import config
from nimbus_reef.cli import serving, wiring
from nimbus_reef.store.record.server import Server

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


@contextmanager
def slow_senders(base, count=40):
    """
    So many who begin to send a form and stop in the middle of it; one who wants to send 200 MB is refused before a byte
    of it came.
    """
    host, _, port = base.removeprefix("http://").partition(":")
    head = (
        "POST /sign-in HTTP/1.1\r\nHost: localhost\r\nContent-Type:"
        " application/x-www-form-urlencoded\r\nContent-Length: {}\r\n\r\n"
    )
    with ExitStack() as stack:
        senders = [
            stack.enter_context(socket.create_connection((host, int(port)), timeout=10)) for _ in range(count + 1)
        ]
        senders[0].sendall(head.format(200_000_000).encode())
        assert b" 413 " in senders[0].recv(64)
        for each in senders[1:]:
            each.sendall(head.format(5_000).encode() + b"email=a")
        yield


def told_by(folder, program):
    """Numbers of a program's processes, by their command lines."""
    sign = "mariadbd" if program == "database" else f"nimbus_reef\0{program}"
    return {
        number for number in processes_of(folder) if sign.encode() in (Path("/proc") / number / "cmdline").read_bytes()
    }


def dies_and_comes_back(folder, program, base):
    """Killed, it is started again after a pause; the others go on."""
    others = {each: told_by(folder, each) for each in ("worker", "database", "serve") if each != program}
    before = told_by(folder, program)
    for number in before:
        os.kill(int(number), signal.SIGKILL)
    end = time.monotonic() + 60
    while time.monotonic() < end:
        time.sleep(0.3)
        if told_by(folder, program) - before:
            with suppress(OSError):
                urllib.request.urlopen(f"{base}/ready", timeout=5).close()
                break
    else:
        pytest.fail(f"{program} did not come back")
    assert {each: told_by(folder, each) for each in others} == others


def readable_by_others(folder):
    """Files and folders below one that others may read; what goes while one looks, others cannot read either."""
    for home, folders, files in os.walk(folder):
        for path in (Path(home) / name for name in folders + files):
            with suppress(FileNotFoundError):
                if path.lstat().st_mode & 0o077 and not path.is_socket():
                    yield path


def started(environment, log, *options):
    with log.open("wb") as file:
        return subprocess.Popen(
            [sys.executable, "-m", "nimbus_reef", "up", *options],
            env=environment,
            stdout=file,
            stderr=file,
            start_new_session=True,
        )


def ready(up, log):
    """What it printed, once it serves."""
    end = time.monotonic() + 600  # so long that only what hangs is ended: the log says at what
    while b"Ctrl-C stops it" not in log.read_bytes():
        assert up.poll() is None, log.read_text()
        assert time.monotonic() < end, log.read_text()
        time.sleep(0.3)
    return log.read_text()


def assert_all_end(folder):
    end = time.monotonic() + 20
    while processes_of(folder) and time.monotonic() < end:
        time.sleep(0.2)
    assert processes_of(folder) == []


def test_from_nothing_to_a_page_and_back(tmp_path):
    """`reef up --demo` makes its database, loads the brands, serves a judged page, and stops
    whole, with the ports it wanted taken by others."""
    taken = wiring.free_port("127.0.0.1", 8700)
    environment = os.environ | {
        "REEF_VAR": str(tmp_path),
        "REEF_PORT": str(taken),
        "REEF_DATABASE_PORT": "3700",
        "REEF_DEMO_DAYS": "45",
        "PYTHONPATH": os.pathsep.join(sys.path),
    }
    log = tmp_path / "up.log"
    up = started(environment, log, "--demo")
    try:
        text = ready(up, log)
        assert "Fernhollow: loading search term daily" in text
        base = re.search(r"http://[\d.:]+", text)[0]
        email, told = re.search(r"Sign in as (\S+) with the password in (\S+)", text).groups()
        password = Path(told).read_text()
        assert password not in text, "a log outlives whoever reads it"
        browser = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
        form = browser.open(f"{base}/sign-in", timeout=10).read().decode()
        fields = {"email": email, "password": password, "csrf_token": token(form)}
        browser.open(f"{base}/sign-in", urllib.parse.urlencode(fields).encode(), timeout=30)
        page = browser.open(f"{base}/targeting/targets", timeout=30).read().decode()
        assert ">above target</span>" in page
        assert set(readable_by_others(tmp_path)) <= {log}, "what it writes is its own"
        with slow_senders(base):
            for _ in range(4):  # both processes answer
                urllib.request.urlopen(f"{base}/alive", timeout=10).close()
        noted = (tmp_path / "mariadb" / "port").read_text()
        second = subprocess.run(
            [sys.executable, "-m", "nimbus_reef", "up", "--demo"],
            env=environment,
            capture_output=True,
            text=True,
            timeout=60,
        )
        assert second.returncode == 1
        assert f"already runs in {tmp_path}: process {up.pid}, {base}" in second.stderr
        assert (tmp_path / "mariadb" / "port").read_text() == noted
        for program in ("worker", "database", "serve"):
            dies_and_comes_back(tmp_path, program, base)
    finally:
        os.killpg(up.pid, signal.SIGINT)
        up.wait(timeout=30)
    assert_all_end(tmp_path)


def test_a_killed_start_takes_its_programs_with_it_and_the_next_one_starts(tmp_path):
    environment = os.environ | {
        "REEF_VAR": str(tmp_path),
        "REEF_PORT": "8740",
        "REEF_DATABASE_PORT": "3740",
        "PYTHONPATH": os.pathsep.join(sys.path),
    }
    log = tmp_path / "up.log"
    for stop in (signal.SIGKILL, signal.SIGINT):
        up = started(environment, log)
        try:
            ready(up, log)
        finally:
            up.send_signal(stop)
            up.wait(timeout=30)
        assert_all_end(tmp_path)


def test_a_database_whose_port_was_taken_since_it_was_chosen_takes_the_next(tmp_path, monkeypatch):
    conf = config.load({"REEF_VAR": str(tmp_path), "REEF_DATABASE_PORT": str(wiring.free_port("127.0.0.1", 3780))})
    monkeypatch.setattr(serving.server, "prepare", lambda folder, port: Server(folder, port, "a", "b"))
    monkeypatch.setattr(serving, "_ENDING", 0.2)
    (tmp_path / "mariadb").mkdir()
    commands = []
    monkeypatch.setattr(serving.os, "execve", lambda _, command, environment: commands.append(command))
    with socket.create_server(("127.0.0.1", conf.database_port)):
        serving.run_database(conf)
    assert f"--port={conf.database_port + 1}" in commands[0]
    assert (tmp_path / "mariadb" / "port").read_text() == str(conf.database_port + 1)
