"""`ibexite replay`."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.cli.halt_prompt import HaltPrompt
from ibexite.cli.options import findings_end_it, open_records, records_option
from ibexite.cli.running import exit_code
from ibexite.cli.signals import Signals
from ibexite.cli.view import RunView
from ibexite.engine.services import Halts
from ibexite.errors import EXIT_ABORTED, EXIT_BENCH
from ibexite.station.records_folder import records_folder
from ibexite.station.replaying import Replay

if TYPE_CHECKING:
    from ibexite.station.replaying import Replayed


@click.command("replay")
@click.argument("run")
@click.option("--sequence", type=click.Path(path_type=Path), help="Another sequence than that of the run.")
@click.option("--step", is_flag=True, help="Halt at each line.")
@click.option("--break", "stops", multiple=True, metavar="TEST|LINE", help="Halt at a test or a line.")
@records_option
@click.option("--accept-trial", is_flag=True, help="Exit code 0 instead of 5 for a unit that passed as a trial.")
def command(
    run: str, sequence: Path | None, step: bool, stops: tuple[str, ...], records: Path | None, accept_trial: bool
) -> None:
    """Carries out a stored run once more against what was said in it: without a bench, without waiting.

    Instruments, programs and the operator answer as they answered then, and the clock tells the times of then, so that
    the same sequence does the same. A changed one goes on as long as it says what was said then; at the first line
    that says something else the replay halts. Nothing is recorded.

    \b
    ibexite replay FC00411 --break efficiency
    ibexite replay last --sequence fm2_final_next.ibx
    """
    with contextlib.closing(open_records(records)) as lookup, findings_end_it():
        replay = Replay(records_folder(records), lookup, lookup.find(run), sequence)
    click.echo(f"replay of run {replay.run}: nothing is connected, nothing is recorded\n")
    signals, halts = Signals(), None
    signals.stop_the_run(replay.stop)
    if step or stops:
        halts = Halts(HaltPrompt(replay.ready.program, replay.stop), step, frozenset(stops))
    found = replay.carry_out([RunView()], halts)
    _tell(found)
    code = EXIT_ABORTED if found.ended else EXIT_BENCH
    if found.outcome is not None and not found.is_doubtful:
        code = exit_code(found.outcome, accept_trial)
    signals.end_with(code)
    raise click.exceptions.Exit(code)


def _tell(found: Replayed) -> None:
    """What came of it."""
    if found.stopped is not None:
        click.echo(f"\nreplay HALTED at {found.stopped.place}  {found.stopped.text}".rstrip())
        click.echo(f"  {found.stopped.why}")
    elif found.ended:
        click.echo(f"\nreplay ended before its time: {found.ended}")
    elif found.comparison.is_same:
        click.echo(f"replay: as it was recorded, in all {found.comparison.count} events")
    else:
        was = f"it was {found.then}" if found.then is not None else "that broke off"
        click.echo(f"replay: otherwise than it was recorded ({was})")
    if found.changes:
        click.echo(f"  changed since: {', '.join(found.changes)}")
    if found.comparison.first and not found.was_halted:
        click.echo(f"  first difference: {found.comparison.first}")
    for note in found.notes:
        click.echo(f"  {note}")
