"""`ibexite demo`."""

from __future__ import annotations

import shutil
from pathlib import Path

import click

from ibexite.demo.project import make_project
from ibexite.errors import EXIT_ABORTED
from ibexite.station.project import shown_path

# Two good boards, one with shorted turns in its inductor, one with a short across its input.
UNITS = ("FC00400", "FC00413", "FC00411", "FC00427")
RUNS = (("fm2_final.ibx", UNITS), ("characterise.ibx", ("FC00400",)), ("sensor_parts.ibx", ("FP0107",)))
MORE = {
    "characterise.ibx": "4. Characterise: a search, corners, a loop around an outside program",
    "sensor_parts.ibx": "5. Another bench: refined and logarithmic sweeps, half an hour of soak rehearsed in seconds",
}


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path), default=Path("ibexite-demo"))
def command(folder: Path) -> None:
    """Makes an example project in a folder and runs it: vetting, preview, three sequences, reports.

    The bench is simulated, over real sockets. Started again it runs again; changed files are left as they are.

    \b
    ibexite demo
    """
    from ibexite.cli.options import open_program
    from ibexite.cli.running import RunOptions, run_unit, tell_report
    from ibexite.cli.signals import Signals
    from ibexite.records.stored_run import verdict_text
    from ibexite.station.report_helper import ReportHelper

    kept = make_project(folder)
    click.echo(
        f"The example project is in {shown_path(folder)}: a sequence, a bench, a README."
        + (f" Changed files were left as they are: {', '.join(kept)}." if kept else "")
    )
    _headline("1. Vet: every mistake is found before power is on", f"ibexite vet {folder}/fm2_final.ibx")
    _call("vet", [str(folder / "fm2_final.ibx")])
    _headline("2. Preview: what will be done", f"ibexite preview {folder}/fm2_final.ibx")
    _call("preview", [str(folder / "fm2_final.ibx")])
    _headline(
        "3. Run: four units on the simulated bench", f"ibexite run {folder}/fm2_final.ibx --serial … --simulate --yes"
    )
    outcomes, signals = [], Signals()
    helper = ReportHelper()
    try:
        for name, serials in RUNS:
            if name != RUNS[0][0]:
                _headline(MORE[name], f"ibexite run {folder}/{name} --serial {serials[0]} --simulate --yes")
            ready = open_program(folder / name, None, {})
            for serial in serials:
                options = RunOptions(serial, ready.project.records, "demo", simulate=True, yes=True)
                outcomes.append((name, serial, run_unit(ready, options, signals, helper=helper)))
                signals.end_with(EXIT_ABORTED)
                if signals.was_held_off:
                    raise click.exceptions.Exit(EXIT_ABORTED)
                click.echo()
        _headline(
            "6. Look: what is stored", f"cd {folder}; ibexite runs; ibexite show last; ibexite export last --to csv"
        )
        for name, serial, outcome in outcomes:
            click.echo(f"  {name:<18} {serial}   {verdict_text(outcome.verdict, bool(outcome.trial))}")
            tell_report(helper.finish())
    finally:
        helper.close()


def _headline(text: str, command_line: str) -> None:
    width = min(shutil.get_terminal_size().columns, 110)
    click.echo("\n" + click.style(text, bold=True) + f"\n$ {command_line}\n" + "-" * width)


def _call(name: str, arguments: list[str]) -> None:
    """Runs another command as if it had been typed; its exit code ends the demo if it is not 0."""
    import importlib

    module = importlib.import_module(f"ibexite.cli.{name}_command")
    code = module.command.main(arguments, standalone_mode=False)
    if code:
        raise click.exceptions.Exit(code)
