"""Where the program begins. Before the command line is even read, a run that will write a report starts its helper:
the drawing library takes longer to load than everything else together. A Ctrl-C while the program is still being loaded
ends it with one word; later it is the work of whoever runs."""

from __future__ import annotations

import os
import signal
import sys
from types import FrameType

from ibexite.surroundings import keep_to_one_thread

ABORTED = 4  # the exit code; errors.py is not loaded yet


def _end(_: int, __: FrameType | None) -> None:
    os.write(2, b"interrupted\n")
    os._exit(ABORTED)


def _interrupt(_: int, __: FrameType | None) -> None:
    """As Python does it, but once: a second Ctrl-C must not break the way out."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    raise KeyboardInterrupt


def main() -> None:
    """The command `ibexite`."""
    is_default = signal.getsignal(signal.SIGINT) is signal.default_int_handler
    if is_default:
        signal.signal(signal.SIGINT, _end)
    keep_to_one_thread()
    arguments = sys.argv[1:]
    if arguments[:1] == ["run"] and not {"--no-report", "--help", "-h"} & set(arguments):
        from ibexite.station import report_helper

        report_helper.start_early()
    from ibexite.cli.main import main as command_line

    if is_default:
        signal.signal(signal.SIGINT, _interrupt)
    command_line()
