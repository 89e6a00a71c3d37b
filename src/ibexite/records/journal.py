"""The journal of a run: JSON Lines, one event a line, appended and handed to the system before the next step starts.

What always holds: when the process is killed, no event that was emitted is lost; after a power cut at most the last
quarter of a second is. A line that was torn by a crash is cut off and kept aside; damage in the middle is never cut.
"""

from __future__ import annotations

import os
import threading
import time
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import orjson

from ibexite.errors import RecordsError
from ibexite.events import LONG, Emitted, WholeCurve
from ibexite.file_lock import try_lock
from ibexite.records.reply_file import FOLDER as REPLIES
from ibexite.records.reply_file import SUFFIX as REPLY_SUFFIX
from ibexite.records.reply_file import ReplyFile
from ibexite.records.side_file import FOLDER, SideFile
from ibexite.records.side_file import SUFFIX as SIDE_SUFFIX
from ibexite.records.stored_events import stored
from ibexite.untyped import Fields

SYNC_INTERVAL = 0.25  # s
SUFFIX, PACKED = ".jsonl", ".gz"
_SYNC_AT_ONCE = frozenset({"RunStarted", "TestEnded", "MadeSafe", "RunEnded"})


class Journal:
    """Writes the events of one run. Calling it appends one event."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._fd = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_APPEND, 0o644)
        except OSError as error:
            raise RecordsError(
                f"the journal cannot be made ({error.strerror})",
                where=str(path),
                remedy="Without a journal no run starts. Check disk space and permissions.",
            ) from None
        try_lock(self._fd)
        self._side = SideFile(path.parent.parent / FOLDER / (path.stem + SIDE_SUFFIX))
        self._replies = ReplyFile(path.parent.parent / REPLIES / (path.stem + REPLY_SUFFIX))
        self._is_dirty = False
        self._failure: OSError | None = None
        self._closed = threading.Event()
        self._syncer = threading.Thread(target=self._keep_synced, daemon=True)
        self._syncer.start()

    def __call__(self, emitted: Emitted) -> None:
        """Appends an event. Raises RecordsError: the disk is full or gone."""
        # orjson is ten times quicker than json here, and a row is written at every point; it writes NaN as null.
        content = stored(self._beside(emitted.event)) if type(emitted.event) is WholeCurve else stored(emitted.event)
        try:
            data = orjson.dumps(content, default=self._plain, option=orjson.OPT_APPEND_NEWLINE)
        except TypeError:  # a text or a number that JSON has no form for: written all the same, in words
            data = orjson.dumps(_writable(content), default=self._plain, option=orjson.OPT_APPEND_NEWLINE)
        try:
            if self._failure is not None:
                raise self._failure
            written = os.write(self._fd, data)
            if written != len(data):
                os.write(self._fd, data[written:])  # raises the reason why it was cut short
            self._is_dirty = True
            if content["e"] in _SYNC_AT_ONCE:
                self._sync()
                if os.fstat(self._fd).st_nlink == 0:
                    raise OSError(0, "its file was removed")
        except OSError as error:
            raise RecordsError(
                f"the journal cannot be written ({error.strerror})",
                where=str(self.path),
                remedy="The run stops here; what was written so far is kept.",
            ) from None

    def _beside(self, curve: WholeCurve) -> WholeCurve:
        """A curve with its long series in the side file."""
        try:
            x = [self._put(points) for points in curve.x] if isinstance(curve.x, list) else curve.x
            return curve._replace(x=x, v=self._put(curve.v))
        except OSError as error:
            raise _unwritable(error, self._side.path) from None

    def _plain(self, value: Any) -> Any:
        """What orjson does not know: long replies by where they lie, all else in its nearest form."""
        if not isinstance(value, bytes | bytearray):
            return _plain(value)
        try:
            return self._replies.put(value)._asdict()
        except OSError as error:
            self._failure = error  # orjson would tell of it as of something that it cannot write
            return ""

    def _put(self, numbers: Any) -> Any:
        """Numbers as the journal has them: long series, which come as arrays, by a reference."""
        return self._side.put(numbers) if getattr(numbers, "ndim", 0) and len(numbers) > LONG else numbers

    def _sync(self) -> None:
        self._is_dirty = False
        self._side.sync()  # first: the journal refers to them
        self._replies.sync()
        os.fsync(self._fd)

    def _keep_synced(self) -> None:
        while not self._closed.wait(SYNC_INTERVAL):
            if self._is_dirty:
                try:
                    self._sync()
                except OSError as error:
                    self._failure = error
                    return

    @property
    def handle(self) -> int:
        """The operating system's number of the open file; a copy of it holds the lock as well."""
        return self._fd

    def close(self) -> None:
        """Syncs and closes."""
        self._closed.set()
        self._syncer.join()
        try:
            self._sync()
        except OSError:
            pass  # already told at the event that could not be written
        self._side.close()
        self._replies.close()
        os.close(self._fd)


