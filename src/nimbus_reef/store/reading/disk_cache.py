"""
Results on disk, which all processes of a machine share: what one of them has worked out the others take from there.

A result lies under its account, what is loaded of it, and everything else it depends on, so that a reader can never see
one that is stale; frames are mapped, so that their memory is shared too. All of it can always be deleted.
"""

from __future__ import annotations

import hashlib
import io
import os
import pickle
import queue
import shutil
import tempfile
import threading
import time
from collections.abc import Callable, Hashable, Mapping, Set
from contextlib import suppress
from dataclasses import fields, is_dataclass
from datetime import date, datetime
from enum import Enum
from functools import cache
from pathlib import Path
from typing import IO, Any, Final, TypeVar

import polars as pl
import pyarrow as pa
import structlog

import nimbus_reef
from nimbus_reef.core.checks.registry import registered
from nimbus_reef.store.reading.cache import Mapped

T = TypeVar("T")
log = structlog.get_logger("disk_cache")

DEAR: Final = 0.02
"""Seconds from which on a result is worth its place."""
_SHARED_FROM: Final = 1 << 20
"""Bytes from which a result is held as it lies on disk, in place of the one that was made."""
_MAPPED_FROM: Final = 64 << 10
"""Bytes from which a frame has a file of its own."""
_OURS: Final = "nimbus_reef."
_ALLOWED: Final = {
    "builtins": {"frozenset", "set", "slice", "complex", "range", "bytearray"},
    "datetime": {"date", "datetime", "timedelta", "time", "timezone"},
    "collections": {"OrderedDict", "defaultdict", "Counter", "deque"},
    "zoneinfo": {"ZoneInfo._unpickle"},
    "numpy": {"ndarray", "dtype"},
    "numpy._core.multiarray": {"_reconstruct", "scalar"},
    "numpy._core.numeric": {"_frombuffer"},
    "polars.series.series": {"Series"},
    "scipy.sparse._csr": {"csr_matrix", "csr_array"},
    "scipy.sparse._csc": {"csc_matrix", "csc_array"},
    "scipy.sparse._coo": {"coo_matrix", "coo_array"},
}
"""By module, all of other libraries that a result is made of: values, and what puts them together."""
_RESULT: Final = "result"


class _Unnameable(TypeError):
    """A key that is not made of plain values: its result stays in memory."""


def _plain(value: Any) -> Any:
    """A part of a key in a spelling that is the same in every process."""
    if isinstance(value, Enum):
        return [type(value).__qualname__, value.name]
    if value is None or isinstance(value, bool | int | float | str):
        return value
    if isinstance(value, date | datetime):
        return ["date", value.isoformat()]
    if is_dataclass(value) and not isinstance(value, type):
        return [type(value).__qualname__, *(_plain(getattr(value, each.name)) for each in fields(value))]
    if isinstance(value, Mapping):
        return ["map", *sorted((str(_plain(key)), _plain(each)) for key, each in value.items())]
    if isinstance(value, Set):
        return ["set", *sorted(str(_plain(each)) for each in value)]
    if isinstance(value, list | tuple):
        return [_plain(each) for each in value]
    raise _Unnameable(type(value).__qualname__)


@cache
def _code() -> str:
    """
    Tells this version of what works results out from all others: all of the application's, since pages keep theirs
    there too.
    """
    found = hashlib.sha256(f"{pl.__version__} {pa.__version__}".encode())
    home = Path(nimbus_reef.__file__).parent
    for file in sorted(home.rglob("*.py")):
        found.update(file.read_bytes())
    return found.hexdigest()[:12]


class _ResultWriter(pickle.Pickler):
    """
    Large frames go into files of their own, to be mapped, everything else into one: opening a file takes longer than
    reading a small frame.
    """

    def __init__(self, file: io.BytesIO, folder: Path) -> None:
        super().__init__(file, protocol=5)
        self._folder, self._frames = folder, 0

    def persistent_id(self, obj: Any) -> Any:
        if not isinstance(obj, pl.DataFrame):
            return None
        if obj.estimated_size() < _MAPPED_FROM:
            return obj.serialize()
        name = f"{self._frames}.arrow"
        self._frames += 1
        # In one piece, so that a column of it is an array without a copy.
        obj.write_ipc(self._folder / name, compression="uncompressed", record_batch_size=len(obj))
        return name

    def reducer_override(self, obj: Any) -> Any:
        # By its value: Python's own way asks for `getattr`, which no reader is to have.
        return (type(obj), (obj.value,)) if isinstance(obj, Enum) else NotImplemented


