"""
Reading in a sandbox: files are read by a process of its own, with limits of memory and time.

Whatever a reader does there (asks for all memory, turns in circles, breaks), only that process ends,
and whoever asked gets a BadFile with place, reason and remedy. A reader that behaves is kept for the
next file, since starting one takes longer than reading most files.
"""

from __future__ import annotations

import atexit
import logging
import os
import pickle
import resource
import select
import signal
import subprocess
import sys
import tempfile
import threading
import time
import traceback
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from io import BytesIO
from pathlib import Path
from typing import Any, Final

import polars as pl
import pyarrow as pa

from nimbus_reef.core.plan import SheetRow
from nimbus_reef.errors import BadFile, ReefError
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.raw import AS_FOUND, Layout, Layouts, RawTable
from nimbus_reef.formats.reports import Names, Parsed
from nimbus_reef.formats.sheet_summary import SheetSummary

_LOG: Final = logging.getLogger("reader")
_MB: Final = 2**20
_KEPT_BELOW: Final = 350 * _MB
"""A reader that still holds more when it has had time to give its memory back is not kept."""
_GIVES_BACK_SECONDS: Final = 5.0
"""After its work a reader gives memory back by itself: nearly all of it within two seconds."""
_LARGE: Final = _MB
"""Frames of more bytes are handed over as a mapped file."""
_POLL_SECONDS: Final = 0.03
_START_SECONDS: Final = 120.0
"""How long a reader may take to be there, which says nothing of the file."""
_WAITS: Final = 4
"""A reader that is kept from working, by a busy machine or a slow disk, gets so many times its seconds by the clock."""
_READY: Final = b"r"


@dataclass(frozen=True, slots=True)
class Allowance:
    """What one reading may take: bytes of memory, seconds of work."""

    memory: int
    seconds: float


def allowance(size: int) -> Allowance:
    """What a file of so many bytes may take: enough for the largest honest one, little for a small one."""
    return Allowance(900 * _MB + 24 * size, 16.0 + size / (2 * _MB))


def inspect(path: Path, file_name: str, rows: int, layouts: Layouts | None = None) -> list[SheetSummary]:
    """`reading.inspect` in the sandbox."""
    found: list[SheetSummary] = _read("inspect", path, file_name, rows, dict(layouts or {}))
    return found


def parse_file(
    path: Path, file_name: str, maps: Sequence[ColumnMap], zone: str, names: Names, currency: str = ""
) -> list[tuple[ColumnMap, Parsed, tuple[str, ...]]]:
    """`reading.parse_file` in the sandbox."""
    found: list[tuple[ColumnMap, Parsed, tuple[str, ...]]] = _read(
        "parse_file", path, file_name, list(maps), zone, dict(names), currency
    )
    return found


def whole_table(path: Path, file_name: str, sheet: str = "") -> RawTable:
    """`reading.whole_table` in the sandbox."""
    found: RawTable = _read("whole_table", path, file_name, sheet)
    return found


def to_mend(
    path: Path,
    file_name: str,
    problems: Sequence[tuple[int, str, str, str]],
    sheet: str = "",
    layout: Layout = AS_FOUND,
) -> pl.DataFrame:
    """`reading.to_mend` in the sandbox."""
    found: pl.DataFrame = _read("to_mend", path, file_name, list(problems), sheet, layout)
    return found


def edited_rows(path: Path, file_name: str) -> list[SheetRow]:
    """`edited_sheet.edited_rows` in the sandbox."""
    found: list[SheetRow] = _read("edited_rows", path, file_name)
    return found


def result_rows(path: Path, file_name: str) -> list[tuple[int, bool, str, str]]:
    """`edited_sheet.result_rows` in the sandbox."""
    found: list[tuple[int, bool, str, str]] = _read("result_rows", path, file_name)
    return found


def warm() -> None:
    """Starts a reader ahead of the first file."""
    with POOL.borrowed():
        pass


def _read(task: str, path: Path, file_name: str, *args: Any) -> Any:
    if not path.exists():
        raise BadFile("The file is gone.", place=file_name, remedy="Drop it again.")
    limits = allowance(path.stat().st_size)
    with POOL.borrowed() as reader:
        return reader.ask((task, str(path), file_name, *args), limits, file_name)


# --- this side ------------------------------------------------------------------------


