"""`ibexite preview`."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.cli.options import bench_option, format_option, open_program, parameters, sequence_argument, with_option
from ibexite.engine.stimuli_told import WAV_BITS, StimulusTold, stimuli_told, write_wav
from ibexite.units import HERTZ, SECOND, VOLT, format_value
from ibexite.wording import duration_text

if TYPE_CHECKING:
    from ibexite.engine.preview import Block
    from ibexite.language.program import Program


@click.command("preview")
@sequence_argument
@bench_option
@with_option
@click.option(
    "--plot", type=click.Path(path_type=Path), help="Write a picture of the set points over time (.png, .svg)."
)
@click.option("--wav", type=click.Path(path_type=Path), help="Write each stimulus as a WAV file, beside this name.")
@click.option(
    "--bits",
    type=click.Choice(WAV_BITS),
    default="24",
    show_default=True,
    help="Of a sample in those WAV files: whole numbers, or floats of 32.",
)
@format_option
def command(
    sequence: Path,
    bench: Path | None,
    given: tuple[str, ...],
    plot: Path | None,
    wav: Path | None,
    bits: str,
    output: str,
) -> None:
    """Shows what a sequence will do: steps, set points of the loops, number of rows, time. Nothing is connected.

    The time is that of waits, settling and answers; beside it stands what a test took in the last run, if there was
    one.

    \b
    ibexite preview fm2_final.ibx --bench bench.toml
    ibexite preview fm2_final.ibx --plot set_points.png
    ibexite preview echo.ibx --wav stimuli.wav
    """
    from ibexite.engine.preview import preview, timeline

    ready = open_program(sequence, bench, parameters(given))
    program, file = ready.program, ready.bench
    blocks = preview(program, file)
    told: list[str] = []
    stimuli = stimuli_told(program)
    if plot is not None:
        from ibexite.reports.timeline import draw_timeline

        total = sum(block.seconds for block in blocks if not block.is_off)
        draw_timeline(timeline(program, file), f"{program.sequence.title} on {file.name}", total, plot)
        told = [f"set points over time: {plot}", *_draw_stimuli(program, stimuli, plot)]
    if wav is not None:
        told += _write_stimuli(program, stimuli, wav, bits)
    for line in told:
        click.echo(line, err=output == "json")
    if output == "json":
        click.echo(json.dumps([asdict(block) for block in blocks], indent=2))
        return
    click.echo(f"{program.sequence.title} on {file.name}\n")
    earlier = _earlier(ready.project.records, program.sequence.title)
    for block in blocks:
        _show(block, earlier.get(block.name))
    for stimulus in stimuli:
        _show_stimulus(stimulus)
    active = [block for block in blocks if not block.is_off]
    questions = [question for block in active for question in block.questions]
    asked = f", and {len(questions)} question{'s' if len(questions) > 1 else ''} to the operator" if questions else ""
    click.echo(
        f"{sum(block.rows for block in active)} rows in all, "
        f"{_at_least(sum(b.seconds for b in active), all(b.is_exact for b in active))}{asked}"
    )
    for question in questions:
        click.echo(f"  the operator is asked: {question}")


def _show(block: Block, took: float | None) -> None:
    title = f"test {block.name}   {block.title}" if block.title else block.name
    rows = f"   {block.rows} rows" if block.rows else ""
    state = "   switched off" if block.is_off else f"   {_at_least(block.seconds, block.is_exact)}"
    last = f" (last run {duration_text(took)})" if took else ""
    click.echo(click.style(title, bold=True) + f"{rows}{state}{last}")
    for step in block.steps:
        times = f"   {step.times} x" if step.times > 1 else ""
        click.echo(f"  {step.line:>4}  {'    ' * step.depth}{step.text}{times}")
    click.echo()


def _show_stimulus(told: StimulusTold) -> None:
    seconds, peak = format_value(told.seconds, SECOND, digits=5), format_value(told.peak, VOLT, digits=4)
    click.echo(click.style(f"stimulus {told.name}   {told.title}", bold=True))
    rate = format_value(told.rate, HERTZ, digits=6)
    click.echo(f"  {seconds} at {rate} ({told.samples:,} samples), peak {peak}, crest factor {told.crest:.3g}")
    if told.shaped:
        click.echo(f"  shaped by {told.shaped}")
    for part in told.parts:
        begin, lasts = (format_value(value, SECOND, digits=4) for value in (part.begin, part.seconds))
        name = part.name if part.name == part.kind else f"{part.name} = {part.kind}"
        unjudged = "" if part.is_judged else "   unjudged"
        click.echo(f"  {begin:>9}  {name:<16} {lasts:>9}  {part.text}{unjudged}".rstrip())
    click.echo()


def _draw_stimuli(program: Program, stimuli: list[StimulusTold], plot: Path) -> Iterator[str]:
    """A picture of each stimulus that is played, beside that of the set points; what is told of it."""
    for told in stimuli:
        from ibexite.engine.files import samples_of
        from ibexite.reports.stimulus_figure import draw_stimulus

        path = plot.with_stem(f"{plot.stem}_{told.name}")
        judged = [(part.name, part.begin, part.seconds) for part in told.parts if part.is_judged]
        title = f"{told.name}: {told.title}"
        draw_stimulus(samples_of(program.stimuli[told.name]), told.rate, judged, title, path)
        yield f"stimulus {told.name}: {path}"


def _write_stimuli(program: Program, stimuli: list[StimulusTold], wav: Path, bits: str) -> Iterator[str]:
    """A WAV file of each stimulus that is played, and what is told of it; its full scale is the peak."""
    for told in stimuli:
        path = wav.with_stem(f"{wav.stem}_{told.name}")
        write_wav(program, told, path, bits)
        yield f"stimulus {told.name}: {path}, full scale is {format_value(told.peak, VOLT, digits=9)}"


def _earlier(records: Path, title: str) -> dict[str, float]:
    """How long the tests of a sequence took in its last run."""
    from ibexite.errors import IbexiteError
    from ibexite.records.gateway import open_lookup

    try:
        lookup = open_lookup(records)
    except IbexiteError:
        return {}
    found = lookup.durations(title)
    lookup.close()
    return found


def _at_least(seconds: float, is_exact: bool) -> str:
    return ("about " if is_exact else "more than ") + duration_text(seconds)
