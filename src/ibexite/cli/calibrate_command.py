"""`ibexite instruments calibrate SIGNAL`: known values, what is read at each, and gain and offset that fit."""

from __future__ import annotations

import contextlib
import datetime
import math
import statistics
import sys
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.desk_bench import desk_bench, simulate_option
from ibexite.cli.options import bench_option, traffic_option
from ibexite.errors import MistakeError

if TYPE_CHECKING:
    from ibexite.bench.entries import SignalEntry
    from ibexite.bench.file import BenchFile
    from ibexite.bench.pool import Opening
    from ibexite.station.calibrating import Fit, Point

Take = Callable[[], tuple[float, str, bool]]
"""One reading, why it is bad, and whether a simulated stand-in gave it."""


@click.command("calibrate")
@click.argument("signal")
@click.option("--reference", metavar="SIGNAL", help="A signal that tells the known values.")
@click.option("--count", type=click.IntRange(1, 1000), default=5, show_default=True, help="Readings at each point.")
@click.option(
    "--fit", type=click.Choice(["both", "gain", "offset"]), default="both", show_default=True, help="What is fitted."
)
@click.option("--due", type=click.DateTime(["%Y-%m-%d"]), help="Until when it holds; a year from today without it.")
@click.option("--certificate", default="", help="What proves the known values.")
@click.option("--out", type=click.Path(path_type=Path), help="Writes the changed bench file there.")
@click.option("--yes", is_flag=True, help="Writes without asking.")
@bench_option
@simulate_option
@traffic_option
def calibrate_command(signal: str, reference: str | None, yes: bool, **more: Any) -> None:
    """Calibrates a signal: at each of several known values it is read, gain and offset are fitted by least squares.

    Apply a known value and type it, as "5.002 V"; an empty line ends it. With --reference the known value is read from
    another signal each time you press Enter, and "end" ends it. What is on stays on; what must be on is switched on
    before, with `ibexite instruments set`. Shown is what each point will read and what is left; then gain, offset,
    residual and date are written into the bench file, whose comments and layout stay.

    \b
    ibexite instruments calibrate v_in
    ibexite instruments calibrate v_out --reference v_standard --due 2027-05-01
    """
    from ibexite.station import calibrating

    if more["out"] is not None and more["out"].exists():  # not when all has been measured
        raise MistakeError("is there already", where=str(more["out"]), remedy="Name another file.")
    with desk_bench(more["bench"], more["simulate"], more["traffic"]) as (file, opening):
        entry = calibrating.calibratable(file, signal)
        if reference:
            calibrating.refuse_reference(file, entry, reference)
        text = calibrating.text_of(file)
        with _reading(file, opening, [signal, *([reference] if reference else [])]) as takes:
            points, is_simulated = _points(entry, takes[0], takes[1] if reference else None, more["count"])
    fit = calibrating.fitted(file, entry, points, more["fit"])
    _show(entry, fit)
    if not calibrating.is_near(fit):
        click.echo(
            click.style(f"  the gain is {fit.gain:.4g} times what it was: look at channel and cabling\n", fg="red")
        )
        yes = False  # somebody has to say so
    today = datetime.date.today()
    due = more["due"].date() if more["due"] else today + datetime.timedelta(days=365)
    calibrated = calibrating.Calibrated(today, due, more["certificate"])
    made = calibrating.rewritten(file, text, signal, fit, calibrated)
    for key in ("gain", "offset", "calibration"):
        value = calibrating.written_in(made, signal, key)
        click.echo(f"  {key:<11} = {value}") if value else None
    if more["out"]:
        _write_new(more["out"], made)
    elif is_simulated:
        click.echo(f"{file.path} is left as it is: what was read are stand-ins. --out FILE writes another one.")
    elif yes or _is_wanted(f"Write this into {file.path}?"):
        calibrating.replace_file(file.path, text, made)
        click.echo(f"written into {file.path}: due {due}")
    else:
        click.echo("nothing was written")


@contextlib.contextmanager
def _reading(file: BenchFile, opening: Opening, names: list[str]) -> Iterator[list[Take]]:
    """What reads some signals, through the process that holds their instruments by hand where one does."""
    from ibexite.station.by_hand import connected, reading_of, what_to_read
    from ibexite.station.hand_place import HandPlace
    from ibexite.station.kept import held_by_hand, number_read

    asked, place = [what_to_read(file, (name,), {}) for name in names], HandPlace.of(file)
    kept = held_by_hand(place)
    own = dict.fromkeys(one.instrument for one in asked if one.instrument not in kept)
    with connected(file, own, opening) as bench:
        takes: list[Take] = []
        for one in asked:
            if one.instrument not in own:
                takes.append(partial(number_read, place, [one.name], {}))
                continue
            line, session = one.prepare(bench), bench.sessions[one.instrument]
            takes.append(lambda line=line, of=session: (*reading_of(bench, line), of.is_simulated))  # type: ignore[misc]
        yield takes