class _ResultReader(pickle.Unpickler):
    """Reads what `_ResultWriter` wrote; makes nothing but values of this application and the frames' libraries."""

    def __init__(self, file: IO[bytes], folder: Path) -> None:
        super().__init__(file)
        self._folder = folder

    def persistent_load(self, pid: Any) -> pl.DataFrame:
        if isinstance(pid, bytes):
            return pl.DataFrame.deserialize(io.BytesIO(pid))
        with pa.memory_map(str(self._folder / pid)) as source:
            frame = pl.from_arrow(pa.ipc.open_file(source).read_all(), rechunk=False)
        assert isinstance(frame, pl.DataFrame)
        return frame

    def find_class(self, module: str, name: str) -> Any:
        if name in _ALLOWED.get(module, ()):
            return super().find_class(module, name)
        if module.startswith(_OURS):
            found = super().find_class(module, name)
            # Of this application values alone, whose making does nothing, and checks by their key.
            if found is registered or _is_value(found):
                return found
        raise pickle.UnpicklingError(f"{module}.{name} is not kept on the disk_cache")


def _is_value(found: Any) -> bool:
    """Whether it is a class of values: a dataclass, an enumeration or a named tuple of this application."""
    return (
        isinstance(found, type)
        and found.__module__.startswith(_OURS)
        and (is_dataclass(found) or issubclass(found, Enum | tuple))
    )


def packed(value: Any) -> bytes:
    """A value of this application without frames, as another of its processes takes it."""
    told_of = io.BytesIO()
    _ResultWriter(told_of, Path(os.devnull)).dump(value)
    return told_of.getvalue()


def unpacked(told_of: bytes) -> Any:
    """The value again; UnpicklingError and the like where it is none."""
    return _ResultReader(io.BytesIO(told_of), Path(os.devnull)).load()


class DiskCache:
    """The results of one machine. folder: where they lie; most_bytes: how much there may be of them."""

    def __init__(self, folder: Path, most_bytes: int = 2 << 30) -> None:
        self._folder, self.most_bytes = folder, most_bytes
        self._waiting: queue.SimpleQueue[tuple[Path, Any, Callable[[Mapped], None]]] = queue.SimpleQueue()
        self._on_its_way: dict[Path, Any] = {}
        self._writer: threading.Thread | None = None
        self._lock = threading.Lock()

    def get(
        self,
        account_id: int,
        key: Hashable,
        make: Callable[[], T],
        kept: Callable[[Mapped], None],
        dear: float | None = None,
    ) -> T | Mapped:
        """
        The result of a key of an account, as it lies there, or worked out and put there where that took long (`DEAR`
        seconds, or fewer by `dear`).

        kept: is told, from another thread and only of large results, what to hold in place of the one returned: the
        same from disk.
        """
        place = self._place(account_id, key)
        if place is None:
            return make()
        found = self._found(place)
        if found is not None:
            return found
        begun = time.perf_counter()
        t = make()
        if time.perf_counter() - begun >= min(DEAR, DEAR if dear is None else dear):
            self._put(place, t, kept)
        return t

    def peek(self, account_id: int, key: Hashable) -> Mapped | None:
        """The result of a key; None where there is none, nothing is worked out."""
        place = self._place(account_id, key)
        return self._found(place) if place is not None else None

    def _found(self, place: Path) -> Mapped | None:
        """What is there, or is still to be written there."""
        found = _read(place)
        if found is None and place in self._on_its_way:
            with suppress(KeyError):
                return Mapped(self._on_its_way[place])
        return found

    def settle(self) -> None:
        """Returns once all that was to be put there is."""
        done = threading.Event()
        self._ask((Path(), done, lambda _: None))
        done.wait()

    def sweep(self, present: Mapping[int, str]) -> int:
        """
        Removes what nobody can ask for any more (an account's results for what was loaded before, and of other code),
        then those longest not asked for until the rest has room; how many. present: what is loaded of each account, as
        `told` has it.
        """
        gone = 0
        rest: list[tuple[float, Path, int]] = []
        for home in [each for each in self._folder.glob("*/*") if each.is_dir()]:
            if self._is_current(home, present):
                rest += _results(home)
            elif time.time() - home.stat().st_mtime > _STILL_READ:
                shutil.rmtree(home, ignore_errors=True)
                gone += 1
        value = sum(size for _, _, size in rest)
        for _, place, size in sorted(rest, key=lambda each: each[0]):
            if value <= self.most_bytes:
                break
            shutil.rmtree(place, ignore_errors=True)
            value, gone = value - size, gone + 1
        return gone

    def is_full(self, present: Mapping[int, str], account_id: int) -> bool:
        """
        Whether what is there of the present takes most of its room, and an account a part of it that is not small: what
        came next of it would drive out what came first.
        """
        by_key = dict.fromkeys(present, 0)
        for home in [each for each in self._folder.glob("*/*") if each.is_dir() and self._is_current(each, present)]:
            by_key[int(home.parent.name)] = sum(size for _, _, size in _results(home))
        return sum(by_key.values()) > _FULL * self.most_bytes and by_key.get(account_id, 0) > _SMALL * self.most_bytes

    @staticmethod
    def _is_current(home: Path, present: Mapping[int, str]) -> bool:
        return home.name == f"{present.get(int(home.parent.name))}-{_code()}"

    def _place(self, account_id: int, key: Hashable) -> Path | None:
        assert isinstance(key, tuple)
        name, _, generation, *of = key
        try:
            digest = hashlib.sha256(repr(_plain((name, of))).encode()).hexdigest()[:32]
        except _Unnameable:
            return None
        return self._folder / str(account_id) / f"{generation_name(generation)}-{_code()}" / digest

    def _put(self, place: Path, result: Any, kept: Callable[[Mapped], None]) -> None:
        self._on_its_way[place] = result
        self._ask((place, result, kept))

    def _ask(self, work: tuple[Path, Any, Callable[[Mapped], None]]) -> None:
        with self._lock:
            if self._writer is None or not self._writer.is_alive():
                self._writer = threading.Thread(target=self._write_on, daemon=True)
                self._writer.start()
        self._waiting.put(work)

    def _write_on(self) -> None:
        while True:
            place, result, kept = self._waiting.get()
            if isinstance(result, threading.Event):
                result.set()
                continue
            try:
                _write(place, result)
                if _size(place) >= _SHARED_FROM and (found := _read(place)) is not None:
                    kept(found)
            except (OSError, pickle.PicklingError, TypeError, AttributeError) as problem:
                # A disk that is full, or a result that cannot be written, costs speed and nothing else.
                log.warning(
                    "a result cannot be put on the disk_cache", kind=type(result).__qualname__, problem=str(problem)
                )
            finally:
                self._on_its_way.pop(place, None)
            del result


