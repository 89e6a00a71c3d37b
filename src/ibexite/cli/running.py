"""Runs units for a command: its options as orders, the view, the operator at the terminal, signals, the exit code."""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

import click

from ibexite import verdicts
from ibexite.engine.orders import Earlier, Orders
from ibexite.engine.selection import Selection
from ibexite.errors import MistakeError
from ibexite.station.project import shown_path
from ibexite.station.service import Notice, RunService, UnitOrders
from ibexite.stop import Stop
from ibexite.untyped import Fields

if TYPE_CHECKING:
    from ibexite.cli.signals import Signals
    from ibexite.engine.orders import Outcome
    from ibexite.engine.services import Halts, Operator
    from ibexite.language.program import Program
    from ibexite.station.opening import Ready
    from ibexite.station.prepared import Prepared
    from ibexite.station.report_helper import ReportHelper


@dataclass(frozen=True, slots=True)
class RunOptions:
    """What a run was asked to do, apart from the sequence and its bench."""

    serial: str
    records: Path
    operator: str
    simulate: bool = False
    yes: bool = False
    real_time: bool = False
    readings: Path | None = None
    lot: str = ""
    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    selection: Path | None = None
    stop_on_fail: bool = False
    step: bool = False
    stops: tuple[str, ...] = ()
    timing: bool = False
    begins_lot: bool = True
    ends_lot: bool = True
    is_measurement: bool = False
    traffic: Path | None = None

    @classmethod
    def from_choices(cls, choices: Fields, **more: Any) -> RunOptions:
        """Options from those of a command line."""
        from ibexite.cli.terminal_operator import login_name

        given = {key: value for key, value in choices.items() if key in cls.__dataclass_fields__}
        operator = login_name() if given.get("operator") is None else given["operator"]
        return cls(**{**given, "operator": operator, **more})

    def orders(self, ready: Ready, prepared: Prepared, stop: Stop, earlier: Earlier | None) -> UnitOrders:
        """The orders for the unit."""
        listed: dict[str, bool] = {}
        if self.selection is not None:
            from ibexite.station.given import read_selection

            listed = read_selection(self.selection)
        orders = Orders(
            Selection(self.only, self.skip, self.tags, listed), self.stop_on_fail, self.begins_lot, self.ends_lot,
            ready.project.variants, earlier, self.is_measurement, self.simulate,
        )  # fmt: skip
        return UnitOrders(
            ready.program, ready.bench, self.serial, self.lot, self.operator, orders, self.real_time,
            prepared.readings, self._halts(ready.program, stop), self.timing, self.traffic,
            prepared.of_tests,
        )  # fmt: skip

    def _halts(self, program: Program, stop: Stop) -> Halts | None:
        if not self.step and not self.stops:
            return None
        from ibexite.cli.halt_prompt import HaltPrompt
        from ibexite.engine.services import Halts

        return Halts(HaltPrompt(program, stop), self.step, frozenset(self.stops))


def exit_code(outcome: Outcome, accept_trial: bool) -> int:
    """The exit code of a run; see ibexite.verdicts."""
    return verdicts.exit_code(outcome.verdict, bool(outcome.trial), accept_trial=accept_trial)


def run_unit(
    ready: Ready,
    options: RunOptions,
    signals: Signals,
    *,
    helper: ReportHelper | None = None,
    earlier: Earlier | None = None,
    shown_on: TextIO | None = None,
) -> Outcome:
    """Runs a vetted program for one unit and shows it. A signal stops the run, and is held off from then on until the
    caller says what it does.

    Args:
        helper: begins the report; earlier: what a retest takes over; shown_on: where it is shown, if not on standard
            output.
    """
    from ibexite.cli.view import RunView

    def tell(notice: Notice) -> None:
        click.echo(notice.text, file=sys.stderr if notice.is_trouble else shown_on)

    stop, prepared = Stop(), _prepared(options, ready)
    orders = options.orders(ready, prepared, stop, earlier)
    orders.check()
    signals.stop_the_run(stop)
    service = RunService(options.records, tell, helper)
    handle = service.start(orders, [RunView(shown_on)], _operator(options, prepared, stop), stop)
    outcome = handle.wait()
    if handle.timing is not None:
        from ibexite.cli.timing_view import show_timing

        show_timing(handle.timing, ready.program)
    return outcome


def _prepared(options: RunOptions, ready: Ready) -> Prepared:
    from ibexite.station.prepared import Prepared, read_prepared
    from ibexite.station.prepared_waves import vet_waves

    if options.readings is None:
        return Prepared()
    if not options.simulate:
        raise MistakeError("prepared readings are for rehearsals", where="--readings", remedy="Add --simulate.")
    found = read_prepared(options.readings, ready.bench, [test.name for test in ready.program.sequence.tests])
    vet_waves(ready.program, found.readings, *found.of_tests.values())
    return found


def _operator(options: RunOptions, prepared: Prepared, stop: Stop) -> Operator:
    from ibexite.cli.terminal_operator import TerminalOperator
    from ibexite.engine.services import Consenting, NoOperator

    if options.yes:
        return Consenting(prepared.answers)
    return TerminalOperator(options.operator, stop) if sys.stdin.isatty() else NoOperator()


def tell_report(answer: Fields) -> None:
    """Tells where the report is, or why there is none."""
    if "error" in answer:
        click.echo(str(answer["error"]), err=True)
    else:
        click.echo(f"  report: {shown_path(Path(str(answer['report'])))}")
