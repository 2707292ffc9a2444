"""
A worker on call: what takes a web process long to work out, days that nobody asked for before, it works out for it.

The web processes of a machine ask over a socket beside the disk cache and take the result from there. So they stay as
small and as quick for others as they are; where no worker answers, they do it themselves.
"""

from __future__ import annotations

import fcntl
import os
import pickle
import socket
import socketserver
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from threading import Event, Lock
from typing import Final

import structlog

from nimbus_reef.analysis import ahead
from nimbus_reef.store.reading.disk_cache import packed, unpacked
from nimbus_reef.store.reading.facts import Asked, Facts
from nimbus_reef.store.record import snapshot_reads

log = structlog.get_logger("on call")

_SOCKET: Final = "on-call"
_DONE: Final = b"done"
_LONGEST: Final = 1 << 20
"""Bytes of a question; a look is a few hundred."""
_SENDS_WITHIN, _PATIENCE = 5.0, 300.0
"""Seconds in which a question has to be sent, and for which an answer is waited for."""
_LOOKS_EVERY: Final = 2.0


@contextmanager
def _address(folder: Path) -> Iterator[str]:
    """Where the socket lies, by a short name: the system allows hardly more than a hundred characters."""
    opened = os.open(folder, os.O_PATH | os.O_DIRECTORY)
    try:
        yield f"/proc/self/fd/{opened}/{_SOCKET}"
    finally:
        os.close(opened)


def ask(folder: Path, asked: Asked) -> bool:
    """Has a worker of this machine put a result on the disk cache in a folder; False where none did."""
    try:
        with _address(folder) as address, socket.socket(socket.AF_UNIX) as line:
            line.settimeout(_PATIENCE)
            line.connect(address)
            line.sendall(packed(asked))
            line.shutdown(socket.SHUT_WR)
            return line.recv(len(_DONE), socket.MSG_WAITALL) == _DONE
    except OSError:
        # No worker, or one that went in the middle of it.
        return False
    except (TypeError, AttributeError, pickle.PicklingError):
        log.exception("cannot be asked for", what=asked[0])
        return False


class HelperProcess:
    """The worker's side. facts: with the disk cache in `folder`, and no helper of their own."""

    def __init__(self, facts: Facts, folder: Path) -> None:
        self._facts, self._folder = facts, folder
        # What a page shows at once does not wait for verdicts; more at once than one of each would take memory, and no
        # less time.
        self._lanes = {shown_first: Lock() for shown_first in (True, False)}

    @property
    def busy(self) -> bool:
        """Whether something is being worked out."""
        return any(lane.locked() for lane in self._lanes.values())

    def keep_on(self, done: Event) -> None:
        """Until it is done: answers; one worker of a machine."""
        while not done.is_set():
            try:
                with self._alone(), _address(self._folder) as address:
                    self._answer(address, done)
            except BlockingIOError:
                # Another worker is on call; should that die, its lock goes with it.
                pass
            except OSError:
                log.exception("nobody is on call")
            done.wait(_LOOKS_EVERY)

    def _answer(self, address: str, done: Event) -> None:
        """Until it is done, or somebody deleted the folder, as they may at any time."""
        place = self._folder / _SOCKET
        # Whoever held it is gone: what is left of theirs leads nowhere.
        place.unlink(missing_ok=True)
        with _Line(address, self) as line:
            entries = place.stat()
            while not done.is_set() and place.exists() and place.stat().st_ino == entries.st_ino:
                line.handle_request()

    @contextmanager
    def _alone(self) -> Iterator[None]:
        self._folder.mkdir(parents=True, exist_ok=True)
        with (self._folder / f"{_SOCKET}.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield

    def work_out(self, content: bytes) -> bool:
        """Puts what is asked on the disk cache; whether it lies there."""
        begun, moment = time.perf_counter(), snapshot_reads.begin()
        try:
            what, of = unpacked(content)
            make = ahead.ASKED[what]
            with self._lanes[what in ahead.SUMS]:
                make(self._facts, *of)
            assert self._facts.disk_cache is not None
            self._facts.disk_cache.settle()
        except Exception:
            # Whoever asked works it out by themselves, and says what is wrong with it where somebody reads it.
            log.exception("could not be worked out")
            return False
        finally:
            snapshot_reads.end(moment)
        log.debug("worked out", what=what, seconds=round(time.perf_counter() - begun, 2))
        return True


class _Line(socketserver.ThreadingUnixStreamServer):
    daemon_threads = True
    request_queue_size = 64
    timeout = 0.5
    """Seconds after which it looks whether it is to end."""

    def __init__(self, address: str, on_call: HelperProcess) -> None:
        self.on_call = on_call
        super().__init__(address, _Question)

    def handle_error(self, *_: object) -> None:
        """One who asks and does not wait for the answer is nothing to report."""
        log.debug("somebody who asked went away")


class _Question(socketserver.StreamRequestHandler):
    timeout = _SENDS_WITHIN
    server: _Line

    def handle(self) -> None:
        content = self.rfile.read(_LONGEST)
        if content and self.server.on_call.work_out(content):
            self.wfile.write(_DONE)