_FULL: Final = 0.75
_SMALL: Final = 1 / 16
"""Parts of all the room: from which on nothing is judged ahead, and up to which an account may come all the same."""
_STILL_READ: Final = 600.0
"""Seconds for which results of what was loaded before stay, for pages that began with it."""


def _results(home: Path) -> list[tuple[float, Path, int]]:
    """
    The results there: when each was asked for last, its place and its size. One whose writer died goes; what another
    process removes or finishes meanwhile is not among them.
    """
    found = []
    for place in home.iterdir():
        with suppress(FileNotFoundError):
            asked = place.stat().st_mtime
            if not place.name.startswith("."):
                found.append((asked, place, _size(place)))
            elif time.time() - asked > _STILL_READ:
                shutil.rmtree(place, ignore_errors=True)
    return found


def generation_name(generation: Hashable) -> str:
    """What is loaded of an account, as a name."""
    return hashlib.sha256(repr(_plain(generation)).encode()).hexdigest()[:16]


def _size(place: Path) -> int:
    return sum(file.stat().st_size for file in place.iterdir())


def _read(place: Path) -> Mapped | None:
    """The result there; None where none is, or it cannot be read."""
    try:
        with (place / _RESULT).open("rb") as file:
            found = _ResultReader(file, place).load()
        os.utime(place)
    except FileNotFoundError:
        return None
    except (OSError, pickle.UnpicklingError, EOFError, AttributeError, ImportError, LookupError, pa.ArrowInvalid):
        log.exception("a result on the disk_cache cannot be read; it is worked out anew", place=str(place))
        shutil.rmtree(place, ignore_errors=True)
        return None
    return Mapped(found)


def _write(place: Path, result: Any) -> None:
    """Writes beside the place and renames, so that a reader sees a whole result or none."""
    place.parent.mkdir(parents=True, exist_ok=True)
    passing = Path(tempfile.mkdtemp(dir=place.parent, prefix="."))
    try:
        told_of = io.BytesIO()
        _ResultWriter(told_of, passing).dump(result)
        (passing / _RESULT).write_bytes(told_of.getvalue())
        with suppress(FileExistsError, OSError):
            passing.rename(place)
    finally:
        shutil.rmtree(passing, ignore_errors=True)
