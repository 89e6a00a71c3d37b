"""Where the program begins. Before the command line is even read, a run that will write a report starts its helper:
the drawing library takes longer to load than everything else together."""

from __future__ import annotations

import sys


def main() -> None:
    """The command `ibexite`."""
    arguments = sys.argv[1:]
    if arguments[:1] == ["run"] and not {"--no-report", "--help", "-h"} & set(arguments):
        from ibexite.cli import helper

        helper.start_early()
    from ibexite.cli.main import main as command_line

    command_line()
