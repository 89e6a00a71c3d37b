"""The command `ibexite`: which commands there are, and what becomes of errors. Each command loads when it is called."""

from __future__ import annotations

import atexit
import importlib
import os
import sys

import click

from ibexite import __version__
from ibexite.cli.lasting import make_output_last
from ibexite.cli.signals import ignore_signals
from ibexite.errors import EXIT_ABORTED, EXIT_BENCH, EXIT_MISTAKE, IbexiteError, StopRun

COMMANDS = {
    "demo": "make the demo project, run it from vetting to report",
    "vet": "check a sequence before any power is applied",
    "preview": "show steps, set points and the expected time",
    "run": "run a sequence for one unit",
    "retest": "run tests of a stored run again and merge them",
    "instruments": "the instruments of a bench by hand: list, find, verify, read, set, send, talk",
    "measure": "run one reusable measurement, or list them",
    "new": "make a project, a sequence or a measurement from a template",
    "tidy": "rewrite a sequence in the canonical layout",
    "explain": "explain a verb, a function, a unit or an instrument class",
    "runs": "list stored runs",
    "show": "show one run",
    "report": "write the report of a run",
    "replay": "carry out a stored run once more against what was said in it, without a bench",
    "rejudge": "judge stored runs again by other limits, without the product",
    "golden": "known good units as references: save, list, show, compare, approve",
    "limits": "limits proposed from many units, and who has approved them",
    "export": "write the data of a run to files",
    "simulate": "serve the simulated stand-ins of a bench",
}


class LazyCommands(click.Group):
    """Lists the commands from a table and imports only the one that is called."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """In the order in which the work is done."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """The command of this name; a wrong name gets a hint."""
        if name not in COMMANDS:
            from ibexite.errors import did_you_mean

            ctx.fail(f"there is no command {name!r}. {did_you_mean(name, COMMANDS)}")
        module = importlib.import_module(f"ibexite.cli.{name}_command")
        command: click.Command = module.command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """The list of commands, without importing any."""
        with formatter.section("Commands"):
            formatter.write_dl(list(COMMANDS.items()))


def _tell_version(ctx: click.Context, _: click.Parameter, wanted: bool) -> None:
    if wanted and not ctx.resilient_parsing:
        click.echo(f"ibexite {__version__}")
        ctx.exit()


@click.group(cls=LazyCommands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 110})
@click.option(
    "--version",
    is_flag=True,
    is_eager=True,
    expose_value=False,
    callback=_tell_version,
    help="Show the version and end.",
)
def program() -> None:
    """Runs test sequences on a bench: sets, measures, judges, records, reports.

    \b
    ibexite demo                                       see the whole job done once, on a simulated bench
    ibexite vet final.ibx --bench bench.toml           find every mistake before power is on
    ibexite run final.ibx --bench bench.toml --serial FC00400

    Exit codes: 0 passed, 1 the unit failed, 2 a mistake in files or options, 3 bench or instrument error, 4 aborted,
    5 passed but only as a trial.
    """


def main() -> None:
    """Runs the command line; every error that has a message ends as that message and its exit code. The exit code does
    not depend on whether anybody reads what is written."""
    make_output_last()
    is_interrupted = False
    try:
        code = program(standalone_mode=False) or 0
    except IbexiteError as error:
        click.echo(str(error), err=True)
        code = error.exit_code
    except click.exceptions.Exit as end:
        code = end.exit_code
    except click.ClickException as error:
        error.show()
        code = error.exit_code
    except (click.Abort, KeyboardInterrupt, StopRun):
        click.echo("interrupted", err=True)
        is_interrupted, code = True, EXIT_ABORTED
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0
    except RecursionError:
        click.echo("a file is nested too deeply to be read\nMake it flatter.", err=True)
        code = EXIT_MISTAKE
    except Exception as error:  # a mistake of ours, and no verdict on any unit
        click.echo(f"internal error: {error!r}\n{_place_of(error)}Please report it with what led to it.", err=True)
        code = EXIT_BENCH
    sys.stdout.flush()
    sys.stderr.flush()
    ignore_signals()  # the code stands; while Python takes itself down, a signal would put its own in its place
    if is_interrupted:  # Python remembers a Ctrl-C that came while it ran a text (a class being made), and dies of it
        atexit._run_exitfuncs()
        os._exit(code)
    sys.exit(code)


def _place_of(error: BaseException) -> str:
    """Where it happened, in one line."""
    import traceback

    frames = traceback.extract_tb(error.__traceback__)
    return f"in {frames[-1].name}, {frames[-1].filename.rpartition('/')[2]}:{frames[-1].lineno}\n" if frames else ""
