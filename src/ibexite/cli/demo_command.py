"""`ibexite demo`."""

from __future__ import annotations

import contextlib
import os
import shutil
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.cli.signals import Signals
from ibexite.demo.project import make_project
from ibexite.errors import EXIT_ABORTED
from ibexite.station.project import shown_path

if TYPE_CHECKING:
    from ibexite.engine.orders import Outcome
    from ibexite.station.report_helper import ReportHelper

# Two good boards, one with shorted turns in its inductor, one with a short across its input.
UNITS = ("FC00400", "FC00413", "FC00411", "FC00427")
TRANSDUCERS = ("FT0112", "FT0015")  # a good one, in a hall that is loud at first; one with a loose part
GOOD_LEADS, SHORT_LEAD, SWAPPED = "FU0042", "FU0028", "FU0007"
LOT, LOT_SIZE = "0412", range(500, 540)
BY = ("--by", "R. Tamm", "--reason")


@click.command("demo")
@click.argument("folder", type=click.Path(path_type=Path), default=Path("ibexite-demo"))
def command(folder: Path) -> None:
    """Makes an example project in a folder and runs it: vetting, preview, sequences, reports, references, limits.

    The bench is simulated, over real sockets. Started again it runs again; changed files are left as they are.

    \b
    ibexite demo
    """
    from ibexite.station.report_helper import ReportHelper

    kept = make_project(folder)
    click.echo(
        f"The example project is in {shown_path(folder)}: sequences, benches, a README."
        + (f" Changed files were left as they are: {', '.join(kept)}." if kept else "")
        + f" What follows is typed there:\n\n$ cd {shown_path(folder)}"
    )
    with _within(folder), contextlib.closing(ReportHelper()) as helper:
        demo = _Demo(helper)
        demo.first_steps()
        demo.known_good()
        demo.lot()
        _headline("10. Once more: a stored run, without bench and board", "ibexite replay FC00411")
        _call("replay", "FC00411", code=1)
        demo.summary()


@dataclass(slots=True)
class _Demo:
    helper: ReportHelper
    outcomes: list[tuple[str, str, Outcome]] = field(default_factory=list)
    signals: Signals = field(default_factory=Signals)

    def first_steps(self) -> None:
        """From vetting to the reports of three sequences."""
        _headline("1. Vet: every mistake is found before power is on", "ibexite vet fm2_final.ibx")
        _call("vet", "fm2_final.ibx")
        _headline("2. Preview: what will be done", "ibexite preview fm2_final.ibx")
        _call("preview", "fm2_final.ibx")
        _headline("3. Run: four units on the simulated bench", _run_line("fm2_final.ibx", "…"))
        self._run("fm2_final.ibx", *UNITS)
        _headline(
            "4. Characterise: a search, corners, a loop around an outside program",
            _run_line("characterise.ibx", "FC00400"),
        )
        self._run("characterise.ibx", "FC00400")
        _headline(
            "5. Another bench: refined and logarithmic sweeps, a mask that may be moved, half an hour of soak",
            _run_line("sensor_parts.ibx", "FP0107"),
        )
        self._run("sensor_parts.ibx", "FP0107")
        _headline("6. Played and heard: all of a transducer from one stimulus", _run_line("echo.ibx", "…"))
        self._run("echo.ibx", *TRANSDUCERS)
        _headline("7. Recorded: the current into a board, every 20 us", _run_line("inrush.ibx", UNITS[0]))
        self._run("inrush.ibx", UNITS[0])

    def known_good(self) -> None:
        """Leads that are judged by those of a known good unit."""
        _headline("8. Known good: leads are judged by those of another gauge", _run_line("service.ibx", GOOD_LEADS))
        self._run("service.ibx", GOOD_LEADS)
        for value, name in (("antenna.s21", "antenna_lead"), ("lead.wires", "sensor_lead")):
            _line(f"ibexite golden save {GOOD_LEADS} {value} --as {name}")
            _call("golden", "save", GOOD_LEADS, value, "--as", name, "--replace")
            _call("golden", "approve", name, *BY, f"lead of {GOOD_LEADS}, drawing T-118")
        for serial in (SHORT_LEAD, SWAPPED):
            _line(_run_line("leads.ibx", serial))
            self._run("leads.ibx", serial)

    def lot(self) -> None:
        """Limits from a lot, and what they would have meant for it."""
        _headline("9. Limits from a lot of forty boards", "ibexite run lot.ibx --table lot_0412.csv --simulate --yes")
        with Path(os.devnull).open("w") as nobody, contextlib.redirect_stdout(nobody):
            found = [self._one("lot.ibx", f"FC{number:05}", LOT, None) for number in LOT_SIZE]
        click.echo(f"{sum(outcome.verdict == 'pass' for outcome in found)} of {len(found)} passed\n")
        how = ("--lot", LOT, "--sigma", "4", "--without-outliers", "--out", "lot_limits.csv", "--replace")
        _line(f"ibexite limits from {' '.join(how)}")
        _call("limits", "from", *how)
        _line(f"ibexite rejudge --lot {LOT}")
        _call("rejudge", "--lot", LOT)
        _call("limits", "approve", "lot_limits.csv", *BY, f"pilot lot {LOT}, forty boards")
        _line(_run_line("lot.ibx", UNITS[2]))
        self._run("lot.ibx", UNITS[2])

    def summary(self) -> None:
        """What was run, and where its reports are."""
        _headline("11. Look: what is stored", "ibexite runs; ibexite show last; ibexite export last --to csv")
        from ibexite.cli.running import tell_report
        from ibexite.records.stored_run import verdict_text

        for name, serial, outcome in self.outcomes:
            click.echo(f"  {name:<18} {serial}   {verdict_text(outcome.verdict, bool(outcome.trial))}")
            tell_report(self.helper.finish())

    def _run(self, name: str, *serials: str) -> None:
        for serial in serials:
            self.outcomes.append((name, serial, self._one(name, serial, "", self.helper)))
            click.echo()

    def _one(self, name: str, serial: str, lot: str, helper: ReportHelper | None) -> Outcome:
        from ibexite.cli.options import open_program
        from ibexite.cli.running import RunOptions, run_unit

        ready = open_program(Path(name), None, {})
        options = RunOptions(serial, ready.project.records, "demo", simulate=True, yes=True, lot=lot)
        outcome = run_unit(ready, options, self.signals, helper=helper)
        self.signals.end_with(EXIT_ABORTED)
        if self.signals.was_held_off:
            raise click.exceptions.Exit(EXIT_ABORTED)
        return outcome


def _run_line(name: str, serial: str) -> str:
    return f"ibexite run {name} --serial {serial} --simulate --yes"


def _headline(text: str, command_line: str) -> None:
    width = min(shutil.get_terminal_size().columns, 110)
    click.echo("\n" + click.style(text, bold=True) + f"\n$ {command_line}\n" + "-" * width)


def _line(command_line: str) -> None:
    click.echo(f"$ {command_line}")


def _call(name: str, *arguments: str, code: int = 0) -> None:
    """Runs another command as if it had been typed; another exit code than this one ends the demo."""
    import importlib

    module = importlib.import_module(f"ibexite.cli.{name}_command")
    found = 0
    try:
        found = module.command.main(list(arguments), standalone_mode=False) or 0
    except click.exceptions.Exit as error:
        found = error.exit_code
    if found != code:
        raise click.exceptions.Exit(found or EXIT_ABORTED)


@contextlib.contextmanager
def _within(folder: Path) -> Iterator[None]:
    before = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)