class _Reader:
    """One reading process, and the pipes to it."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="reef-reader-")
        code = "from nimbus_reef.formats import sandbox; sandbox.serve()"
        self.process = subprocess.Popen(  # noqa: S603  our own code, by our own interpreter
            [sys.executable, "-c", code],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=_environment(),
            start_new_session=True,
        )
        self.good = True
        self._there = False

    def ask(self, question: tuple[Any, ...], limits: Allowance, file_name: str) -> Any:
        """The answer to a task; BadFile where the reader had to be stopped or ended by itself."""
        self.good = False
        content = pickle.dumps((question, self._folder.name, limits.memory))
        try:
            self._wait_until_there()
            self._send(content)
            answer = self._receive(limits)
        except _TooMuch as reached:
            self.end()
            raise _refused(reached.reason, file_name) from None
        except (BrokenPipeError, EOFError):
            self.end()
            raise _refused("memory", file_name) from None
        kind, result = pickle.loads(answer)  # noqa: S301  from our own process
        self.good = True
        if kind == "made":
            return result
        if kind == "problem":
            assert isinstance(result, ReefError)
            raise result
        # The person is told what to do; what the library said is for whoever reads the log.
        _LOG.error("a reader stopped at a file\n%s", result)
        raise _refused("fault", file_name)

    def _wait_until_there(self) -> None:
        """Until the process has started: its libraries are read before any file is."""
        if self._there:
            return
        assert self.process.stdout is not None
        pipe = self.process.stdout.fileno()
        if not select.select([pipe], [], [], _START_SECONDS)[0]:
            raise _TooMuch("start")
        if os.read(pipe, 1) != _READY:
            raise EOFError
        self._there = True

    def _send(self, content: bytes) -> None:
        assert self.process.stdin is not None
        self.process.stdin.write(len(content).to_bytes(8, "big") + content)
        self.process.stdin.flush()

    def _receive(self, limits: Allowance) -> bytes:
        assert self.process.stdout is not None
        pipe = self.process.stdout.fileno()
        begun, worked = time.monotonic(), work_of(self.process.pid)
        parts, wanted = bytearray(), 8
        size: int | None = None
        while len(parts) < wanted:
            if not select.select([pipe], [], [], _POLL_SECONDS)[0]:
                # By its own work, so that a small file is not refused for what else the machine does.
                waited = time.monotonic() - begun
                if waited > limits.seconds and (
                    waited > _WAITS * limits.seconds or work_of(self.process.pid) - worked > limits.seconds
                ):
                    raise _TooMuch("time")
                if _memory_of(self.process.pid) > limits.memory:
                    raise _TooMuch("memory")
                continue
            piece = os.read(pipe, 1 << 20)
            if not piece:
                raise EOFError
            parts += piece
            if size is None and len(parts) >= 8:
                size = int.from_bytes(parts[:8], "big")
                wanted = 8 + size
        return bytes(parts[8:])

    @property
    def slim(self) -> bool:
        """Whether it holds as little as one that waits for work may."""
        return self.process.poll() is None and _memory_of(self.process.pid) < _KEPT_BELOW

    def end(self) -> None:
        """Stops the process, whatever it is doing."""
        self.good = False
        with suppress(ProcessLookupError):
            self.process.send_signal(signal.SIGKILL)
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                with suppress(BrokenPipeError, OSError):
                    pipe.close()
        self.process.wait()
        self._folder.cleanup()


class _TooMuch(Exception):
    """A reading went over its allowance."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason


def _environment() -> dict[str, str]:
    """The reader finds this package wherever this process did."""
    own = str(Path(__file__).parents[2])
    before = os.environ.get("PYTHONPATH", "")
    return {**os.environ, "PYTHONPATH": f"{own}{os.pathsep}{before}" if before else own}


def _memory_of(pid: int) -> int:
    """Bytes of memory of its own that a process holds; 0 when it is gone."""
    try:
        pages = Path(f"/proc/{pid}/statm").read_text().split()
    except (FileNotFoundError, ProcessLookupError):
        return 0
    return (int(pages[1]) - int(pages[2])) * resource.getpagesize()


def work_of(pid: int) -> float:
    """Seconds of processor time that a process has taken; 0 when it is gone."""
    try:
        names = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    except (FileNotFoundError, ProcessLookupError):
        return 0.0
    return (int(names[11]) + int(names[12])) / os.sysconf("SC_CLK_TCK")


