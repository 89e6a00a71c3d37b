"""The prompt of `ibexite instruments talk`: history, completion, and what ends it. While it waits for a line the bench
is alive all the same, and the guardian is told so."""

from __future__ import annotations

import contextlib
import os
import signal
import sys
import threading
from collections.abc import Iterator
from pathlib import Path
from types import FrameType
from typing import Any, Self

import click

from ibexite.bench.hand import Hand
from ibexite.errors import IbexiteError
from ibexite.station.talking import Talk

BEAT = 0.5  # s
MOST_HISTORY = 1000  # lines


class _Ended(BaseException):
    """A signal ends the prompt."""


def prompt(talk: Talk, hand: Hand, name: str) -> bool:
    """Takes lines until the end of input, quit or a signal; True if a signal ended it. What was switched on is on
    still: the caller switches it off."""

    came: list[int] = []

    def end(number: int, _: FrameType | None) -> None:
        came.append(number)
        if len(came) == 1:
            raise _Ended

    for number in (signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, end)
    try:
        with _line_editing(talk), _Signals() as signals:
            while _one_line(talk, hand, name, signals):
                pass
    except _Ended:
        return True
    finally:  # from here on it is made safe: a signal must not come between
        for number in (signal.SIGTERM, signal.SIGHUP, signal.SIGINT):
            signal.signal(number, signal.SIG_IGN)
    return False


class _Signals:
    """Notes signals at the moment at which they come. One that comes just before Python waits for a line is not looked
    at until a key is pressed; so it is sent once more."""

    def __enter__(self) -> Self:
        self._read, self._write = os.pipe()
        os.set_blocking(self._read, False)
        os.set_blocking(self._write, False)
        signal.set_wakeup_fd(self._write, warn_on_full_buffer=False)
        return self

    def __exit__(self, *_: object) -> None:
        signal.set_wakeup_fd(-1)
        os.close(self._read)
        os.close(self._write)

    def take(self) -> bytes:
        """The numbers of those that came since last asked."""
        try:
            return os.read(self._read, 64)
        except BlockingIOError:
            return b""

    def send_again(self) -> None:
        """Sends those that came to the main thread."""
        for number in set(self.take()) & {signal.SIGINT, signal.SIGTERM, signal.SIGHUP}:
            signal.pthread_kill(threading.main_thread().ident or 0, number)


def _one_line(talk: Talk, hand: Hand, name: str, signals: _Signals) -> bool:
    """Takes a line and carries it out; False at the end. Ctrl-C gives up the line, or the deed."""
    is_doing = False
    try:
        try:
            with _beating(hand, signals):
                line = input(f"{name}> " if sys.stdin.isatty() else "").strip()
        except EOFError:
            line = "quit"
        if line in ("quit", "exit"):
            return False
        is_doing = bool(line)
        _carry_out(talk, hand, line)
    except KeyboardInterrupt:
        click.echo("interrupted; nobody knows whether it was carried out" if is_doing else "")
        hand.after_interruption()
    return True


def _carry_out(talk: Talk, hand: Hand, line: str) -> None:
    error: IbexiteError | None = None
    shown: list[str] = []
    try:
        shown = talk.line(line)
    except IbexiteError as found:
        error = found
    for text in [*hand.take_told(), *shown]:
        click.echo(text)
    if error is not None:
        click.echo(click.style(str(error), fg="red"))


@contextlib.contextmanager
def _beating(hand: Hand, signals: _Signals) -> Iterator[None]:
    """Within it somebody thinks; that may take as long as it likes."""
    done = threading.Event()

    def beat() -> None:
        while not done.wait(BEAT):
            hand.beat()
            signals.send_again()
            if not hand.is_watched():
                click.echo("\nthe guardian process has ended; nothing stays on without it")
                signal.pthread_kill(threading.main_thread().ident or 0, signal.SIGTERM)

    hand.beat()
    signals.take()  # those of before have been heeded
    thread = threading.Thread(target=beat, daemon=True)
    thread.start()
    try:
        yield
    finally:
        done.set()
        thread.join()


@contextlib.contextmanager
def _line_editing(talk: Talk) -> Iterator[None]:
    """Within it a terminal has history, kept for the next time, and completion of what a line may begin with."""
    try:
        import readline
    except ImportError:
        yield
        return
    if not sys.stdin.isatty():
        yield
        return
    words = talk.words()
    path = _history_path()

    def complete(text: str, number: int) -> str | None:
        fitting = [word for word in words if word.startswith(text)]
        fitting = fitting or [word for word in words if word.upper().startswith(text.upper())]
        return fitting[number] + " " if number < len(fitting) else None

    readline.set_completer(complete)
    readline.set_completer_delims(" ")
    readline.parse_and_bind("tab: complete")
    readline.set_history_length(MOST_HISTORY)
    with contextlib.suppress(OSError):
        readline.read_history_file(path)
    try:
        yield
    finally:
        with contextlib.suppress(OSError):
            path.parent.mkdir(parents=True, exist_ok=True)
            readline.write_history_file(path)


def _history_path() -> Path:
    folder: Any = os.environ.get("XDG_STATE_HOME") or Path.home() / ".local" / "state"
    return Path(folder) / "ibexite" / "talk_history"
