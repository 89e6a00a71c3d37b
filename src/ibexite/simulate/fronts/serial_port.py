"""A stand-in behind a serial port: one end of a pseudo-terminal, whose other end has a name in the file system.

A line has no connection: clients cannot be told apart, and what was sent stays there until somebody reads it.
"""

from __future__ import annotations

import os
import select
import tempfile
from collections.abc import Callable
from pathlib import Path

from ibexite.protocols.framing import Framer, TooLong
from ibexite.simulate.conversation import Conversation, Instrument
from ibexite.simulate.fronts.tcp import BRIEFLY, PATIENCE
from ibexite.simulate.loop import Loop


class SerialFront:
    """Serves an instrument at one name, which leads to a new pseudo-terminal whenever the line was cut."""

    def __init__(self, loop: Loop, instrument: Instrument) -> None:
        self._loop, self._instrument = loop, instrument
        self._folder = tempfile.TemporaryDirectory(prefix="ibexite-line-")
        self._name = Path(self._folder.name) / "port"
        self.address = f"ASRL{self._name}::INSTR"
        self._line = -1
        self._far = -1
        instrument.refuse = self._refuse
        self._plug_in()
        loop.at_end(self._clean_up)

    def _plug_in(self) -> None:
        import tty

        self._line, self._far = os.openpty()
        tty.setraw(self._far)  # it stays open here: the line is there although nobody listens
        new = self._name.with_suffix(".new")
        new.symlink_to(os.ttyname(self._far))
        new.replace(self._name)
        self._framer = Framer(self._instrument.stand_in.command_end.encode("latin-1"))
        self._conversation = Conversation(self._loop, self._instrument, self)
        self._file = os.fdopen(self._line, "rb", buffering=0)
        self._loop.watch(self._file, self._receive)

    def _receive(self) -> None:
        lines = []
        try:
            self._framer.feed(os.read(self._line, 65536))
            while (line := self._framer.next_message()) is not None:
                lines.append(line.decode("latin-1").rstrip("\r"))
        except (OSError, TooLong):
            return
        self._conversation.hear(lines)

    def send(self, data: bytes, number: int, *, briefly: bool = False) -> None:
        """Sends a reply or a part of one; what is left when nobody takes any more is lost."""
        while data and select.select([], [self._line], [], BRIEFLY if briefly else PATIENCE)[1]:
            data = data[os.write(self._line, data[:1024]) :]

    def freeze(self, seconds: float) -> None:
        """A line acknowledges nothing; what it carries waits."""

    def close(self, with_reset: bool) -> None:
        """The plug is pulled, and another one is there at once."""
        cut = self._cutter()
        self._plug_in()
        cut()

    def _cutter(self) -> Callable[[], None]:
        """What cuts the present line."""
        conversation, file, far = self._conversation, self._file, self._far

        def cut() -> None:
            conversation.end()
            self._loop.forget(file)
            file.close()
            os.close(far)

        return cut

    def _clean_up(self) -> None:
        if self._far >= 0:
            os.close(self._far)
        self._folder.cleanup()

    def _refuse(self, seconds: float) -> None:
        """The plug is pulled for so many seconds."""
        self._cutter()()
        self._far = -1
        self._name.unlink(missing_ok=True)
        self._loop.after(seconds, self._plug_in)