def _refused(reason: str, file_name: str) -> BadFile:
    if reason == "memory":
        return BadFile(
            "Reading the file took far too much memory and was stopped.",
            place=file_name,
            remedy=(
                "A cell far to the right or below does that: copy the report's own rows and columns into a new "
                "file, or save it as CSV."
            ),
        )
    if reason == "start":
        return BadFile(
            "The server is too busy to read a file.",
            place=file_name,
            remedy="Nothing was changed. Try again in a minute.",
        )
    if reason == "time":
        return BadFile(
            "Reading the file took far too long and was stopped.",
            place=file_name,
            remedy="Look for cells with thousands of characters, or save the report's own columns as CSV.",
        )
    return BadFile(
        "The file cannot be read. Part of it is damaged.",
        place=file_name,
        remedy="Open it in a spreadsheet, save it as CSV and load that.",
    )


class _Pool:
    """The readers of one process that wait for work: one is kept, more are started when needed."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self.idle: list[_Reader] = []
        self._owner = os.getpid()

    @contextmanager
    def borrowed(self) -> Iterator[_Reader]:
        """A reader for one file, kept afterwards if it is still good."""
        reader = self._take()
        try:
            yield reader
        finally:
            self._give_back(reader)

    def _take(self) -> _Reader:
        with self._lock:
            if self._owner != os.getpid():
                # Another process's readers, inherited over a fork, are not ours to talk to.
                self.idle, self._owner = [], os.getpid()
            reader = self.idle.pop() if self.idle else None
        if reader is not None and not reader.slim:
            reader.end()
            reader = None
        return reader or _Reader()

    def _give_back(self, reader: _Reader) -> None:
        with self._lock:
            kept = reader.good and not self.idle
            if kept:
                self.idle.append(reader)
        if not kept:
            reader.end()
        elif not reader.slim:
            later = threading.Timer(_GIVES_BACK_SECONDS, self._weigh, [reader])
            later.daemon = True
            later.start()

    def _weigh(self, reader: _Reader) -> None:
        """Ends a reader that waits for work and has kept the memory of its last."""
        with self._lock:
            heavy = self._owner == os.getpid() and reader in self.idle and not reader.slim
            if heavy:
                self.idle.remove(reader)
        if heavy:
            reader.end()

    def close(self) -> None:
        """Ends the readers that wait."""
        with self._lock:
            idle, self.idle = (self.idle if self._owner == os.getpid() else []), []
        for reader in idle:
            reader.end()


POOL: Final = _Pool()
atexit.register(POOL.close)


# --- the other side ---------------------------------------------------------------------


class _Pickler(pickle.Pickler):
    """Large frames go as files that the other side maps, and that are gone once it has."""

    def __init__(self, target: BytesIO, folder: str) -> None:
        super().__init__(target, protocol=5)
        self._folder = folder

    def reducer_override(self, result: Any) -> Any:
        """A mapped file in place of a large frame."""
        if isinstance(result, pl.DataFrame) and result.estimated_size() > _LARGE:
            handle, name = tempfile.mkstemp(dir=self._folder, suffix=".arrow")
            os.close(handle)
            result.write_ipc(name, compression="uncompressed")
            return _mapped, (name,)
        return NotImplemented


def _mapped(name: str) -> pl.DataFrame:
    with pa.memory_map(name) as source:
        frame = pl.from_arrow(pa.ipc.open_file(source).read_all(), rechunk=False)
    Path(name).unlink()
    assert isinstance(frame, pl.DataFrame)
    return frame


def serve() -> None:
    """The reading process: one task after the other, until the pipe is closed."""
    from nimbus_reef.formats import edited_sheet, reading

    tasks: dict[str, Callable[..., Any]] = {
        each.__name__: each
        for each in (
            reading.inspect,
            reading.parse_file,
            reading.whole_table,
            reading.to_mend,
            edited_sheet.edited_rows,
            edited_sheet.result_rows,
        )
    }
    # What a library prints must not get into the answers.
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    questions = sys.stdin.buffer
    answers.write(_READY)
    answers.flush()
    while len(head := questions.read(8)) == 8:
        (task, path, *args), folder, memory = pickle.loads(questions.read(int.from_bytes(head, "big")))  # noqa: S301
        _limit_memory(memory)
        try:
            answer: tuple[str, Any] = ("made", tasks[task](Path(path), *args))
        except ReefError as problem:
            answer = ("problem", problem)
        except BaseException as problem:
            answer = ("fault", "".join(traceback.format_exception(problem)))
        target = BytesIO()
        _Pickler(target, folder).dump(answer)
        answers.write(len(target.getbuffer()).to_bytes(8, "big"))
        answers.write(target.getbuffer())
        answers.flush()
        del answer, target


def _limit_memory(memory: int) -> None:
    """No more than this on top of what the process has taken up by now, be it used or only asked for."""
    taken = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (taken + memory + 512 * _MB, resource.RLIM_INFINITY))
