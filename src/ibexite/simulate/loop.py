"""One thread that waits for many: files from which something can be read, and deeds whose time has come."""

from __future__ import annotations

import contextlib
import heapq
import itertools
import selectors
import socket
import time
from collections.abc import Callable
from typing import Any


class Loop:
    """Carries out deeds until it is stopped. All but `stop` belong to the thread that runs it."""

    def __init__(self) -> None:
        self._selector = selectors.DefaultSelector()
        self._timers: list[tuple[float, int, Callable[[], None]]] = []
        self._order = itertools.count()
        self._stopping = False
        self._wake, self._waker = socket.socketpair()
        self._selector.register(self._wake, selectors.EVENT_READ, [lambda: None])
        self._at_end: list[Callable[[], None]] = []
        self.heard = time.monotonic()  # s, when something came last

    def watch(self, file: Any, deed: Callable[[], None]) -> None:
        """Carries out a deed whenever something can be read from a file."""
        self._selector.register(file, selectors.EVENT_READ, [deed])

    def forget(self, file: Any) -> None:
        """Watches a file no more."""
        self._selector.unregister(file).data.clear()

    def after(self, seconds: float, deed: Callable[[], None]) -> None:
        """Carries out a deed once, after so many seconds."""
        heapq.heappush(self._timers, (time.monotonic() + seconds, next(self._order), deed))

    def at_end(self, deed: Callable[[], None]) -> None:
        """Carries out a deed when the loop has ended."""
        self._at_end.append(deed)

    def stop(self) -> None:
        """Ends `run`; may be called from another thread or a signal handler."""
        self._waker.send(b"x")  # first, for `run` closes it when it ends
        self._stopping = True

    def run(self) -> None:
        """Goes on until `stop`; then all files are closed."""
        try:
            while not self._stopping:
                pause = None if not self._timers else max(0.0, self._timers[0][0] - time.monotonic())
                for key, _ in self._selector.select(pause):
                    self.heard = time.monotonic()
                    for deed in key.data[:1]:  # none: a deed before it has closed this file
                        deed()
                while self._timers and self._timers[0][0] <= time.monotonic():
                    heapq.heappop(self._timers)[2]()
        finally:
            for key in list(self._selector.get_map().values()):
                with contextlib.suppress(OSError):
                    key.fileobj.close()  # type: ignore[union-attr]
            self._waker.close()
            self._selector.close()
            for deed in self._at_end:
                deed()