def _points(entry: SignalEntry, take: Take, take_known: Take | None, count: int) -> tuple[list[Point], bool]:
    """What whoever sits there says is known, with what is read then; and whether stand-ins were read."""
    from ibexite import units
    from ibexite.station.calibrating import Point

    points: list[Point] = []
    is_simulated = False
    ask = f"known value of {entry.name} (Enter alone: no more): "
    if take_known is not None:
        ask = f"set another value of {entry.name}, then Enter (end: no more): "
    while True:
        click.echo(ask, nl=False, err=True)
        line = sys.stdin.readline()
        said = line.strip()
        if not line or (said == "end" if take_known is not None else not said):
            break
        try:
            known = _typed(entry, said) if take_known is None else math.nan
            values, why, simulated = _several(take, count)
            if take_known is not None and not why:
                before, why, also = _several(take_known, count)
                known, simulated = statistics.fmean(before), simulated or also
        except MistakeError as error:
            click.echo(str(error), err=True)
            continue
        if why:
            click.echo(f"a reading is bad ({why}): this point does not count", err=True)
            continue
        is_simulated = is_simulated or simulated
        points.append(Point(known, statistics.fmean(values)))
        spread = (
            f", spread {units.format_value(max(values) - min(values), units.difference(entry.dimension), digits=3)}"
        )
        shown = [units.format_value(value, entry.dimension, digits=7) for value in points[-1]]
        click.echo(f"  known {shown[0]}, read {shown[1]}{spread if count > 1 else ''}")
    return points, is_simulated


def _typed(entry: SignalEntry, text: str) -> float:
    from ibexite import units
    from ibexite.errors import UnitError

    try:
        amount = units.parse_quantity(text)
    except UnitError as error:
        raise MistakeError(error.what, remedy=error.remedy) from None
    if amount.dimension != entry.dimension:
        raise MistakeError(f"{text} is {units.describe(amount.dimension)}",
                           remedy=f"{entry.name} is {units.describe(entry.dimension)}.")  # fmt: skip
    return float(amount)


def _several(take: Take, count: int) -> tuple[list[float], str, bool]:
    """So many readings; why one of them is bad, and whether a stand-in gave them."""
    taken = [take() for _ in range(count)]
    why = next((why or "no value" for value, why, _ in taken if math.isnan(value)), "")
    return [value for value, _, _ in taken], why, any(simulated for _, _, simulated in taken)


def _show(entry: SignalEntry, fit: Fit) -> None:
    from ibexite import units

    def shown(value: float) -> str:
        return units.format_value(value, entry.dimension, digits=7)

    def rest(value: float) -> str:
        return units.format_value(value, units.difference(entry.dimension), digits=3)

    rows = [("known", "read", "off by", "will read", "off by")]
    for point, value, residual in zip(fit.points, fit.fitted, fit.residuals, strict=True):
        rows.append(
            (shown(point.known), shown(point.read), rest(point.read - point.known), shown(value), rest(residual))
        )
    widths = [max(map(len, column)) for column in zip(*rows, strict=True)]
    click.echo("")
    for i, row in enumerate(rows):
        text = "   ".join(f"{cell:>{width}}" for cell, width in zip(row, widths, strict=True))
        click.echo(click.style("  " + text, dim=i == 0))
    before = max(abs(point.read - point.known) for point in fit.points)
    click.echo(f"\n  worst: {rest(before)} before, {rest(fit.worst)} behind it\n")


def _write_new(path: Path, text: str) -> None:
    try:
        with path.open("x", encoding="utf-8", newline="") as file:
            file.write(text)
    except FileExistsError:
        raise MistakeError("is there already", where=str(path), remedy="Name another file.") from None
    except OSError as error:
        raise MistakeError(f"cannot be written: {error.strerror}", where=str(path)) from None
    click.echo(f"written: {path}")


def _is_wanted(question: str) -> bool:
    click.echo(f"{question} [y/N] ", nl=False, err=True)
    return sys.stdin.readline().strip().lower() in ("y", "yes")