def _unwritable(error: OSError, path: Path) -> RecordsError:
    return RecordsError(
        f"the side file of the journal cannot be written ({error.strerror})", where=str(path),
        remedy="The run stops here; what was written so far is kept.",
    )  # fmt: skip


def _writable(value: Any) -> Any:
    """The same with texts for what JSON has no form for: names that are no texts, long integers, torn characters."""
    if hasattr(value, "_asdict"):
        value = value._asdict()
    if isinstance(value, dict):
        return {_writable(str(key)): _writable(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple | set | frozenset):
        return [_writable(inner) for inner in value]
    if isinstance(value, str):
        return value.encode("utf-8", "backslashreplace").decode()
    return str(value) if isinstance(value, int) and not -(2**63) <= value < 2**64 else value


def _plain(value: Any) -> Any:
    """What orjson does not know: kinds of numbers and texts as what they are, all else in words."""
    if isinstance(value, float):
        return float(value)
    if isinstance(value, int):
        return int(value)
    if isinstance(value, complex):
        return [value.real, value.imag]
    if hasattr(value, "_asdict"):
        return value._asdict()
    if isinstance(value, tuple | set | frozenset):
        return list(value)
    return value.item() if hasattr(value, "item") else str(value)  # a number of an array


def next_number(folder: Path, least: int) -> int:
    """A number for the next run of a folder of journals, greater than all before and than `least`."""
    path = folder / "last_number"
    try:
        folder.mkdir(parents=True, exist_ok=True)
        fd = os.open(path, os.O_RDWR | os.O_CREAT, 0o644)
        try:
            for _ in range(200):  # held for microseconds by runs that start at the same moment
                if try_lock(fd):
                    break
                time.sleep(0.005)
            text = os.read(fd, 32).decode("ascii", "replace").strip()
            number = max(int(text) if text.isdigit() else 0, least) + 1
            os.lseek(fd, 0, os.SEEK_SET)
            os.write(fd, f"{number}\n".encode())
        finally:
            os.close(fd)
    except OSError as error:
        raise RecordsError(
            f"cannot be written ({error.strerror})",
            where=str(path),
            remedy="Without records no run starts. Check disk space and permissions.",
        ) from None
    return number


def left_over(folder: Path) -> Iterator[Path]:
    """The journals in a folder that no living process writes: ended but not stored yet, or broken off. Each is held
    (so that no other process takes it) until the next one is asked for."""
    for path in sorted([*folder.glob("*" + SUFFIX), *folder.glob("*" + SUFFIX + PACKED)]):
        try:
            fd = os.open(path, os.O_RDWR | getattr(os, "O_NONBLOCK", 0))
        except OSError:
            continue
        try:
            if try_lock(fd) and path.is_file():
                yield path
        finally:
            os.close(fd)


def read_journal(path: Path) -> Iterator[Fields]:
    """The events of a journal, which may be packed, as dictionaries with the key `e` for their kind.

    Raises:
        RecordsError: a line in the middle is damaged. A torn last line is left out, also where the guardian's entry
            stands behind it.
    """
    if path.suffix != PACKED:
        with path.open("rb") as file:
            yield from _events(path, file)
        return
    import gzip
    import zlib

    try:
        with gzip.open(path, "rb") as packed:
            yield from _events(path, packed)
    except (EOFError, zlib.error, gzip.BadGzipFile) as error:
        raise RecordsError(f"cannot be unpacked ({error})", where=str(path), remedy="Leave it aside.") from None


def _events(path: Path, lines: Iterable[bytes]) -> Iterator[Fields]:
    torn = 0
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        try:
            event = orjson.loads(line)
            if not isinstance(event, dict) or not isinstance(event.get("e"), str):
                raise ValueError
            if not line.endswith(b"\n"):
                return
        except ValueError:
            if torn:
                raise _damaged(path, torn) from None
            torn = number
            continue
        if torn and event.get("by") != "guardian":
            raise _damaged(path, torn)
        torn = 0
        yield event


def _damaged(path: Path, number: int) -> RecordsError:
    return RecordsError(f"line {number} is damaged", where=str(path), remedy="Mend the line, or leave it aside.")


def mend_tail(path: Path) -> int:
    """Cuts a torn last line off a journal that broke off, and keeps it in a file beside it; its length in bytes."""
    if path.suffix == PACKED:
        return 0
    data = path.read_bytes()
    end = data.rfind(b"\n") + 1
    torn = data[end:]
    if torn:
        path.with_suffix(".torn").write_bytes(torn)
        with path.open("r+b") as file:
            file.truncate(end)
            os.fsync(file.fileno())
    return len(torn)
