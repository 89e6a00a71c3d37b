"""A stand-in behind a program that speaks lines: the program that is started carries them to the stand-in and back.

Run as a file by itself (`python program.py HOST PORT`), it is that program, with nothing but the standard library.
"""

from __future__ import annotations

import os
import shlex
import socket
import sys
import threading
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ibexite.simulate.conversation import Instrument
    from ibexite.simulate.loop import Loop


class ProgramFront:
    """Serves an instrument to a program that stands for it."""

    def __init__(self, loop: Loop, instrument: Instrument) -> None:
        from ibexite.simulate.fronts.raw_socket import RawSocketFront

        front = RawSocketFront(loop, instrument)
        place = (instrument.stand_in.host, str(front.port))
        self.address = "program " + shlex.join([sys.executable, "-I", "-S", str(Path(__file__)), *place])


def carry(host: str, port: int) -> None:
    """Carries bytes from standard input to a port and back until either ends."""
    connection = socket.create_connection((host, port))

    def outwards() -> None:
        while data := os.read(0, 65536):
            connection.sendall(data)
        connection.shutdown(socket.SHUT_WR)

    threading.Thread(target=outwards, daemon=True).start()
    while data := connection.recv(65536):
        os.write(1, data)


if __name__ == "__main__":
    try:
        carry(sys.argv[1], int(sys.argv[2]))
    except OSError as error:
        sys.exit(f"no instrument: {error.strerror}")
